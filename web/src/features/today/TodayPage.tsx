import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/api/client";
import { clockTime, dateTime } from "@/app/clock";
import { KEY, useKeys } from "@/app/keys";
import { useSession } from "@/app/session";
import { Key } from "@/design/Key";
import { Mark, OutcomeMark } from "@/design/Marks";
import { Empty, Failed, Loading } from "@/design/States";
import { StartVisit } from "@/features/today/StartVisit";

/** Today: who is here, at which step, at which bench; what was left unfinished; start a visit. */
export function TodayPage() {
  const [starting, setStarting] = useState(false);
  const session = useSession();
  const today = useQuery({ queryKey: keys.today, queryFn: () => unwrap(api.GET("/api/today")), refetchInterval: 3000 });
  const canTest = session.data?.roles.includes("tester") ?? false;
  useKeys({ [KEY.fine]: canTest ? () => setStarting(true) : undefined }, !starting);
  if (starting) return <StartVisit close={() => setStarting(false)} />;
  if (today.isPending) return <Loading what="Today" />;
  if (today.isError && !today.data) return <Failed error={today.error} again={() => void today.refetch()} />;
  const { here, unfinished, done } = today.data;
  return (
    <main className="page">
      {today.isError && (
        <div className="away-band" role="status">
          The server is away; this is how it was.
        </div>
      )}
      <div className="page-head">
        <div>
          <h1>Today</h1>
          <p className="dim">
            {here.length === 0
              ? "Nobody is at a bench."
              : here.length === 1
                ? "One person is here."
                : `${here.length} people are here.`}
          </p>
        </div>
        {canTest && <Key cap="Space" label="someone walks up" tone="tarn" onPress={() => setStarting(true)} />}
      </div>
      <SealNotices rows={today.data.seal_notices} may={session.data?.roles.some((one) => one !== "tester") ?? false} />
      <h2>Here now</h2>
      <Visits rows={here} empty="Nobody yet. When someone walks up, press Space." />
      {unfinished.length > 0 && (
        <>
          <h2>Left unfinished on an earlier day</h2>
          <Visits rows={unfinished} empty="" isOld />
        </>
      )}
      <h2>Done today</h2>
      <Visits rows={done} empty="No visit is finished yet today." />
    </main>
  );
}

/** Failed seal checks: the supervisor is told, and says so. */
function SealNotices({ rows, may }: { rows: Schemas["VisitRow"][]; may: boolean }) {
  const queries = useQueryClient();
  if (!rows.length) return null;
  const acknowledge = async (visit: string) => {
    await unwrap(api.POST("/api/visits/{visit_id}/seal-notice", { params: { path: { visit_id: visit } } }));
    await queries.invalidateQueries({ queryKey: keys.today });
  };
  return (
    <section className="note rust" aria-label="Failed seal checks">
      <h2>Seal check failed: not to be worn, not tested</h2>
      <ul className="why-list">
        {rows.map((one) => (
          <li key={one.visit_id} className="field-row">
            <span>
              <b>{one.person}</b> {one.number}, {one.facepiece || "no facepiece"}, {one.seal_fails} times, {one.site},{" "}
              {dateTime(one.last_at)}
            </span>
            {may && (
              <button type="button" className="quiet" onClick={() => void acknowledge(one.visit_id)}>
                I know of it
              </button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

function Visits({ rows, empty, isOld = false }: { rows: Schemas["VisitRow"][]; empty: string; isOld?: boolean }) {
  if (!rows.length) return <Empty>{empty}</Empty>;
  return (
    <ul className="rows visits">
      {rows.map((one) => (
        <li key={one.visit_id}>
          <Link to={`/visit/${one.visit_id}`} className="row">
            <Mark
              name={one.closed ? (one.verdict === "pass" ? "cairn" : one.verdict ? "wall" : "gate-unknown") : "lantern"}
              size={30}
            />
            <span>
              <span className="big">{one.person}</span> <span className="dim">{one.number}</span>
              {one.is_practice && <b className="heath"> PRACTICE</b>}
              <br />
              <span className="dim">
                {one.employer}, {one.site}
              </span>
            </span>
            <span>
              <b>{one.bench}</b>
              <br />
              <span className="dim">since {isOld ? dateTime(one.opened_at) : clockTime(one.opened_at)}</span>
            </span>
            <span>
              {one.closed ? <OutcomeMark outcome={one.verdict} /> : one.doing}
              <br />
              <span className="dim">
                {one.facepiece}
                {one.tries > 0 ? ` · ${one.tries} ${one.tries === 1 ? "try" : "tries"}` : ""}
              </span>
            </span>
            <span>
              {one.loops_open > 0 && (
                <b className="heath">
                  <Mark name="ring" size={20} /> {one.loops_open} to put back
                </b>
              )}
            </span>
          </Link>
        </li>
      ))}
    </ul>
  );
}
