import { useCallback, useEffect, useState } from "react";
import { useParams } from "react-router";
import { v7 as uuid } from "uuid";
import { api, ApiError, type Schemas, unwrap } from "@/shared/client";
import { keepMeasuring, notBefore, serverNow, useNow } from "@/shared/clock";
import { KEY, useKeys } from "@/shared/keys";
import { keptAt, useOutbox, wearerAt } from "@/shared/outbox";
import { type Heard, useHeard } from "@/shared/screen";
import { cue, toggleSound } from "@/shared/sound";
import { WearerSigns } from "@/rooms/bench/wearer/WearerSigns";
import { HeadGuide } from "@/design/HeadGuide";

type View = Schemas["WearerView"];
type Press = Schemas["Sensed"];

/** The wearer's own screen: what to do, which way, how long; and one big key that says it is noticed. */
export function WearerPage() {
  const { token = "" } = useParams();
  const { view, over, press, isSent, isWaiting, take } = useWearer(token);
  if (over)
    return (
      <main className="wearer">
        <h1>{over}</h1>
      </main>
    );
  if (!view) return <main className="wearer" aria-busy="true" />;
  return <Shown token={token} view={view} press={press} isSent={isSent} isWaiting={isWaiting} take={take} />;
}

interface ShownProps {
  token: string;
  take: (fresh: View) => void;
  view: View;
  press: (about: string) => void;
  isSent: boolean;
  isWaiting: boolean;
}

function Shown({ token, take, view, press, isSent, isWaiting }: ShownProps) {
  const now = useNow(100);
  const t = view.t0 ? (now - Date.parse(view.t0)) * view.speed : -1;
  const index = view.exercises.findIndex((one) => t < one.end_ms);
  const current = t < 0 ? undefined : view.exercises[index];
  const isDone = view.phase === "run" && view.t0 !== null && index === -1;
  const own = view.cues.find((one) => t >= one.start_ms && t < one.end_ms);
  const id = own ? `hold-${own.start_ms}` : (current?.id ?? "");
  useEffect(() => {
    if (id) cue.next();
  }, [id]);
  useBeat(current?.id ?? "", t);
  const sense = view.button ? () => press(view.about) : undefined;
  useKeys({ [KEY.fine]: sense, enter: sense, m: toggleSound });
  const span = own ?? current;
  const share = span ? (t - span.start_ms) / (span.end_ms - span.start_ms) : 0;
  const words = isSent
    ? isWaiting
      ? "Raise your hand: this screen has not reached your tester yet."
      : "Thank you. That helps you."
    : view.phase !== "run"
      ? view.words
      : isDone
        ? "Done. Stay as you are."
        : (own?.say ?? current?.words ?? "Breathe as you always do.");
  return (
    <main className="wearer" data-phase={view.phase} data-exercise={current?.id ?? ""}>
      {view.is_practice && <p className="practice-band">PRACTICE</p>}
      <h1 aria-live="polite">{words}</h1>
      {(view.phase === "run" || isSent) && (
        <HeadGuide
          kind={isSent || isDone ? "rest" : own ? (own.hold ? own.place || "rest" : "normal") : (current?.id ?? "rest")}
          t={t}
          share={share}
        />
      )}
      {current?.id === "talk" && view.reading && !isSent && <p className="wearer-reading">{view.reading}</p>}
      {view.eyes_shut && view.phase === "run" && !isSent && <p className="wearer-eyes">Eyes shut.</p>}
      {view.to_sign && <WearerSigns token={token} what={view.to_sign} take={take} />}
      {sense && !isSent && (
        <button type="button" className="wearer-key" onClick={sense}>
          {view.button}
        </button>
      )}
    </main>
  );
}

const JOG_MS = 550;
const BEND_MS = 4000;

/** Eyes are on the floor when bending and jogging: down and up are heard, and every step. */
function useBeat(exercise: string, t: number): void {
  const every = exercise === "jog" ? JOG_MS : exercise === "bend" ? BEND_MS : 0;
  const beat = every ? Math.floor(Math.max(0, t) / every) : -1;
  useEffect(() => {
    if (beat < 0) return;
    if (exercise === "jog") cue.beat();
    else if (beat % 2 === 0) cue.down();
    else cue.up();
  }, [beat, exercise]);
}

/** Whoever holds the address: what is pressed here is the wearer's, whoever else is signed in on this device. */
const WEARER = { account: "", name: "" };

/** The screen's state, kept live; a press is kept with its time until it is stored. */
function useWearer(token: string) {
  const [view, setView] = useState<View | null>(null);
  const [over, setOver] = useState("");
  const { entries, add, drop, again } = useOutbox<Press>(wearerAt(token), WEARER);
  const waiting = entries[0];
  const [sentFor, setSentFor] = useState("");
  const take = useCallback((fresh: View) => {
    notBefore(fresh.at);
    setView((old) => (old && old.seq > fresh.seq ? old : fresh));
  }, []);
  const path = { token };

  useEffect(() => {
    const unmeasure = keepMeasuring();
    let isHere = true;
    const look = () =>
      unwrap(api.GET("/api/wearer/{token}", { params: { path: { token } } }))
        .then((fresh) => isHere && take(fresh))
        .catch((error: unknown) => {
          if (isHere && error instanceof ApiError && error.status === 404) setOver(error.message);
        });
    let source: EventSource | null = null;
    // the first answer binds the address to this screen; only then may it follow
    void look().then(() => {
      if (!isHere) return;
      source = new EventSource(`/api/wearer/${token}/live`);
      source.addEventListener("state", (event) => take(JSON.parse(event.data as string) as View));
      source.addEventListener("resync", () => void look());
    });
    const timer = window.setInterval(() => void look(), 4000);
    return () => {
      isHere = false;
      unmeasure();
      window.clearInterval(timer);
      source?.close();
    };
  }, [token, take]);

  useEffect(() => {
    if (!waiting) return;
    let timer = 0;
    unwrap(api.POST("/api/wearer/{token}/sensed", { params: { path }, body: waiting }))
      .then((fresh) => {
        take(fresh);
        drop(waiting.id);
      })
      .catch((error: unknown) => {
        // what the wearer said is never lost: it ends when it is there already, or when the test is over, which is shown
        const isOver = error instanceof ApiError && ["test_over", "address_over"].includes(error.code);
        if (isOver) setOver(error.message);
        if (error instanceof ApiError && error.code === "address_taken") {
          setOver(`${error.message} What you pressed here has not reached your tester. Tell them.`);
          return;
        }
        if (isOver || (error instanceof ApiError && error.code === "id_reused")) drop(waiting.id);
        else timer = window.setTimeout(again, 1000);
      });
    return () => window.clearTimeout(timer);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the path is the token's
  }, [entries, token, take, drop, again]);

  const say = useCallback(
    (body: Heard) =>
      unwrap(api.POST("/api/wearer/{token}/screen", { params: { path: { token } }, body, keepalive: body.leaving })),
    [token],
  );
  useHeard(view && !over ? say : null, {
    role: "wearer",
    unsent: entries.length,
    kept: () => keptAt(wearerAt(token)),
    seq: view?.seq ?? 0,
    running: view?.phase === "run",
  });
  const press = (about: string) => {
    setSentFor(about);
    add({ id: uuid(), about, occurred_at: new Date(serverNow()).toISOString() });
  };
  return {
    view,
    over,
    press,
    isSent: sentFor !== "" && sentFor === view?.about,
    isWaiting: waiting !== undefined,
    take,
  };
}
