import { useCallback, useState } from "react";
import { Link, useParams } from "react-router";
import { api, type Card, unwrap, type BenchView } from "@/shared/client";
import { clockTime, useNow } from "@/shared/clock";
import { KEY, useKeys } from "@/shared/keys";
import { benchOf, keptAt } from "@/shared/outbox";
import { type Heard, useHeard } from "@/shared/screen";
import { useSession } from "@/shared/session";
import { Failed, Loading } from "@/design/States";
import { Walk } from "@/design/Walk";
import { lookAt } from "@/rooms/bench/answers";
import { ActCard } from "@/rooms/bench/ActCard";
import { Aside } from "@/rooms/bench/Aside";
import { ClosedView } from "@/rooms/bench/ClosedView";
import { CounterLine } from "@/rooms/common/CounterLine";
import { DecideCard } from "@/rooms/bench/DecideCard";
import { DistressCard } from "@/rooms/bench/DistressCard";
import { FileBand } from "@/rooms/bench/FileBand";
import { KitBand } from "@/rooms/bench/KitBand";
import { LookCard } from "@/rooms/bench/LookCard";
import { QuestionCard } from "@/rooms/bench/QuestionCard";
import { ResultCard } from "@/rooms/bench/ResultCard";
import { RunView } from "@/rooms/bench/RunView";
import { StopCard } from "@/rooms/bench/StopCard";
import { WaitCard } from "@/rooms/bench/WaitCard";
import { MethodCard } from "@/rooms/bench/senses/MethodCard";
import { SenseRun } from "@/rooms/bench/senses/SenseRun";
import { WearerLink } from "@/rooms/bench/senses/WearerLink";
import { type Bench, useVisit } from "@/rooms/bench/useVisit";

