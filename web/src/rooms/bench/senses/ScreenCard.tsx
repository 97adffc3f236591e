import { useEffect, useState } from "react";
import { v7 as uuid } from "uuid";
import type { Schemas } from "@/shared/client";
import { minutes, useNow } from "@/shared/clock";
import { KEY, useKeys } from "@/shared/keys";
import { cue, useSound } from "@/shared/sound";
import { Key } from "@/design/Key";
import { ThingDrawing } from "@/design/ThingDrawing";
import type { ActProps } from "@/rooms/bench/card";
import { Foot } from "@/rooms/bench/Foot";
import { KitLine } from "@/rooms/bench/senses/KitLine";
import { useKit } from "@/rooms/bench/senses/useKit";

interface Props extends ActProps {
  plan: Schemas["ScreeningView"];
}

/** Screening, no facepiece on: threshold by squeezes, two jars, or a weak whiff. */
export function ScreenCard(props: ActProps) {
  const plan = props.view.visit.screening;
  if (!plan) return null;
  if (plan.id === "") return <Begin {...props} plan={plan} />;
  if (plan.by === "jars") return <Jars {...props} plan={plan} />;
  if (plan.by === "whiff") return <Whiff {...props} plan={plan} />;
  return <Squeezes {...props} plan={plan} />;
}

const BEGIN: Record<string, string> = {
  squeezes: "Hood on, no facepiece: begin",
  jars: "Draw the order of the jars",
  whiff: "Eyes shut: give a weak whiff",
};

const DRAWN: Record<string, string> = { squeezes: "nebuliser", jars: "jars", whiff: "tube" };

function Begin({ card, view, propose, back, plan }: Props) {
  const kit = useKit(plan.agent, plan.role, plan.lots);
  const now = useNow(500);
  const left = plan.again_at ? (Date.parse(plan.again_at) - now) / 1000 : 0;
  const ready = kit.isReady && left <= 0;
  const start = () =>
    propose({
      kind: "start_screening",
      screening_id: uuid(),
      nebuliser_id: kit.nebuliser?.id ?? null,
      lot_ids: kit.lots.map((one) => one.id),
    });
  useKeys({ [KEY.fine]: ready ? start : undefined, [KEY.back]: back });
  return (
    <section className="card" data-item={card.id}>
      <p className="mode">
        Do, no facepiece on
        <i />
        {plan.source}
      </p>
      <div className="card-head">
        <div>
          <h1 className="question">
            {plan.sets.length ? "Threshold: what can " : "Can "}
            {view.first_name}
            {plan.sets.length ? " taste?" : ` sense it at all?`}
          </h1>
          <p className="say">“{plan.say}”</p>
        </div>
        <ThingDrawing name={DRAWN[plan.by] ?? ""} />
      </div>
      {plan.result === "spoilt" && (
        <p className="note">The last one was broken off: it is made again from the start.</p>
      )}
      {left > 0 && (
        <p className="note" role="timer">
          Not sensed after a test: the nose needs a rest. Again in {minutes(left)}, in fresh air meanwhile.
        </p>
      )}
      <KitLine kit={kit} />
      <Foot>
        <Key cap="Space" label={BEGIN[plan.by] ?? "begin"} tone="tarn" disabled={!ready} onPress={start} />
        {back && <Key cap="U" label="back" onPress={back} />}
      </Foot>
    </section>
  );
}

function Squeezes({ propose, plan, card, pending }: Props) {
  const sound = useSound();
  const most = plan.sets.at(-1) ?? 30;
  const done = Math.min(most, plan.squeezes + pending("squeezed"));
  const [beat, setBeat] = useState(0);
  const begun = done > 0;
  useEffect(() => {
    if (!begun) return;
    const timer = window.setInterval(() => {
      cue.beat();
      setBeat((old) => old + 1);
    }, plan.beat_ms);
    return () => window.clearInterval(timer);
  }, [begun, plan.beat_ms]);
  const squeeze = () => propose({ kind: "squeezed", screening_id: plan.id });
  const tasted = () => propose({ kind: "detected", about: plan.id, by: "tester" });
  const none = () => propose({ kind: "screened", screening_id: plan.id, answer: "none" });
  const isOver = done >= most;
  useKeys({
    [KEY.fine]: isOver ? undefined : squeeze,
    d: done > 0 ? tasted : undefined,
    [KEY.notFine]: isOver ? none : undefined,
    [KEY.stop]: () => propose({ kind: "stopped", why: "" }),
    m: sound.toggle,
  });
  return (
    <section className="card sense" data-item={card.id} data-squeezes={done}>
      <p className="mode">
        Threshold
        <i />
        no facepiece on
      </p>
      <h1 className="question smaller">Full squeezes, on the beat</h1>
      <div className="squeeze-head">
        <div className="squeeze-count mono" role="status" aria-label={`${done} of ${most} squeezes`}>
          {done}
          <small>of {most}</small>
        </div>
        <Sets sets={plan.sets} done={done} />
        <span className={`beat ${beat % 2 ? "odd" : ""}`} aria-hidden="true" />
      </div>
      <p className="say">“{isOver ? "Anything at all? Take your time." : plan.say}”</p>
      <Foot above={<SensedKey word={`${plan.sensed}: stop squeezing`} disabled={done === 0} onPress={tasted} />}>
        {!isOver && <Key cap="Space" label="one squeeze" tone="tarn" onPress={squeeze} />}
        {isOver && <Key cap="N" label={`not ${plan.sensed}: this agent is out`} tone="rust" onPress={none} />}
        <Key cap="S" label="break off" onPress={() => propose({ kind: "stopped", why: "" })} />
        <Key cap="M" label={sound.isOn ? "sound off" : "sound on"} onPress={sound.toggle} />
      </Foot>
    </section>
  );
}

