import { useEffect, useRef, useState } from "react";
import type { Body, Schemas, BenchView } from "@/shared/client";
import { useNow } from "@/shared/clock";
import { KEY, useKeys } from "@/shared/keys";
import { cue, useSound } from "@/shared/sound";
import { HeadGuide } from "@/design/HeadGuide";
import { Key } from "@/design/Key";
import { Foot } from "@/rooms/bench/Foot";
import { TouchedNote } from "@/rooms/bench/TouchedNote";
import { SayOverlay } from "@/rooms/bench/SayOverlay";
import type { Bench } from "@/rooms/bench/useVisit";
import { DoseLine } from "@/rooms/bench/senses/DoseLine";
import { SensedKey } from "@/rooms/bench/senses/ScreenCard";
import { useWatch } from "@/rooms/bench/senses/useWatch";

interface Props {
  view: BenchView;
  run: Schemas["RunView"];
  sensing: Schemas["SensingView"];
  outbox: Bench["outbox"];
  propose: (body: Body) => void;
}

const DOSE_EARLY_MS = 5000;

/** A qualitative run: the words, the clock, the dose that is due, and the biggest key for sensing it. */
export function SenseRun({ view, run, sensing, outbox, propose }: Props) {
  const now = useNow(100);
  const sound = useSound();
  const [saying, setSaying] = useState(false);
  const [touched, setTouched] = useState(false);
  const away = useWatch(run.run_id, sensing.started_at);
  const speed = view.visit.speed;
  const waiting = (kind: string) => outbox.filter((one) => one.body.kind === kind);
  const kept = waiting("dose_given").map((one) => Date.parse(one.occurred_at));
  const t0 = run.t0 ? Date.parse(run.t0) : kept[0];
  const t = t0 === undefined ? -1 : (now - t0) * speed;
  const total = run.exercises.at(-1)?.end_ms ?? 0;
  const keptMs = run.t0
    ? kept.map((at) => (at - Date.parse(run.t0 ?? "")) * speed)
    : kept.slice(1).map((at) => (at - (t0 ?? 0)) * speed);
  const doses = sensing.doses.map((one) =>
    one.state !== "given" && keptMs.some((ms) => Math.abs(ms - one.due_ms) <= DOSE_EARLY_MS)
      ? { ...one, state: "given" }
      : one,
  );
  const isBegun = t0 !== undefined;
  const isFilling = isBegun && t < 0;
  const isOver = isBegun && t >= total;
  const next = doses.find((one) => one.state === "due");
  const dueIn = next && isBegun ? (next.due_ms - t) / 1000 : undefined;
  const isDue = dueIn !== undefined && dueIn <= 0.3;
  const isSoon = dueIn !== undefined && dueIn <= sensing.announce_s;
  const index = run.exercises.findIndex((one) => t < one.end_ms);
  const current = run.exercises[isBegun ? Math.max(0, index) : 0];
  const left = isFilling ? -t / 1000 : current ? (current.end_ms - t) / 1000 : 0;
  const after = run.exercises[index + 1];
  const faults = [
    ...sensing.faults,
    ...(away > sensing.unwatched_max_s * 1000
      ? [`This screen was away for ${Math.round(away / 1000)} s: what was sensed then is not known.`]
      : []),
  ];
  useCues({ isSoon: isSoon && !isDue, isDue, exercise: isOver || isFilling ? -1 : index });

  const dose = () => propose({ kind: "dose_given", run_id: run.run_id });
  const sensed = () => propose({ kind: "detected", about: run.run_id, by: "tester" });
  const end = () => propose({ kind: "qualitative_ended", run_id: run.run_id, longest_gap_ms: away });
  const stop = () => propose({ kind: "stopped", why: "" });
  const distress = () => propose({ kind: "distress" });
  const eyes = () => propose({ kind: "eyes_opened" });
  const askTouched = () => {
    setSaying(false);
    setTouched(true);
  };
  const touch = (moved: boolean) => {
    setTouched(false);
    propose({ kind: "touched", moved });
  };
  const fine = isOver ? end : !isBegun || (doses.length > 0 && next) ? dose : undefined;
  useKeys({
    [KEY.fine]: fine,
    ...(touched ? { 1: () => touch(false), 2: () => touch(true) } : {}),
    d: sensed,
    [KEY.touched]: askTouched,
    [KEY.stop]: stop,
    e: distress,
    o: sensing.eyes_shut ? eyes : undefined,
    [KEY.say]: saying ? undefined : () => setSaying(true),
    m: sound.toggle,
  });
  const said = waiting("detected").length > 0 ? "detected" : waiting("qualitative_ended").length > 0 ? "ended" : "";
  if (said)
    return (
      <section className="card sense" data-run={run.run_id}>
        <h1 className="question">{said === "detected" ? `${cap(sensing.sensed)}: take it off now` : sensing.end}</h1>
        <p className="say">“{said === "detected" ? "Thank you for saying so." : sensing.end_say}”</p>
        <p className="note">Kept here with its time, and sent when the server is back.</p>
      </section>
    );
  const unit = sensing.family === "smoke" ? "application" : "dose";
  const squeezes = next?.squeezes || undefined;
  const heading = !isBegun
    ? `First ${unit}: ${sensing.first_dose.toLowerCase()}`
    : isFilling
      ? "The chamber fills"
      : isOver
        ? sensing.end
        : (current?.name ?? "");
  const words = !isBegun || isFilling ? "Breathe as you always do." : isOver ? sensing.end_say : (current?.say ?? "");
  const isTalking = current?.id === "talk" && isBegun && !isFilling && !isOver;
  return (
    <section className="run sense" data-run={run.run_id} data-t={Math.round(t / 1000)}>
      <div className="run-head">
        <div>
          <h1 className="question">{heading}</h1>
          <p className="say">“{words}”</p>
        </div>
        {isBegun && !isOver && (
          <div className="countdown" role="timer">
            <span className="mono">{Math.max(0, Math.ceil(left))}</span> s
            <small className={left <= 5 ? "soon" : ""}>
              {isFilling ? "then exercise 1" : after ? `then ${after.name.toLowerCase()}` : "then done"}
            </small>
          </div>
        )}
      </div>
      {touched && <TouchedNote answer={touch} />}
      {faults.length > 0 && (
        <div className="note rust" role="alert">
          <h2>Void already: stop and start a new try</h2>
          {faults.map((one) => (
            <p key={one}>{one}</p>
          ))}
        </div>
      )}
      {faults.length === 0 && (
        <DoseWords
          isBegun={isBegun}
          isOver={isOver}
          dueIn={dueIn}
          isDue={isDue}
          isSoon={isSoon}
          what={next?.what ?? ""}
          first={sensing.first_dose}
          unit={unit}
        />
      )}
      <DoseLine doses={doses} exercises={run.exercises} t={t} />
      {isBegun && !isOver && current && (
        <div className="sense-guide">
          <HeadGuide kind={isFilling ? "rest" : current.id} t={t} share={shareOf(current, t)} />
        </div>
      )}
      <Foot
        above={
          <SensedKey
            word={`${sensing.sensed}: fails, ${sensing.family === "odour" ? "out at once" : sensing.family === "smoke" ? "smoke away at once" : "hood off at once"}`}
            onPress={sensed}
          />
        }
      >
        {fine && (
          <Key
            cap="Space"
            label={
              !isBegun
                ? unit === "application"
                  ? "smoke begins"
                  : "first dose is in"
                : isOver
                  ? sensing.end.toLowerCase()
                  : squeezes
                    ? `dose: ${squeezes} squeezes begin`
                    : "smoke given"
            }
            tone="tarn"
            onPress={fine}
          />
        )}
        <Key cap="X" label="touched" onPress={() => setTouched(true)} />
        {sensing.eyes_shut && <Key cap="O" label="eyes opened" onPress={eyes} />}
        <Key
          cap="S"
          label={faults.length ? "stop: new try" : "stop"}
          tone={faults.length ? "rust" : ""}
          onPress={stop}
        />
        <Key cap="E" label="unwell" tone="rust" onPress={distress} />
        <Key
          cap="W"
          label={isTalking && sensing.reading ? "text to read" : "say large"}
          onPress={() => setSaying(true)}
        />
        <Key cap="M" label={sound.isOn ? "mute" : "sound"} onPress={sound.toggle} />
      </Foot>
      {saying && (
        <SayOverlay
          inRun
          words={isTalking && sensing.reading ? sensing.reading : words}
          close={() => setSaying(false)}
        />
      )}
    </section>
  );
}

