import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, type Schemas, unwrap } from "@/api/client";
import { useAttempt } from "@/app/attempt";
import { Problem } from "@/design/Fields";
import { WhoMustComeBack } from "@/features/kit/Recall";

/** A check has failed: the tests since it last passed, and one act that reopens them all. */
export function Reopen({ counter, may }: { counter: Schemas["CounterView"]; may: boolean }) {
  const [page, setPage] = useState(1);
  const [job, setJob] = useState("");
  const { problem, attempt } = useAttempt("Nothing was reopened.");
  const people = useQuery({
    queryKey: keys.recall(counter.id, page),
    queryFn: () =>
      unwrap(
        api.GET("/api/counters/{instrument_id}/recall", {
          params: { path: { instrument_id: counter.id }, query: { page } },
        }),
      ),
  }).data;
  if (!people) return null;
  const reopen = () =>
    attempt(async () => {
      const made = await unwrap(
        api.POST("/api/counters/{instrument_id}/reopen", { params: { path: { instrument_id: counter.id } } }),
      );
      setJob(made.id);
    });
  return (
    <div className="note rust wide">
      <h3>
        {people.total} tests since this check last passed{people.since ? "" : ": it never did"}
      </h3>
      <p>
        Was it the alcohol or a wet hose? Put it right and check again. If it has been wrong for longer, reopen these
        tests: each is void until it is done again, and closed records are signed again.
      </p>
      {may && people.total > 0 && !job && (
        <button type="button" className="act" onClick={() => void reopen()}>
          It was wrong: reopen {people.total}
        </button>
      )}
      <Problem words={problem} />
      <WhoMustComeBack id={counter.id} job={job} people={people} go={setPage} />
    </div>
  );
}
