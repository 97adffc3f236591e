import { useState } from "react";
import type { Schemas } from "@/shared/client";
import { useNow } from "@/shared/clock";
import { KEY, useKeys } from "@/shared/keys";
import { Text } from "@/design/Fields";
import { Key } from "@/design/Key";
import type { ActProps } from "@/rooms/bench/card";
import { Foot } from "@/rooms/bench/Foot";
import { Head } from "@/rooms/bench/Head";

/** The proof after a held run on an instrument: read by its link, or typed. */
export function CountedProof(props: ActProps) {
  return props.view.visit.proof?.is_read ? <StreamProof {...props} /> : <ProofCard {...props} />;
}

/** The seconds left for a proof, and why it can show nothing any more, empty while it can. */
function useTimeLeft(proof: Schemas["ProofView"] | null) {
  const now = useNow(500);
  const seconds = proof?.until ? Math.max(0, Math.ceil((Date.parse(proof.until) - now) / 1000)) : null;
  const late = proof?.blocking || (seconds === 0 ? "Too late: this run can no longer be proved. Run again." : "");
  return { seconds, late };
}

/** The seal is broken on purpose while the instrument reads on inside: it sees the rise itself, and nobody types it. */
function StreamProof({ card, view, propose, next, liveProof }: ActProps) {
  const { proof, tries } = view.visit;
  const { seconds, late } = useTimeLeft(proof);
  const say = () => propose({ kind: "proof_given", run_id: tries.at(-1)?.run_id ?? "", rose: false, seen: "" });
  useKeys({ [KEY.notFine]: say });
  const words = liveProof?.risen
    ? "It rose. The reading is being kept."
    : liveProof?.still
      ? "Now: lift the edge off the cheek, and hold it open."
      : "Wait: air from outside is leaving the tube.";
  return (
    <section className="card" data-item={card.id} data-proof={liveProof?.still ? "ready" : "wait"}>
      <Head card={card} view={view}>
        {late ? (
          <div className="note rust" role="alert">
            <p>{late}</p>
          </div>
        ) : (
          <div className="proof-read">
            <p className="proof-now" role="status">
              {words}
            </p>
            <p className="proof-inside">
              <b className="mono">{liveProof?.inside ?? "–"}</b> {proof?.unit} inside
            </p>
            <p className="proof-need">
              It must rise to <b className="mono">{proof?.least}</b> {proof?.unit}.
            </p>
            {seconds !== null && (
              <p className="proof-need" role="timer">
                <b className="mono">{seconds} s</b> left, still worn.
              </p>
            )}
            <p className="why">
              Next to nothing was read in the whole run. That may be a very good seal, a blocked line, or a HEPA filter
              left on it; only the instrument can tell them apart.
            </p>
          </div>
        )}
      </Head>
      <Foot next={next}>
        <Key cap="N" label={late ? "cannot be proved: void" : "it does not rise: void"} tone="rust" onPress={say} />
      </Foot>
    </section>
  );
}

/** The seal is broken on purpose: the figure that the display reaches is typed, soon after the end, still worn. */
function ProofCard({ card, view, propose, next }: ActProps) {
  const { proof, tries } = view.visit;
  const [seen, setSeen] = useState("");
  const runId = tries.at(-1)?.run_id ?? "";
  const { seconds, late } = useTimeLeft(proof);
  const say = (rose: boolean) => propose({ kind: "proof_given", run_id: runId, rose, seen: rose ? seen : "" });
  useKeys({ [KEY.notFine]: () => say(false) });
  return (
    <section className="card" data-item={card.id}>
      <Head card={card} view={view}>
        <div className="note">
          <h2>Held: next to nothing was read inside</h2>
          <p>
            That may be a very good seal, a blocked line, or a HEPA filter left on it. Break the seal: the number must
            rise{proof?.least ? ` to ${proof.least} ${proof.unit} or more` : ""}.
          </p>
          {late ? (
            <p className="rust" role="alert">
              {late}
            </p>
          ) : (
            seconds !== null && (
              <p role="timer">
                <b className="mono">{seconds} s</b> left for it, still worn.
              </p>
            )
          )}
        </div>
        {!late && (
          <form
            className="field-row"
            onSubmit={(event) => {
              event.preventDefault();
              if (seen) say(true);
            }}
          >
            <Text
              label={`Highest number seen inside, ${proof?.unit ?? ""}`}
              inputMode="decimal"
              value={seen}
              set={(text) => setSeen(text.replaceAll(/[^0-9.,]/g, "").replace(",", "."))}
              onKeyDown={(event) => {
                if (event.key.toLowerCase() === "n") say(false); // letters are no figure: the key stays a key
              }}
              autoFocus
              size="xl"
            />
            <button className="act" type="submit" disabled={!seen}>
              It rose to this
            </button>
          </form>
        )}
      </Head>
      <Foot next={next}>
        <Key
          cap="N"
          label={late ? "cannot be proved: void" : "it did not rise: void"}
          tone="rust"
          onPress={() => say(false)}
        />
      </Foot>
    </section>
  );
}

/** The proof after a run without detection: the agent must be sensed now, or the run shows nothing. */
export function SenseProof({ card, view, propose, next }: ActProps) {
  const last = view.visit.tries.at(-1);
  const say = (sensed: boolean) => propose({ kind: "proof_sensed", run_id: last?.run_id ?? "", sensed });
  useKeys({ [KEY.fine]: () => say(true), [KEY.notFine]: () => say(false) });
  return (
    <section className="card" data-item={card.id}>
      <Head card={card} view={view}>
        <div className="note">
          <h2>Held: nothing was sensed from start to end</h2>
          <p>That may be a good seal, or a nose that has got used to it. It must be sensed now.</p>
        </div>
      </Head>
      <Foot next={next}>
        <Key cap="Space" label="yes, sensed: the proof holds" tone="tarn" onPress={() => say(true)} />
        <Key cap="N" label="not sensed: void" tone="rust" onPress={() => say(false)} />
      </Foot>
    </section>
  );
}
