import { useState } from "react";
import { KEY, useKeys } from "@/app/keys";
import { Key } from "@/design/Key";
import type { ActProps } from "@/features/bench/ActCard";
import { Foot } from "@/features/bench/Foot";

const PLACES = ["nose", "eyes", "cheek", "temple", "chin", "throat", "valve"] as const;
type Place = (typeof PLACES)[number];

/** The user seal check, one check after the other: the wearer's answer and the tester's own. Never a fit test. */
export function SealCard({ card, view, propose, next, back }: ActProps) {
  const { picture } = view;
  const [leaking, setLeaking] = useState(false);
  const [who, setWho] = useState<"wearer" | "tester" | "both" | "">("");
  const open = picture.seal_checks.find((one) => one.result !== "holds") ?? picture.seal_checks[0];
  const leaked = open?.result === "leaks";
  const name = open?.check === "negative" ? "negative" : "positive";
  const holds = () => {
    setLeaking(false);
    propose({ kind: "seal_checked", check: name, wearer: "holds", tester: "holds", place: "" });
  };
  const leaks = (place: Place) => {
    setLeaking(false);
    setWho("");
    propose({
      kind: "seal_checked",
      check: name,
      wearer: who === "tester" ? "holds" : "leaks",
      tester: who === "wearer" ? "holds" : "leaks",
      place,
    });
  };
  const whoKeys = { 1: () => setWho("wearer"), 2: () => setWho("tester"), 3: () => setWho("both") };
  const placeKeys = Object.fromEntries(PLACES.map((place, i) => [String(i + 1), () => leaks(place)]));
  useKeys({
    [KEY.fine]: leaking ? undefined : holds,
    [KEY.notFine]: () => setLeaking(true),
    ...(leaking ? (who ? placeKeys : whoKeys) : {}),
  });
  if (!open) return <p className="reading">No seal check is known for this facepiece. Choose another.</p>;
  return (
    <section className="card" data-item={card.id}>
      <p className="mode">
        {picture.seal_word}
        <i />
        {open.check} pressure · never a fit test
      </p>
      <h1 className="question">{open.how}</h1>
      <p className="say">“{card.say} Do you feel air anywhere?”</p>
      {leaking && !who && (
        <div className="note">
          <h2>Who noticed?</h2>
          <div className="foot-keys">
            <Key cap="1" label="the wearer feels it" onPress={() => setWho("wearer")} />
            <Key cap="2" label="I see or hear it" onPress={() => setWho("tester")} />
            <Key cap="3" label="both" onPress={() => setWho("both")} />
          </div>
        </div>
      )}
      {leaking && who && (
        <div className="note">
          <h2>Where does it leak?</h2>
          <div className="foot-keys">
            {PLACES.map((place, i) => (
              <Key key={place} cap={String(i + 1)} label={place} onPress={() => leaks(place)} />
            ))}
          </div>
        </div>
      )}
      {leaked && !leaking && (
        <div className={`note ${picture.seal_fails >= picture.seal_fails_allowed ? "rust" : ""}`} role="alert">
          <h2>It leaked, {picture.seal_fails} so far</h2>
          <p>
            {picture.seal_fails >= picture.seal_fails_allowed
              ? "Another facepiece: take this one off (R), then choose again."
              : "Straps along the head, reseat, nose piece with two hands. X when adjusted, R when taken off; then check again. Same place twice: inspect it."}
          </p>
        </div>
      )}
      <Foot next={next}>
        <Key cap="Space" label="holds, both of us" tone="tarn" onPress={holds} />
        <Key cap="N" label="leaks" tone="gorse" onPress={() => setLeaking(true)} />
        {back && <Key cap="U" label="back" onPress={back} />}
      </Foot>
    </section>
  );
}
