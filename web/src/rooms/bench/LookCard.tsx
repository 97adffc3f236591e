import { useState } from "react";
import type { Card, Schemas } from "@/shared/client";
import { KEY, useKeys } from "@/shared/keys";
import { Key } from "@/design/Key";
import { StrapDrawing } from "@/design/StrapDrawing";
import { allFine, answerTo } from "@/rooms/bench/answers";
import { Foot } from "@/rooms/bench/Foot";
import { SayOverlay } from "@/rooms/bench/SayOverlay";
import { useReadable } from "@/rooms/bench/readable";
import { Papers } from "@/rooms/common/Papers";
import type { CardProps } from "@/rooms/bench/card";

export interface LookProps extends Omit<CardProps, "card"> {
  look: Schemas["LookView"];
  cards: Card[];
  /** Called with the one that is not as it should be where its card must ask more, such as how long ago. */
  open: (card: Card) => void;
  next?: string | undefined;
  later?: (() => void) | undefined;
  back?: (() => void) | undefined;
}

const GOODBYE = "goodbye";
/** The look at which card and letter are handed over: they are printed there. */

/** What is looked at or asked together: all as it should be with one key, the digit of the one that is not. */
export function LookCard({ view, look, cards, propose, open, next, later, back }: LookProps) {
  const [saying, setSaying] = useState(false);
  const [isAsked, setAsked] = useState(false);
  const isReadable = useReadable(look.title, view.visit.speed);
  const fine = isReadable ? () => propose(allFine(cards)) : undefined;
  const notFine = (card: Card) => (card.timed_min > 0 ? open(card) : propose(answerTo(card, "not_fine")));
  useKeys(
    {
      ...Object.fromEntries(cards.map((one, i) => [String(i + 1), () => notFine(one)])),
      [KEY.fine]: fine,
      [KEY.notFine]: () => setAsked(true),
      [KEY.say]: look.say ? () => setSaying(true) : undefined,
      [KEY.later]: later,
    },
    !saying,
  );
  const drawing = [...cards].reverse().find((one) => one.drawing)?.drawing ?? "";
  return (
    <section className="card look" aria-live="polite" data-item={look.id} data-look={isReadable ? "open" : "shut"}>
      <p className="mode">
        Look and ask
        <i />
        {cards.length} together
      </p>
      <h1 className="question">{look.title}</h1>
      {look.say && <p className="say">“{look.say}”</p>}
      <div className="look-body">
        <ol className="look-lines" aria-label="Press what is not so">
          {cards.map((one, i) => (
            <li key={one.id}>
              <button type="button" onClick={() => notFine(one)}>
                <kbd>{i + 1}</kbd>
                <span>{one.line}</span>
              </button>
            </li>
          ))}
        </ol>
        {drawing && <StrapDrawing name={drawing} outline={view.visit.facepiece?.outline} />}
      </div>
      {look.id === GOODBYE && view.visit.is_signed && (
        <Papers visitId={view.visit_id} passed isReal={!view.visit.is_practice} isShort />
      )}
      {isAsked && (
        <p className="which" role="status">
          Which one is not? Press its digit.
        </p>
      )}
      <Foot next={next}>
        <Key cap="Space" label="all as it should be" tone="tarn" disabled={!isReadable} onPress={() => fine?.()} />
        <Key cap="N" label="one is not" tone="gorse" onPress={() => setAsked(true)} />
        {back && <Key cap="U" label="back" onPress={back} />}
        {later && <Key cap="L" label="later" onPress={later} />}
        {look.say && <Key cap="W" label="say it large" onPress={() => setSaying(true)} />}
      </Foot>
      {saying && <SayOverlay words={look.say} close={() => setSaying(false)} />}
    </section>
  );
}
