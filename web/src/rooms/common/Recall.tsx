import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { dateTime } from "@/shared/clock";
import { useSession } from "@/shared/session";
import { Problem, Text } from "@/design/Fields";
import { OutcomeMark } from "@/design/Marks";
import { Pager } from "@/design/States";

/** Kit found wrong: what failed, what rests on it, and the one act that confirms or clears it. */
export function Recalls({ onlyOpen }: { onlyOpen: boolean }) {
  const [page, setPage] = useState(1);
  const session = useSession();
  const list = useQuery({
    queryKey: keys.recalls(page, onlyOpen),
    queryFn: () => unwrap(api.GET("/api/recalls", { params: { query: { page, only_open: onlyOpen } } })),
    refetchInterval: 5000,
  }).data;
  if (!list?.rows.length) return null;
  const may = session.data?.roles.some((one) => one !== "supervisor") ?? false;
  return (
    <section className="note rust" aria-label="Kit found wrong">
      <h2>Kit found wrong: what rests on it is suspended</h2>
      {list.rows.map((one) => (
        <Entry key={one.id} one={one} may={may} />
      ))}
      <Pager page={list.page} pages={list.pages} go={setPage} />
    </section>
  );
}

const STATE: Record<string, string> = {
  open: "open: nobody who was tested with it may wear that facepiece until this is settled",
  confirmed: "confirmed: those tests are void",
  cleared: "cleared: those tests stand",
};

function Entry({ one, may }: { one: Schemas["RecallView"]; may: boolean }) {
  const [reason, setReason] = useState("");
  const [isShown, setShown] = useState(false);
  const [page, setPage] = useState(1);
  const { problem, attempt } = useAttempt("Nothing was settled.");
  const queries = useQueryClient();
  const people = useQuery({
    queryKey: keys.recall(one.id, page),
    queryFn: () =>
      unwrap(api.GET("/api/recalls/{recall_id}/tests", { params: { path: { recall_id: one.id }, query: { page } } })),
    enabled: isShown,
  }).data;
  const settle = (decision: "confirm" | "clear") =>
    attempt(async () => {
      await unwrap(
        api.POST("/api/recalls/{recall_id}/settle", {
          params: { path: { recall_id: one.id } },
          body: { decision, reason },
        }),
      );
      await queries.invalidateQueries({ queryKey: ["recalls"] });
    });
  return (
    <div className="wide" data-recall={one.check_name}>
      <h3>{one.what}</h3>
      <p>
        {one.tests} {one.tests === 1 ? "test rests" : "tests rest"} on it{" "}
        {one.since ? `since ${dateTime(one.since)}` : "since it was first used"}; {STATE[one.state]}
        {one.settled_by ? `, ${one.settled_by}: ${one.reason}` : ""}.{" "}
        <button type="button" className="quiet" onClick={() => setShown(!isShown)}>
          {isShown ? "Hide them" : "Who?"}
        </button>
      </p>
      {may && one.state === "open" && (
        <div className="field-row">
          <Text label="What was found out" value={reason} set={setReason} maxLength={400} w={340} />
          <button type="button" className="act" disabled={!reason.trim()} onClick={() => void settle("confirm")}>
            It was wrong: void {one.tests}
          </button>
          <button type="button" className="quiet" disabled={!reason.trim()} onClick={() => void settle("clear")}>
            It was sound: clear
          </button>
        </div>
      )}
      <Problem words={problem} />
      {(isShown || one.job_id) && (
        <WhoMustComeBack id={one.id} job={one.job_id ?? ""} people={isShown ? people : undefined} go={setPage} />
      )}
    </div>
  );
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
