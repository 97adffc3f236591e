import { useState } from "react";
import { clockTime, minutes, useNow } from "@/shared/clock";
import { KEY, useKeys } from "@/shared/keys";
import { Key } from "@/design/Key";
import { StrapDrawing } from "@/design/StrapDrawing";
import { answerTo } from "@/rooms/bench/answers";
import { Foot } from "@/rooms/bench/Foot";
import { SayOverlay } from "@/rooms/bench/SayOverlay";
import { TurnAway } from "@/rooms/bench/TurnAway";
import { useReadable } from "@/rooms/bench/readable";
import type { CardProps } from "@/rooms/bench/card";

interface Props extends CardProps {
  next?: string;
  later?: (() => void) | undefined;
  back?: (() => void) | undefined;
  /** Begin by asking how long ago: it was already said that it is not fine. */
  isAsking?: boolean;
}

/** A question as a sentence said at the bench: look or ask, fine or not, and the remedy at once. */
export function QuestionCard({ view, card, propose, next, later, back, isAsking = false }: Props) {
  const [saying, setSaying] = useState(false);
  const [turning, setTurning] = useState(false);
  const notFine = card.status === "not_fine" && card.answer === "not_fine";
  const answer = (value: "fine" | "not_fine", minutesAgo?: number) => propose(answerTo(card, value, minutesAgo));
  const readable = useReadable(card.is_gate ? card.title : "");
  const fine = readable ? () => answer("fine") : undefined;
  const fineKey = card.is_gate ? KEY.gate : KEY.fine;
  const isTimed = card.timed_min > 0;
  const [asking, setAsking] = useState(isAsking);
  const times = isTimed ? [0, 1, 2, 3, 4].map((part) => Math.round((card.timed_min * part) / 6)) : [];
  const timeKeys = Object.fromEntries(
    times.map((value, i) => [String(i + 1), asking ? () => answer("not_fine", value) : undefined]),
  );
  useKeys(
    {
      [fineKey]: fine,
      [KEY.notFine]: notFine ? undefined : () => (isTimed ? setAsking(true) : answer("not_fine")),
      [KEY.say]: () => setSaying(true),
      [KEY.later]: notFine || asking ? later : undefined,
      [KEY.away]: notFine ? () => setTurning(true) : undefined,
      ...timeKeys,
    },
    !saying && !turning,
  );
  if (turning)
    return <TurnAway view={view} reason={`${card.title} No.`} propose={propose} back={() => setTurning(false)} />;
  return (
    <section
      className="card"
      aria-live="polite"
      data-item={card.id}
      data-gate={card.is_gate ? (readable ? "open" : "shut") : undefined}
    >
      <p className="mode">
        {card.mode === "observe" ? "Look for yourself" : "Ask"}
        <i />
        {gravityWords(card.gravity)}
        {card.policy && (
          <>
            <i />
            {card.policy}
          </>
        )}
      </p>
      <div className="card-head">
        <div>
          <h1 className="question">{card.title}</h1>
          {card.say && <p className="say">“{card.say}”</p>}
          {card.points.length > 0 && (
            <ul className="points">
              {card.points.map((one) => (
                <li key={one}>{one}</li>
              ))}
            </ul>
          )}
          {card.id === "medical" && <p className="readback plain">{view.visit.on_file}</p>}
          {(card.id === "identity" || card.id === "read_back") && (
            <p className="readback">
              {view.person}
              <span className="mono">{view.number}</span>
              {view.visit.facepiece && (
                <span>
                  {view.visit.facepiece.maker} {view.visit.facepiece.label}
                </span>
              )}
            </p>
          )}
        </div>
        {card.drawing && <StrapDrawing name={card.drawing} outline={view.visit.facepiece?.outline} />}
      </div>
      {asking && !notFine && (
        <div className="note">
          <h2>How long ago?</h2>
          <p>{card.remedy}</p>
          <div className="foot-keys">
            {times.map((value, i) => (
              <Key
                key={value}
                cap={String(i + 1)}
                label={value === 0 ? "just now" : `${value} min`}
                onPress={() => answer("not_fine", value)}
              />
            ))}
          </div>
        </div>
      )}
      {notFine && (
        <div className={`note ${card.gravity === "stop" ? "rust" : ""}`} role="alert">
          <h2>{card.gravity === "stop" ? "Stop" : "Put right first"}</h2>
          <p>{card.remedy}</p>
          {card.consequence && <p>{card.consequence}</p>}
          {card.until && <Until until={card.until} />}
          <p className="why">
            Why: {card.source} · {card.standing}
            {card.standing === "recalled" ? ", check against your copy" : ""}
          </p>
          <div className="foot-keys">
            <Key
              cap={card.is_gate ? "Y" : "Space"}
              label="put right, fine now"
              tone="tarn"
              disabled={!readable}
              onPress={() => answer("fine")}
            />
            {later && <Key cap="L" label="later, go on" onPress={later} />}
            <Key cap="T" label="turn away, with a day" tone="rust" onPress={() => setTurning(true)} />
          </div>
        </div>
      )}
      <Foot next={next}>
        {!notFine && (
          <Key
            cap={card.is_gate ? "Y" : "Space"}
            label={card.fine_words || (card.is_gate ? "yes, it is so" : "fine")}
            tone="tarn"
            disabled={!readable}
            onPress={() => answer("fine")}
          />
        )}
        {!notFine && (
          <Key
            cap="N"
            label={
              (card.not_fine_words && (isTimed ? `${card.not_fine_words}: how long ago` : card.not_fine_words)) ||
              (card.gravity === "note" ? "no, note it" : "not fine")
            }
            tone="gorse"
            onPress={() => (isTimed ? setAsking(true) : answer("not_fine"))}
          />
        )}
        {back && <Key cap="U" label="back" onPress={back} />}
        <Key cap="W" label="say it large" onPress={() => setSaying(true)} />
      </Foot>
      {saying && <SayOverlay words={card.say || card.title} close={() => setSaying(false)} />}
    </section>
  );
}

function gravityWords(gravity: string): string {
  return gravity === "stop"
    ? "a no stops the test"
    : gravity === "note"
      ? "a no is only noted"
      : "a no is put right first";
}

function Until({ until }: { until: string }) {
  const left = (Date.parse(until) - useNow(1000)) / 1000;
  return (
    <p>
      <b className="mono">{minutes(left)}</b> more; may start at {clockTime(until)}.
    </p>
  );
}
