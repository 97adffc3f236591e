import { useState } from "react";
import type { Body, Schemas, BenchView } from "@/shared/client";
import { useNow } from "@/shared/clock";
import { KEY, useKeys } from "@/shared/keys";
import { Budget } from "@/design/Budget";
import { FogLadder } from "@/design/FogLadder";
import { Key } from "@/design/Key";
import { Foot } from "@/rooms/bench/Foot";
import { TouchedNote } from "@/rooms/bench/TouchedNote";
import { SayOverlay } from "@/rooms/bench/SayOverlay";
import { TypedNumbers } from "@/rooms/bench/TypedNumbers";
import type { LiveNumbers } from "@/rooms/bench/card";

interface Props {
  view: BenchView;
  run: Schemas["RunView"];
  live: LiveNumbers | null;
  propose: (body: Body) => void;
}

/** The run: what to do now, how long still, what comes next; fog outside and inside; what is left of the budget. */
export function RunView({ view, run, live, propose }: Props) {
  const [saying, setSaying] = useState(false);
  const [touched, setTouched] = useState(false);
  const now = useNow(100);
  const t = (now - Date.parse(run.t0 ?? "")) * view.visit.speed;
  const total = run.exercises.at(-1)?.end_ms ?? 0;
  const index = run.exercises.findIndex((one) => t < one.end_ms);
  const current = t < 0 ? run.exercises[0] : run.exercises[index];
  const next = t < 0 ? undefined : run.exercises[index + 1];
  const cue = run.cues.find((one) => t >= one.start_ms && t < one.end_ms);
  const nextCue = run.cues.find((one) => one.start_ms > t && one.start_ms - t <= 5000);
  const stop = () => propose({ kind: "stopped", why: "" });
  const distress = () => propose({ kind: "distress" });
  const askTouched = () => {
    setSaying(false);
    setTouched(true);
  };
  const touch = (moved: boolean) => {
    setTouched(false);
    propose({ kind: "touched", moved });
  };
  useKeys({
    [KEY.touched]: askTouched,
    [KEY.stop]: stop,
    e: distress,
    [KEY.say]: saying ? undefined : () => setSaying(true),
    ...(touched ? { 1: () => touch(false), 2: () => touch(true) } : {}),
  });
  const isOver = t >= total;
  if (isOver && run.source === "typed") return <TypedNumbers view={view} run={run} propose={propose} stop={stop} />;
  const mine = live?.run_id === run.run_id ? live : null;
  const told = run.exercises[index - 1];
  const factor = told?.in_sum ? mine?.factors[index - 1] : null;
  const left = t < 0 ? -t / 1000 / view.visit.speed : ((current?.end_ms ?? total) - t) / 1000;
  const soon = next !== undefined && left <= 5;
  return (
    <section className="run" data-run={run.run_id} data-t={Math.round(t / 1000)}>
      <div className="run-head">
        <div>
          <h1 className="question">
            {isOver ? "Done. The run is being sealed" : t < 0 ? `Get ready: ${current?.name ?? ""}` : current?.name}
          </h1>
          {!isOver && <p className="say">“{cue?.say ?? current?.say}”</p>}
          {!isOver && !cue && nextCue && (
            <p className="soon-words">
              In {Math.ceil((nextCue.start_ms - t) / 1000)} s: “{nextCue.say}”
            </p>
          )}
          {!isOver && run.says_numbers && factor && told && (
            <p className="soon-words">
              Say: {told.name.toLowerCase()}, {factor}
            </p>
          )}
        </div>
        {!isOver && (
          <div className="run-numbers">
            {run.source === "counter" && t >= 0 && (
              <div className="running-factor" data-factor={index}>
                <span className="mono">{(current?.in_sum && mine?.factors[index]) || "–"}</span>
                <small>{current?.in_sum ? "this exercise, so far" : "not counted"}</small>
              </div>
            )}
            <div className="countdown" role="timer">
              <span className="mono">{Math.max(0, Math.ceil(cue ? (cue.end_ms - t) / 1000 : left))}</span> s
              <small className={soon ? "soon" : ""}>
                {cue ? "of this" : t < 0 ? "then go" : next ? `then ${next.name.toLowerCase()}` : "then done"}
              </small>
            </div>
          </div>
        )}
      </div>
      {touched && <TouchedNote answer={touch} />}
      {run.source === "counter" ? (
        <>
          {mine?.ended_by && (
            <div className="note rust" role="alert">
              <h2>The protocol ends this run</h2>
              <p>{mine.ended_by}</p>
            </div>
          )}
          <FogLadder
            points={mine?.points ?? []}
            exercises={run.exercises}
            factors={mine?.factors ?? []}
            bounds={mine?.bounds ?? []}
            inside={mine?.inside_live ? mine.inside : null}
            unit={run.unit}
            t={t}
            outside={mine?.outside ?? null}
            outsideIsLive={mine ? !mine.inside_live : false}
            wall={mine?.wall ?? null}
            wallWords={mine?.wall_words ?? null}
            level={run.level}
            countsWords={run.counts_words}
          />
          <Budget
            shares={mine?.shares ?? []}
            exercises={run.exercises}
            count={run.values.length}
            heading={mine?.heading ?? null}
            bound={mine?.heading_bound ?? null}
            level={run.level}
            isUnlikely={mine?.unlikely ?? false}
            isLost={mine?.lost ?? false}
          />
        </>
      ) : (
        <p className="reading">
          The numbers stay on the instrument; you type them, or bring its file, when the exercises are done.{" "}
          {current ? `Pace: ${current.pace}.` : ""}
        </p>
      )}
      <Foot next={undefined}>
        <Key cap="X" label="mask touched" onPress={() => setTouched(true)} />
        <Key cap="S" label={mine?.lost ? "stop and refit" : "stop"} tone={mine?.lost ? "rust" : ""} onPress={stop} />
        <Key cap="E" label="unwell: mask off" tone="rust" onPress={distress} />
        <Key cap="W" label="say it large" onPress={() => setSaying(true)} />
      </Foot>
      {saying && <SayOverlay inRun words={cue?.say ?? current?.say ?? ""} close={() => setSaying(false)} />}
    </section>
  );
}
