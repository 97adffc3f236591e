import { useState } from "react";
import type { Card } from "@/shared/client";
import { KEY, useKeys } from "@/shared/keys";
import { Key } from "@/design/Key";
import { allFine } from "@/rooms/bench/answers";
import { Foot } from "@/rooms/bench/Foot";
import { SayOverlay } from "@/rooms/bench/SayOverlay";
import { Verdict } from "@/rooms/bench/Verdict";
import type { LookProps } from "@/rooms/bench/LookCard";
import { useReadable } from "@/rooms/bench/readable";

/** The result, as soon as it stands: pass, how well, what it is good for; told to the wearer with one key. */
export function ResultCard({ view, look, cards, propose, next, back }: Omit<LookProps, "open" | "later">) {
  const [saying, setSaying] = useState(false);
  const isReadable = useReadable(look.title, view.visit.speed);
  const last = view.visit.tries.at(-1);
  const told = isReadable ? () => propose(allFine(cards)) : undefined;
  useKeys({ [KEY.fine]: told, [KEY.say]: () => setSaying(true) }, !saying);
  if (!last) return null;
  return (
    <section
      className="card result"
      data-item={look.id}
      data-look={isReadable ? "open" : "shut"}
      data-outcome={last.outcome}
    >
      <p className="mode">
        Result
        <i />
        {last.facepiece} {last.size}
        <i />
        try {last.no}
      </p>
      <Verdict one={last} />
      <ul className="limits">
        {view.visit.limits_of_use.map((one) => (
          <li key={one}>{one}</li>
        ))}
      </ul>
      <Foot next={next}>
        <Key cap="Space" label={toldWords(cards)} tone="tarn" disabled={!isReadable} onPress={() => told?.()} />
        {back && <Key cap="U" label="back" onPress={back} />}
        <Key cap="W" label="say it large" onPress={() => setSaying(true)} />
      </Foot>
      {saying && <SayOverlay words={`${last.tell} ${look.say}`} close={() => setSaying(false)} />}
    </section>
  );
}

function toldWords(cards: Card[]): string {
  return cards.length > 1 ? "told, with its limits" : "told";
}
