import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/api/client";
import { dateTime } from "@/app/clock";
import { OutcomeMark } from "@/design/Marks";
import { Pager } from "@/design/States";

/** A nebuliser found clogged: how far the voiding is, and who must come back. */
export function Recall({ nebuliser, job }: { nebuliser: Schemas["NebuliserView"]; job: string }) {
  const [page, setPage] = useState(1);
  const people = useQuery({
    queryKey: keys.recall(nebuliser.id, page),
    queryFn: () =>
      unwrap(
        api.GET("/api/nebulisers/{nebuliser_id}/recall", {
          params: { path: { nebuliser_id: nebuliser.id }, query: { page } },
        }),
      ),
  }).data;
  return <WhoMustComeBack id={nebuliser.id} job={job} people={people} go={setPage} />;
}

interface Props {
  id: string;
  job: string;
  people: Schemas["RecallPage"] | undefined;
  go: (page: number) => void;
}

/** How far a job that voids tests is, and the list of those who must come back. */
export function WhoMustComeBack({ id, job, people, go }: Props) {
  const queries = useQueryClient();
  const state = useQuery({
    queryKey: keys.job(job),
    queryFn: () => unwrap(api.GET("/api/jobs/{job_id}", { params: { path: { job_id: job } } })),
    enabled: job !== "",
    refetchInterval: (query) => (["waiting", "running"].includes(query.state.data?.state ?? "waiting") ? 700 : false),
  }).data;
  const done = state?.state;
  useEffect(() => {
    if (done) void queries.invalidateQueries({ queryKey: ["recall", id] });
  }, [done, queries, id]);
  const cancel = () => void api.POST("/api/jobs/{job_id}/cancel", { params: { path: { job_id: job } } });
  return (
    <div className="wide">
      {state && (
        <p role="status">
          {state.state === "running" || state.state === "waiting" ? (
            <>
              Voiding, {state.done} of {state.total || "…"}.{" "}
              <button type="button" className="quiet" onClick={cancel}>
                Cancel
              </button>
            </>
          ) : (
            state.message
          )}
        </p>
      )}
      {people && (
        <>
          <h3>Who must come back: {people.total}</h3>
          {people.total > 0 && (
            <table className="plain">
              <tbody>
                {people.rows.map((one) => (
                  <tr key={`${one.visit_id}${one.tested_at}`}>
                    <td>
                      <Link to={`/people/${one.person_id}`}>{one.person}</Link> {one.number}
                    </td>
                    <td>{one.employer}</td>
                    <td>
                      {one.model} {one.size}
                    </td>
                    <td>{dateTime(one.tested_at)}</td>
                    <td>
                      <OutcomeMark outcome={one.outcome} />
                    </td>
                    <td>{one.has_passed_since ? "has passed since" : <b>to come back</b>}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          <Pager page={people.page} pages={people.pages} go={go} />
        </>
      )}
    </div>
  );
}
