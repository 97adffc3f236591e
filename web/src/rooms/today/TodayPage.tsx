import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { clockTime, dateTime } from "@/shared/clock";
import { KEY, useKeys } from "@/shared/keys";
import { useDay } from "@/shared/useDay";
import { useSession } from "@/shared/session";
import { Key } from "@/design/Key";
import { Problem } from "@/design/Fields";
import { Mark, OutcomeMark } from "@/design/Marks";
import { Empty, Failed, Loading, Pager } from "@/design/States";
import { useCounters } from "@/rooms/common/CounterLine";
import { Recalls } from "@/rooms/common/Recall";
import { StartVisit } from "@/rooms/today/StartVisit";

const FIRST = { seal_notices: 1, questions: 1, here: 1, unfinished: 1, done: 1, practice: 1 };

/** Today: who is here, at which step, at which bench; what was left unfinished; start a visit. */
export function TodayPage() {
  const [params, setParams] = useSearchParams();
  const setStarting = (on: boolean) => setParams(on ? { next: "1" } : {}, { replace: true });
  const session = useSession();
  const canTest = session.data?.roles.includes("tester") ?? false;
  const starting = canTest && params.has("next");
  const [pages, setPages] = useState(FIRST);
  const period = useDay(keys.today, keys.recallsAll, keys.counters);
  const today = useQuery({
    queryKey: keys.todayAt(pages),
    queryFn: () => unwrap(api.GET("/api/today", { params: { query: pages } })),
    placeholderData: keepPreviousData,
    refetchInterval: period,
  });
  const go = (list: keyof typeof FIRST) => (page: number) => setPages({ ...pages, [list]: page });
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
            {here.total === 0
              ? "Nobody is at a bench."
              : here.total === 1
                ? "One person is here."
                : `${here.total} people are here.`}
          </p>
        </div>
        {canTest && <Key cap="Space" label="someone walks up" tone="tarn" onPress={() => setStarting(true)} />}
      </div>
      {canTest && <Readiness />}
      <SealNotices
        list={today.data.seal_notices}
        go={go("seal_notices")}
        may={session.data?.roles.some((one) => one !== "tester") ?? false}
      />
      <Questions list={today.data.questions} go={go("questions")} />
      <Recalls onlyOpen />
      <h2>Here now</h2>
      <Visits list={here} go={go("here")} empty="Nobody yet. When someone walks up, press Space." />
      {unfinished.total > 0 && (
        <>
          <h2>Left unfinished on an earlier day</h2>
          <Visits list={unfinished} go={go("unfinished")} empty="" isOld />
        </>
      )}
      <h2>Done today</h2>
      <Visits list={done} go={go("done")} empty="No visit is finished yet today." />
      {today.data.practice.total > 0 && (
        <>
          <h2>Practice, which counts nowhere</h2>
          <Visits list={today.data.practice} go={go("practice")} empty="" />
        </>
      )}
    </main>
  );
}

/** Whether the instruments may be used today, before anybody walks up. */
function Readiness() {
  const rows = useCounters(5000).data?.rows ?? [];
  if (!rows.length) return null;
  return (
    <ul className="readiness" aria-label="Instruments today">
      {rows.map((one) => (
        <li key={one.id} className={one.blocked_by.length ? "gorse" : ""}>
          <Mark name={one.blocked_by.length ? "gate" : "cairn"} size={22} />
          <Link to="/kit">{one.name}</Link>{" "}
          {one.blocked_by.length
            ? one.blocked_by.join(", ").toLowerCase()
            : `ready${one.charge_until ? `, alcohol until ${clockTime(one.charge_until)}` : ""}${one.is_linked ? "" : ", no link"}`}
        </li>
      ))}
    </ul>
  );
}

interface Paged {
  list: Schemas["VisitPage"];
  go: (page: number) => void;
}

/** Closed records that something heard afterwards has put in question: nobody wears on the strength of them. */
function Questions({ list, go }: Paged) {
  if (!list.rows.length) return null;
  return (
    <section className="note rust" aria-label="Records under question">
      <h2>Under question: not to be worn until a tester has settled it</h2>
      <ul className="why-list">
        {list.rows.map((one) => (
          <li key={one.visit_id}>
            <Link to={`/visit/${one.visit_id}`}>
              <b>{one.person}</b> {one.number}, {one.facepiece}
            </Link>
            , {one.site}, heard {dateTime(one.last_at)}
          </li>
        ))}
      </ul>
      <Pager page={list.page} pages={list.pages} go={go} />
    </section>
  );
}

/** Failed seal checks: the supervisor is told, and says so. */
function SealNotices({ list, go, may }: Paged & { may: boolean }) {
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("It was not noted.");
  if (!list.rows.length) return null;
  const acknowledge = (visit: string) =>
    attempt(async () => {
      await unwrap(api.POST("/api/visits/{visit_id}/seal-notice", { params: { path: { visit_id: visit } } }));
      await queries.invalidateQueries({ queryKey: keys.today });
    });
  return (
    <section className="note rust" aria-label="Failed seal checks">
      <h2>Seal check failed: not to be worn, not tested</h2>
      <ul className="why-list">
        {list.rows.map((one) => (
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
      <Pager page={list.page} pages={list.pages} go={go} />
      <Problem words={problem} />
    </section>
  );
}

function Visits({ list, go, empty, isOld = false }: Paged & { empty: string; isOld?: boolean }) {
  if (!list.rows.length) return <Empty>{empty}</Empty>;
  return (
    <>
      <ul className="rows visits">
        {list.rows.map((one) => (
          <li key={one.visit_id}>
            <Link to={`/visit/${one.visit_id}`} className="row">
              <Mark
                name={
                  one.closed ? (one.verdict === "pass" ? "cairn" : one.verdict ? "wall" : "gate-unknown") : "lantern"
                }
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
                {one.alterations_open > 0 && (
                  <b className="heath">
                    <Mark name="ring" size={20} /> {one.alterations_open} to put back
                  </b>
                )}
              </span>
            </Link>
          </li>
        ))}
      </ul>
      <Pager page={list.page} pages={list.pages} go={go} />
    </>
  );
}