function shareOf(one: Schemas["ExerciseView"], t: number): number {
  return (t - one.start_ms) / (one.end_ms - one.start_ms);
}

function cap(word: string): string {
  return word.charAt(0).toUpperCase() + word.slice(1);
}

function DoseWords(props: {
  isBegun: boolean;
  isOver: boolean;
  dueIn: number | undefined;
  isDue: boolean;
  isSoon: boolean;
  what: string;
  first: string;
  unit: string;
}) {
  const { isBegun, isOver, dueIn, isDue, isSoon, what, first, unit } = props;
  if (!isBegun && first)
    return (
      <p className="dose-words soon">
        {unit === "application" ? (
          <>
            <b>{first}</b>: Space as you begin. That starts the clock.
          </>
        ) : (
          <>
            Give <b>{first.toLowerCase()}</b>, then Space as the last one is in. That starts the clock.
          </>
        )}
      </p>
    );
  if (isOver || dueIn === undefined) return null;
  return (
    <p className={`dose-words ${isDue ? "due" : isSoon ? "soon" : ""}`} role="status">
      {isDue ? (
        <>
          <b>Now: {what.toLowerCase()}.</b> Space as you begin.
        </>
      ) : (
        <>
          Next {unit} in <b className="mono">{Math.ceil(dueIn)} s</b>: {what.toLowerCase()}
        </>
      )}
    </p>
  );
}

/** Cues that are heard: five seconds ahead of a dose, when it is due with its squeezes, and at a new exercise. */
function useCues({ isSoon, isDue, exercise }: { isSoon: boolean; isDue: boolean; exercise: number }) {
  const last = useRef({ isSoon: false, isDue: false, exercise });
  useEffect(() => {
    const before = last.current;
    if (isDue && !before.isDue) cue.dose();
    else if (isSoon && !before.isSoon) cue.soon();
    else if (exercise > 0 && exercise !== before.exercise) cue.next();
    last.current = { isSoon, isDue, exercise };
  }, [isSoon, isDue, exercise]);
}