/** Three sets of stones, one for each squeeze. */
function Sets({ sets, done }: { sets: number[]; done: number }) {
  return (
    <div className="sets" aria-hidden="true">
      {sets.map((end, i) => {
        const from = sets[i - 1] ?? 0;
        return (
          <div key={end} className={done > from && done <= end ? "now" : ""}>
            <span>
              {Array.from({ length: end - from }, (_, n) => (
                <i key={n} className={from + n < done ? "given" : ""} />
              ))}
            </span>
            <small>{end}</small>
          </div>
        );
      })}
    </div>
  );
}

/** The biggest key: sensed, at any moment. */
export function SensedKey({
  word,
  onPress,
  disabled = false,
}: {
  word: string;
  onPress: () => void;
  disabled?: boolean;
}) {
  return (
    <button
      type="button"
      className="sensed-key"
      disabled={disabled}
      aria-keyshortcuts="D"
      onClick={(event) => {
        event.currentTarget.blur();
        onPress();
      }}
    >
      <kbd>D</kbd>
      {word}
    </button>
  );
}

function Jars({ propose, plan, card, view }: Props) {
  const [isShown, setShown] = useState(false);
  const name = (answer: "left" | "right" | "none") => propose({ kind: "screened", screening_id: plan.id, answer });
  useKeys({
    "1": isShown ? () => name("left") : undefined,
    "2": isShown ? () => name("right") : undefined,
    [KEY.notFine]: isShown ? () => name("none") : undefined,
    [KEY.fine]: isShown ? undefined : () => setShown(true),
    [KEY.stop]: () => propose({ kind: "stopped", why: "" }),
  });
  return (
    <section className="card sense" data-item={card.id}>
      <p className="mode">
        Two jars
        <i />
        the program drew the order, for your eyes only
      </p>
      <h1 className="question">{isShown ? `Which one does ${view.first_name} name?` : "Set them out like this"}</h1>
      {isShown ? (
        <p className="say">“{plan.say}”</p>
      ) : (
        <div className="jars" role="img" aria-label={`Odour jar ${plan.odour_jar}, blank on the other side`}>
          {(["left", "right"] as const).map((side) => (
            <div key={side} className={side === plan.odour_jar ? "odour" : ""}>
              <svg viewBox="0 0 120 130" aria-hidden="true">
                <path d="M34 10h52v16l12 14v76a8 8 0 0 1-8 8H30a8 8 0 0 1-8-8V40l12-14z" />
                {side === plan.odour_jar && <path className="wave" d="M38 80q11-12 22 0t22 0M38 98q11-12 22 0t22 0" />}
              </svg>
              <b>{side === plan.odour_jar ? "odour" : "blank"}</b>
              <small>{side}</small>
            </div>
          ))}
        </div>
      )}
      <Foot>
        {!isShown && <Key cap="Space" label="set out and shaken" tone="tarn" onPress={() => setShown(true)} />}
        {isShown && <Key cap="1" label="says left" onPress={() => name("left")} />}
        {isShown && <Key cap="2" label="says right" onPress={() => name("right")} />}
        {isShown && <Key cap="N" label="smells neither" tone="gorse" onPress={() => name("none")} />}
        <Key cap="S" label="break off" onPress={() => propose({ kind: "stopped", why: "" })} />
      </Foot>
    </section>
  );
}

function Whiff({ propose, plan, card }: Props) {
  const reacts = () => propose({ kind: "detected", about: plan.id, by: "tester" });
  const none = () => propose({ kind: "screened", screening_id: plan.id, answer: "none" });
  useKeys({
    d: reacts,
    [KEY.notFine]: none,
    [KEY.stop]: () => propose({ kind: "stopped", why: "" }),
    e: () => propose({ kind: "distress" }),
  });
  return (
    <section className="card sense" data-item={card.id}>
      <p className="mode">
        Weak whiff
        <i />
        the least smoke that does it, eyes shut
      </p>
      <h1 className="question">One weak whiff, from a distance</h1>
      <p className="say">“{plan.say}”</p>
      <Foot above={<SensedKey word="reacts: enough, smoke away" onPress={reacts} />}>
        <Key cap="N" label="no reaction" tone="gorse" onPress={none} />
        <Key cap="S" label="break off" onPress={() => propose({ kind: "stopped", why: "" })} />
        <Key cap="E" label="unwell: fresh air" tone="rust" onPress={() => propose({ kind: "distress" })} />
      </Foot>
    </section>
  );
}
