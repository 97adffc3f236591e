import { useQuery, useQueryClient } from "@tanstack/react-query";
import { api, keys, unwrap } from "@/shared/client";

/** A long job as it goes: asked for until it is over, and cancelled by a key. */
export function useJob(id: string) {
  const queries = useQueryClient();
  const job = useQuery({
    queryKey: keys.job(id),
    queryFn: () => unwrap(api.GET("/api/jobs/{job_id}", { params: { path: { job_id: id } } })),
    refetchInterval: (query) => (["waiting", "running"].includes(query.state.data?.state ?? "waiting") ? 400 : false),
  }).data;
  const cancel = async () => {
    const path = { job_id: id };
    queries.setQueryData(keys.job(id), await unwrap(api.POST("/api/jobs/{job_id}/cancel", { params: { path } })));
  };
  return { job, cancel, goesOn: !job || job.state === "waiting" || job.state === "running" };
}

/** How far a job is. ``what`` names it; ``cancelling`` says what is left behind. */
export function JobProgress({ id, what, cancelling }: { id: string; what: string; cancelling: string }) {
  const { job, cancel, goesOn } = useJob(id);
  return (
    <>
      {goesOn && (
        <>
          <progress max={job?.total || 1} value={job?.done ?? 0} aria-label={what} />
          <p>
            {job?.done ?? 0} of {job?.total ?? "…"}
          </p>
          <button type="button" className="act" onClick={() => void cancel()}>
            {cancelling}
          </button>
        </>
      )}
      {job?.message && (
        <p className="reading">
          {job.message}{" "}
          {job.file && (
            <a href={job.file} download>
              Save the file
            </a>
          )}
        </p>
      )}
    </>
  );
}