/** The bench: one large thing at a time, what stands between this person and a pass always beside it. */
export function BenchPage() {
  const { visitId = "" } = useParams();
  const session = useSession();
  const bench = useVisit(visitId, {
    account: session.data?.account_id ?? "",
    name: session.data?.name ?? "",
  });
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
    kept: () => keptAt(benchOf(visitId)),
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
        {canPress && <FileBand view={view} />}
        {canPress && <KitBand view={view} />}
        {bench.held && (
          <div className="away-band" role="alert">
            Not taken yet: {bench.held}{" "}
            {bench.enterLate ? (
              <button type="button" className="act" onClick={bench.enterLate}>
                Enter it now
              </button>
            ) : (
              "It is kept here, and sent again."
            )}
          </div>
        )}
        {bench.others.length > 0 && (
          <div className="away-band" role="status">
            {bench.others[0]?.name} pressed keys here that have not reached the server. They are kept, and sent when{" "}
            {bench.others[0]?.name} signs in on this device and opens this visit.
          </div>
        )}
        {!bench.isKept && (
          <div className="away-band" role="status">
            This browser keeps nothing on its disk. Leave this page open until the visit is closed.
          </div>
        )}
        {bench.connection === "away" && (
          <div className="away-band" role="status">
            The server is away.{" "}
            {bench.outbox.length
              ? `${bench.outbox.length} entr${bench.outbox.length === 1 ? "y is" : "ies are"} kept here and sent when it is back.`
              : "Nothing is lost; this page goes on trying."}
          </div>
        )}
      </header>
      <Walk steps={visit.steps} detail={stepDetail(view)} />
      <div className="bench-body">
        {/* eslint-disable-next-line jsx-a11y-x/no-noninteractive-tabindex -- it scrolls: the keys must reach it */}
        <main className="stage" tabIndex={0}>
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
  const [opened, setOpened] = useState({ seq: -1, id: "" });
  const [choosing, setChoosing] = useState(false);
  const [shown, setShown] = useState({ seq: -1, id: "" });
  const [wentOn, setWentOn] = useState("");
  const visit = view.visit;
  const canTest = session.data?.roles.includes("tester") ?? false;
  const behind = stretches(visit.behind.filter((one) => one.status === "done").reverse()).reverse();
  const ahead = visit.queue.filter((one) => !skipped.includes(one.id));
  // Time alone brings questions due; none of them takes the place of the card under the tester's finger.
  const kept = shown.seq === visit.moved ? ahead.find((one) => one.id === shown.id) : undefined;
  const first = kept ?? ahead[0] ?? visit.queue[0];
  if (first && (shown.seq !== visit.moved || shown.id !== first.id)) setShown({ seq: visit.moved, id: first.id });
  const gone = goneBack !== null ? behind[goneBack] : undefined;
  const back = gone?.[0];
  const alone = opened.seq === visit.moved ? ahead.find((one) => one.id === opened.id) : undefined;
  const card = back ?? alone ?? first;
  const isOpened = card !== undefined && card === alone;
  const together = isOpened ? [] : gone ? (gone.length > 1 ? gone : []) : lookFrom(ahead, card);
  const look = together.length ? visit.looks.find((one) => one.id === card?.look) : undefined;
  const next = back ? first : [...ahead, ...visit.queue].find((one) => one.id !== card?.id && !together.includes(one));
  const nextTitle = next && (visit.looks.find((one) => one.id === next.look && !visit.run)?.title ?? next.title);
  const other = canChange(view) ? () => setChoosing(true) : undefined;
  const goBack = () => setGoneBack((old) => Math.min((old ?? -1) + 1, behind.length - 1));
  const propose: Bench["propose"] = (body) => {
    setGoneBack(null);
    setChoosing(false);
    bench.propose(body);
  };
  const unwell = () => bench.propose({ kind: "distress" });
  useKeys(
    {
      e: visit.run || visit.closed || visit.distress ? undefined : unwell,
      [KEY.back]: behind.length && !visit.run && !choosing ? goBack : undefined,
      v: other,
    },
    true,
    true,
  );
  if (visit.closed) return <ClosedView view={view} put={bench.put} propose={bench.propose} />;
  if (card?.id === "distress_care") return <DistressCard view={view} card={card} propose={propose} />;
  if (!canTest) return <p className="reading">You may look on; only a tester answers and tests here.</p>;
  if (visit.run?.sensing)
    return <SenseRun view={view} run={visit.run} sensing={visit.run.sensing} outbox={bench.outbox} propose={propose} />;
  if (visit.run) return <RunView view={view} run={visit.run} live={bench.live} propose={propose} />;
  if (choosing && other) return <MethodCard view={view} propose={propose} back={() => setChoosing(false)} />;
  if (visit.offers.length > 0 && !back) return <DecideCard view={view} propose={propose} />;
  const way = visit.in_the_way;
  const codes = way?.stops.map((one) => one.code).join(" ") ?? "";
  if (way && codes !== wentOn && !back)
    return (
      <StopCard
        key={visit.moved}
        view={view}
        way={way}
        propose={propose}
        put={bench.put}
        pending={bench.pending}
        liveProof={bench.proof}
        back={behind.length ? goBack : undefined}
        goOn={() => setWentOn(codes)}
      />
    );
  if (!card) return <WaitCard view={view} propose={propose} />;
  const skipping = together.length ? together : [card];
  const canSkip = !back && ahead.length > skipping.length;
  const later = canSkip ? () => setSkipped((all) => [...all, ...skipping.map((one) => one.id)]) : undefined;
  const shared = { view, card, propose, ...(nextTitle ? { next: nextTitle } : {}) };
  if (look) {
    const open = (one: Card) => setOpened({ seq: visit.moved, id: one.id });
    const looks = { view, look, cards: together, propose, next: nextTitle, back: behind.length ? goBack : undefined };
    if (look.id === RESULT) return <ResultCard key={`${look.id}:${visit.moved}`} {...looks} />;
    return <LookCard key={`${look.id}:${visit.moved}`} {...looks} open={open} later={later} />;
  }
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
  return (
    <QuestionCard key={key} {...shared} isAsking={isOpened} later={later} back={behind.length ? goBack : undefined} />
  );
}

const RESULT = "told";
/** The look that tells the result has a card of its own. */

/** The cards looked at together with ``card``, from it on; none where it stands alone or was found not fine. */
function lookFrom(ahead: Card[], card: Card | undefined): Card[] {
  const from = ahead.findIndex((one) => one.id === card?.id);
  return from < 0 ? [] : lookAt(ahead.slice(from), (one) => one.status === "open");
}

/** Cards one after the other, those of one look together. */
function stretches(cards: Card[]): Card[][] {
  const out: Card[][] = [];
  for (const one of cards) {
    const last = out.at(-1);
    if (last && one.look && last[0]?.look === one.look) last.push(one);
    else out.push([one]);
  }
  return out;
}

/** Whether another method may be chosen now: one is chosen, and no run of this try has started. */
function canChange(view: BenchView): boolean {
  const { visit } = view;
  return visit.method !== "" && visit.facepiece !== null && !visit.run && !visit.verdict && !visit.closed;
}

function isAct(card: Card): boolean {
  return card.act !== "";
}
