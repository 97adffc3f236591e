import { useState } from "react";
import { useNow } from "@/shared/clock";
import { KEY, useKeys } from "@/shared/keys";
import { FaceMap, type Place, PLACES } from "@/design/FaceMap";
import { Key } from "@/design/Key";
import { StrapDrawing } from "@/design/StrapDrawing";
import type { ActProps } from "@/rooms/bench/card";
import { Foot } from "@/rooms/bench/Foot";

/** The user seal check, one check after the other: the wearer's answer and the tester's own. Never a fit test. */
export function SealCard({ card, view, propose, next, back }: ActProps) {
  const { visit } = view;
  const [leaking, setLeaking] = useState(false);
  const [who, setWho] = useState<"wearer" | "tester" | "both" | "">("");
  const open = visit.seal_checks.find((one) => one.result !== "holds") ?? visit.seal_checks[0];
  const leaked = visit.has_leaked;
  const hold = useHold(open?.hold_since ?? null, open?.held_s ?? 0);
  const name = open?.check === "negative" ? "negative" : "positive";
  const done = () => {
    setLeaking(false);
    setWho("");
  };
  const begin = () => propose({ kind: "seal_hold_begun", check: name });
  const holds = () => {
    done();
    propose({ kind: "seal_checked", check: name, wearer: "holds", tester: "holds", place: "" });
  };
  const leaks = (place: Place) => {
    done();
    propose({
      kind: "seal_checked",
      check: name,
      wearer: who === "tester" ? "holds" : "leaks",
      tester: who === "wearer" ? "holds" : "leaks",
      place,
    });
  };
  const tape = visit.tape ? () => propose({ kind: "alteration_made", alteration: visit.tape }) : undefined;
  const taped = visit.alterations.find((one) => one.rule === "tape");
  const untape = taped ? () => propose({ kind: "alteration_undone", alteration: taped.id }) : undefined;
  const whoKeys = { 1: () => setWho("wearer"), 2: () => setWho("tester"), 3: () => setWho("both") };
  const placeKeys = Object.fromEntries(PLACES.map((place, i) => [String(i + 1), () => leaks(place)]));
  const isLimit = visit.seal_fails >= visit.seal_fails_allowed;
  const may = !leaking && !leaked && !isLimit;
  const isHeld = (open?.held_s ?? 0) > 0;
  const first = isHeld && hold === null ? begin : holds;
  const fine = may && (!isHeld || hold === null || hold === 0) ? first : undefined;
  useKeys({
    [KEY.fine]: fine,
    [KEY.notFine]: leaked || isLimit ? undefined : () => setLeaking(true),
    h: may && isHeld ? begin : undefined,
    p: taped ? untape : tape,
    ...(leaking ? (who ? placeKeys : whoKeys) : {}),
  });
  if (!open) return <p className="reading">No seal check is known for this facepiece. Choose another.</p>;
  return (
    <section className="card" data-item={card.id}>
      <p className="mode">
        {visit.seal_word}
        <i />
        {open.check} pressure · {card.policy} · never a fit test
      </p>
      <div className="card-head">
        <div>
          <h1 className="question">{!leaking ? open.how : who ? "Where does it leak?" : "Who noticed?"}</h1>
          {!leaking && <p className="say">“{card.say} Do you feel air anywhere?”</p>}
          {leaking && !who && (
            <div className="foot-keys">
              <Key cap="1" label="the wearer feels it" onPress={() => setWho("wearer")} />
              <Key cap="2" label="I see or hear it" onPress={() => setWho("tester")} />
              <Key cap="3" label="both" onPress={() => setWho("both")} />
            </div>
          )}
          {leaking && who && (
            <>
              <p className="say">Touch the face, or press its digit.</p>
              <p className="places">
                {PLACES.map((place, i) => (
                  <span key={place}>
                    <kbd>{i + 1}</kbd> {place}
                  </span>
                ))}
              </p>
            </>
          )}
          {hold !== null && !leaked && !leaking && (
            <p className="hold" role="timer">
              {hold > 0 ? (
                <>
                  hold <b className="mono">{hold}</b>
                </>
              ) : (
                <b>held long enough: does it hold?</b>
              )}
            </p>
          )}
        </div>
        {leaking && who ? (
          <FaceMap choose={leaks} isFull={visit.facepiece?.outline === "full"} />
        ) : (
          <StrapDrawing name={`seal_${name}`} outline={visit.facepiece?.outline} />
        )}
      </div>
      {leaked && !leaking && (
        <div className={`note ${isLimit ? "rust" : ""}`} role="alert">
          <h2>It leaked, {visit.seal_fails} so far</h2>
          <p>{isLimit ? "Enough: another facepiece. Take this one off (R), then choose again." : visit.seal_remedy}</p>
          {!isLimit && (
            <p>First refit it: X when adjusted, R when taken off. Then check again. A fogging visor proves nothing.</p>
          )}
        </div>
      )}
      <Foot next={next}>
        {may && (
          <Key
            cap="Space"
            label={isHeld && hold === null ? `hands on: hold ${open.held_s} s` : "no leak: we both agree"}
            tone="tarn"
            disabled={!fine}
            onPress={() => fine?.()}
          />
        )}
        {!leaked && !isLimit && !leaking && <Key cap="N" label="leaks" tone="gorse" onPress={() => setLeaking(true)} />}
        {may && isHeld && hold !== null && <Key cap="H" label="hold again" onPress={begin} />}
        {(tape ?? untape) && (
          <Key cap="P" label={taped ? "tape off" : "tape on the valve"} onPress={() => (untape ?? tape)?.()} />
        )}
        {back && <Key cap="U" label="back" onPress={back} />}
      </Foot>
    </section>
  );
}

/** The seconds that a check is still to be held, 0 once it is long enough; null before a hold was begun. */
function useHold(since: string | null, seconds: number): number | null {
  const now = useNow(200);
  if (since === null || seconds === 0) return null;
  return Math.max(0, Math.ceil((Date.parse(since) + seconds * 1000 - now) / 1000));
}
