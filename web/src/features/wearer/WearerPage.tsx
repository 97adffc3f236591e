import { useCallback, useEffect, useState } from "react";
import { useParams } from "react-router";
import { v7 as uuid } from "uuid";
import { api, ApiError, type Schemas, unwrap } from "@/shared/client";
import { measureClock, notBefore, serverNow, useNow } from "@/shared/clock";
import { KEY, useKeys } from "@/shared/keys";
import { type Heard, useHeard } from "@/shared/screen";
import { cue, toggleSound } from "@/shared/sound";
import { MovingStone } from "@/features/wearer/MovingStone";

type View = Schemas["WearerView"];
type Press = Schemas["Sensed"];

/** The wearer's own screen: what to do, which way, how long; and one big key that says it is noticed. */
export function WearerPage() {
  const { token = "" } = useParams();
  const { view, over, press, isSent, isWaiting } = useWearer(token);
  if (over)
    return (
      <main className="wearer">
        <h1>{over}</h1>
      </main>
    );
  if (!view) return <main className="wearer" aria-busy="true" />;
  return <Shown view={view} press={press} isSent={isSent} isWaiting={isWaiting} />;
}

interface ShownProps {
  view: View;
  press: (about: string) => void;
  isSent: boolean;
  isWaiting: boolean;
}

function Shown({ view, press, isSent, isWaiting }: ShownProps) {
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
      <MovingStone
        kind={isSent || isDone ? "rest" : own ? holdKind(own.say) : (current?.id ?? "rest")}
        t={t}
        share={share}
      />
      {current?.id === "talk" && view.reading && !isSent && <p className="wearer-reading">{view.reading}</p>}
      {view.eyes_shut && view.phase === "run" && !isSent && <p className="wearer-eyes">Eyes shut.</p>}
      {sense && !isSent && (
        <button type="button" className="wearer-key" onClick={sense}>
          {view.button}
        </button>
      )}
    </main>
  );
}

/** How the stone stands while the breath is held; it moves only where one may breathe again. */
function holdKind(words: string): string {
  if (/breathe out/i.test(words)) return "normal";
  return ["left", "right", "up", "floor"].find((one) => words.toLowerCase().includes(one)) ?? "rest";
}

const store = (token: string) => `sensed:${token}`;
const stored = (token: string) => JSON.parse(localStorage.getItem(store(token)) ?? "null") as Press | null;

/** The screen's state, kept live; a press is kept with its time until it is stored. */
function useWearer(token: string) {
  const [view, setView] = useState<View | null>(null);
  const [over, setOver] = useState("");
  const [waiting, setWaiting] = useState<Press | null>(() => stored(token));
  const [sentFor, setSentFor] = useState("");
  const take = useCallback((fresh: View) => {
    notBefore(fresh.at);
    setView((old) => (old && old.seq > fresh.seq ? old : fresh));
  }, []);
  const path = { token };

  useEffect(() => {
    void measureClock();
    let isHere = true;
    const look = () =>
      unwrap(api.GET("/api/wearer/{token}", { params: { path: { token } } }))
        .then((fresh) => isHere && take(fresh))
        .catch((error: unknown) => {
          if (isHere && error instanceof ApiError && error.status === 404) setOver(error.message);
        });
    void look();
    const timer = window.setInterval(() => void look(), 4000);
    const source = new EventSource(`/api/wearer/${token}/live`);
    source.addEventListener("state", (event) => take(JSON.parse(event.data as string) as View));
    source.addEventListener("resync", () => void look());
    return () => {
      isHere = false;
      window.clearInterval(timer);
      source.close();
    };
  }, [token, take]);

  useEffect(() => {
    localStorage.setItem(store(token), JSON.stringify(waiting));
    if (!waiting) return;
    let timer = 0;
    unwrap(api.POST("/api/wearer/{token}/sensed", { params: { path }, body: waiting }))
      .then((fresh) => {
        take(fresh);
        setWaiting(null);
      })
      .catch((error: unknown) => {
        // what the wearer said is never lost: it ends when it is there already, or when the test is over, which is shown
        const isOver = error instanceof ApiError && ["test_over", "address_over"].includes(error.code);
        if (isOver) setOver(error.message);
        if (isOver || (error instanceof ApiError && error.code === "id_reused")) setWaiting(null);
        else timer = window.setTimeout(() => setWaiting({ ...waiting }), 1000);
      });
    return () => window.clearTimeout(timer);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the path is the token's
  }, [waiting, token, take]);

  const say = useCallback(
    (body: Heard) =>
      unwrap(api.POST("/api/wearer/{token}/screen", { params: { path: { token } }, body, keepalive: body.leaving })),
    [token],
  );
  useHeard(view && !over ? say : null, {
    role: "wearer",
    unsent: waiting ? 1 : 0,
    kept: () => (stored(token) ? 1 : 0),
    seq: view?.seq ?? 0,
    running: view?.phase === "run",
  });
  const press = (about: string) => {
    setSentFor(about);
    setWaiting({ id: uuid(), about, occurred_at: new Date(serverNow()).toISOString() });
  };
  return { view, over, press, isSent: sentFor !== "" && sentFor === view?.about, isWaiting: waiting !== null };
}
