import { useCallback, useState } from "react";
import { Link, useParams } from "react-router";
import { api, type Card, unwrap, type BenchView } from "@/shared/client";
import { clockTime, useNow } from "@/shared/clock";
import { KEY, useKeys } from "@/shared/keys";
import { type Heard, useHeard } from "@/shared/screen";
import { useSession } from "@/shared/session";
import { Failed, Loading } from "@/design/States";
import { Walk } from "@/design/Walk";
import { ActCard } from "@/features/bench/ActCard";
import { Aside } from "@/features/bench/Aside";
import { ClosedView } from "@/features/bench/ClosedView";
import { CounterLine } from "@/features/common/CounterLine";
import { DecideCard } from "@/features/bench/DecideCard";
import { DistressCard } from "@/features/bench/DistressCard";
import { QuestionCard } from "@/features/bench/QuestionCard";
import { RunView } from "@/features/bench/RunView";
import { WaitCard } from "@/features/bench/WaitCard";
import { MethodCard } from "@/features/bench/senses/MethodCard";
import { SenseRun } from "@/features/bench/senses/SenseRun";
import { WearerLink } from "@/features/bench/senses/WearerLink";
import { type Bench, stored, useVisit } from "@/features/bench/useVisit";

/** The bench: one large thing at a time, what stands between this person and a pass always beside it. */
export function BenchPage() {
  const { visitId = "" } = useParams();
  const bench = useVisit(visitId);
  const session = useSession();
  const shown = bench.visit.data?.visit;
  const canPress = session.data?.roles.includes("tester") && shown && !shown.closed;
  const say = useCallback(
    (body: Heard) =>
      unwrap(
        api.POST("/api/visits/{visit_id}/screen", {
          params: { path: { visit_id: visitId } },
          body,
          keepalive: body.leaving,
        }),
      ),
    [visitId],
  );
  useHeard(canPress ? say : null, {
    role: "bench",
    unsent: bench.unsent,
    kept: () => stored(visitId).length,
    seq: shown?.seq ?? 0,
    running: Boolean(shown?.run),
  });
  if (bench.visit.isPending) return <Loading what="This visit" />;
  if (bench.visit.isError && !bench.visit.data)
    return <Failed error={bench.visit.error} again={() => void bench.visit.refetch()} />;
  const view = bench.visit.data;
  if (!view) return null;
  const visit = view.visit;
  return (
    <div className="bench" data-seq={visit.moved} data-step={visit.step}>
      <header>
        {visit.is_practice && (
          <div className="practice-band">
            PRACTICE{visit.speed > 1 ? ` · TIME RUNS ${visit.speed} TIMES AS FAST` : ""} · NOT A RESULT
          </div>
        )}
        <div className="top">
          <Link to="/" className="brand">
            Moorfog
          </Link>
          <span>
            {view.employer} · {view.site} · {view.bench}
          </span>
          <div className="right">
            {!visit.closed && <WearerLink visitId={view.visit_id} />}
            <CounterLine
              name={view.visit.run?.instrument_name ?? ""}
              kind={view.visit.protocols[0]?.instrument ?? "counter"}
            />
            <NowClock />
          </div>
        </div>
        {bench.held && (
          <div className="away-band" role="alert">
            Not taken yet: {bench.held} It is kept here, and sent again.
          </div>
        )}
        {bench.connection === "away" && (
          <div className="away-band" role="status">
            The server is away.{" "}
            {bench.unsent
              ? `${bench.unsent} entr${bench.unsent === 1 ? "y is" : "ies are"} kept here and sent when it is back.`
              : "Nothing is lost; this page goes on trying."}
          </div>
        )}
      </header>
      <Walk steps={visit.steps} detail={stepDetail(view)} />
      <div className="bench-body">
        <main className="stage">
          <Stage view={view} bench={bench} />
        </main>
        <Aside view={view} propose={bench.propose} />
      </div>
    </div>
  );
}

