import type { Body, Schemas, BenchView } from "@/shared/client";
import { KEY, useKeys } from "@/shared/keys";
import { Key } from "@/design/Key";
import { answerTo } from "@/rooms/bench/answers";

const STEPS = ["Mask off", "Fresh air", "Sit down", "Stay with them", "First aid", "Then the clinician"];

interface Props {
  view: BenchView;
  card: Schemas["Card"];
  propose: (body: Body) => void;
}

/** Somebody is unwell: one thing only, and nothing else is offered. It is written down afterwards. */
export function DistressCard({ view, card, propose }: Props) {
  const done = () => {
    if (view.visit.worn_since) {
      propose({ kind: "doffed", why: "done" });
      return;
    }
    propose(answerTo(card, "fine"));
  };
  const isOn = view.visit.worn_since !== null;
  useKeys({ [KEY.fine]: done });
  return (
    <section className="card distress" role="alert" data-item={card.id} data-worn={isOn}>
      <h1 className="question">{isOn ? "Mask off, now" : "Stay with them"}</h1>
      <p className="say">“{card.say}”</p>
      <ol className="care">
        {STEPS.map((one, index) => (
          <li key={one} className={index === 0 && !isOn ? "done" : ""}>
            {one}
          </li>
        ))}
      </ol>
      <footer className="foot">
        <div className="foot-keys">
          <Key cap="Space" label={isOn ? "the mask is off" : "they are looked after"} tone="tarn" onPress={done} />
        </div>
      </footer>
    </section>
  );
}