function stepDetail(view: BenchView): string {
  const visit = view.visit;
  if (visit.run) return `try ${visit.run.try_no}`;
  const here = visit.queue.filter((one) => one.step === visit.step).length;
  return here > 1 ? `${here} to go` : "";
}

function NowClock() {
  return <span className="mono">{clockTime(new Date(useNow(5000)).toISOString())}</span>;
}

function Stage({ view, bench }: { view: BenchView; bench: Bench }) {
  const session = useSession();
  const [skipped, setSkipped] = useState<string[]>([]);
  const [goneBack, setGoneBack] = useState<number | null>(null);
  const [choosing, setChoosing] = useState(false);
  const [shown, setShown] = useState({ seq: -1, id: "" });
  const visit = view.visit;
  const canTest = session.data?.roles.includes("tester") ?? false;
  const behind = visit.behind.filter((one) => one.status === "done");
  const ahead = visit.queue.filter((one) => !skipped.includes(one.id));
  // Time alone brings questions due; none of them takes the place of the card under the tester's finger.
  const kept = shown.seq === visit.moved ? ahead.find((one) => one.id === shown.id) : undefined;
  const first = kept ?? ahead[0] ?? visit.queue[0];
  if (first && (shown.seq !== visit.moved || shown.id !== first.id)) setShown({ seq: visit.moved, id: first.id });
  const back = goneBack !== null ? behind[goneBack] : undefined;
  const card = back ?? first;
  const next = back ? first : [...ahead, ...visit.queue].find((one) => one.id !== card?.id);
  const other = canChange(view) ? () => setChoosing(true) : undefined;
  const goBack = () => setGoneBack((old) => Math.min((old ?? -1) + 1, behind.length - 1));
  const propose: Bench["propose"] = (body) => {
    setGoneBack(null);
    setChoosing(false);
    bench.propose(body);
  };
  const unwell = () => bench.propose({ kind: "distress" });
  useKeys({
    e: visit.run || visit.closed || visit.distress ? undefined : unwell,
    [KEY.back]: behind.length && !visit.run && !choosing ? goBack : undefined,
    v: other,
  });
  if (visit.closed) return <ClosedView view={view} put={bench.put} propose={bench.propose} />;
  if (card?.id === "distress_care") return <DistressCard view={view} card={card} propose={propose} />;
  if (!canTest) return <p className="reading">You may look on; only a tester answers and tests here.</p>;
  if (visit.run?.sensing)
    return <SenseRun view={view} run={visit.run} sensing={visit.run.sensing} outbox={bench.outbox} propose={propose} />;
  if (visit.run) return <RunView view={view} run={visit.run} live={bench.live} propose={propose} />;
  if (choosing && other) return <MethodCard view={view} propose={propose} back={() => setChoosing(false)} />;
  if (visit.offers.length > 0 && !back) return <DecideCard view={view} propose={propose} />;
  if (!card) return <WaitCard view={view} propose={propose} />;
  const later = !back && ahead.length > 1 ? () => setSkipped((all) => [...all, card.id]) : undefined;
  const shared = { view, card, propose, ...(next ? { next: next.title } : {}) };
  const key = `${card.id}:${card.facts}:${visit.moved}`;
  if (isAct(card))
    return (
      <ActCard
        key={`${card.id}:${visit.tries.length}`}
        {...shared}
        put={bench.put}
        pending={bench.pending}
        liveProof={bench.proof}
        back={behind.length ? goBack : undefined}
      />
    );
  return <QuestionCard key={key} {...shared} later={later} back={behind.length ? goBack : undefined} />;
}

/** Whether another method may be chosen now: one is chosen, and no run of this try has started. */
function canChange(view: BenchView): boolean {
  const { visit } = view;
  return visit.method !== "" && visit.facepiece !== null && !visit.run && !visit.verdict && !visit.closed;
}

function isAct(card: Card): boolean {
  return card.act !== "";
}
