import { useState } from "react";
import type { Body, Schemas, BenchView } from "@/shared/client";
import { useKeys } from "@/shared/keys";
import { Text } from "@/design/Fields";
import { useAdvice } from "@/rooms/bench/TaskCard";
import { Verdict } from "@/rooms/bench/Verdict";

/** A try without a pass: why, and what may come next. */
export function DecideCard({ view, propose }: { view: BenchView; propose: (body: Body) => void }) {
  const { offers, tries, cause } = view.visit;
  const last = tries.at(-1);
  const take = (next: string) => propose({ kind: "decided", next: next as Schemas["Decided"]["next"] });
  // that the number is too low stands above already; anything else is said with what to do about it
  const reasons = (last?.reasons ?? []).filter((one) => one.gravity !== "note" && one.code !== "below_level");
  const advice = useAdvice(view).data;
  useKeys(Object.fromEntries(offers.map((one, i) => [String(i + 1), () => take(one.next)])));
  return (
    <section className="card" data-item="decide">
      <p className="mode">
        Try {last?.no}
        <i />
        {last?.facepiece} {last?.size}
      </p>
      {last && <Verdict one={last} isShort />}
      {reasons.map((one) => (
        <div key={one.code} className={`note ${one.gravity === "stop" ? "rust" : ""}`}>
          <h2>{one.sentence}</h2>
          {one.remedy && <p>{one.remedy}</p>}
          {one.rule && <p className="why">{one.rule}</p>}
        </div>
      ))}
      {last?.senses?.detected_by === "wearer" && last.outcome === "fail" && (
        <Mistaken runId={last.run_id} propose={propose} />
      )}
      {(cause || advice?.next.length) && (
        <p className="reading">
          {cause && !reasons.some((one) => one.remedy.includes(cause)) ? `${cause} ` : ""}
          {advice && advice.next.length > 0 && (
            <>
              To try next: <b>{advice.next.map((one) => one.label).join(", then ")}</b>.
            </>
          )}
        </p>
      )}
      <ul className="options decide">
        {offers.map((one, i) => (
          <li key={one.next}>
            <button type="button" onClick={() => take(one.next)}>
              <kbd>{i + 1}</kbd>
              <span>
                <b>{one.label}</b>
              </span>
              <span className="dim">{one.detail}</span>
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The wearer pressed by mistake: said with its reason, it voids the try; nothing revives it. */
function Mistaken({ runId, propose }: { runId: string; propose: (body: Body) => void }) {
  const [isOpen, setOpen] = useState(false);
  const [why, setWhy] = useState("");
  useKeys({ b: isOpen ? undefined : () => setOpen(true) });
  if (!isOpen)
    return (
      <p>
        <button type="button" className="quiet" aria-keyshortcuts="B" onClick={() => setOpen(true)}>
          Pressed by mistake on the wearer’s screen <kbd>B</kbd>
        </button>
      </p>
    );
  return (
    <form
      className="note"
      onSubmit={(event) => {
        event.preventDefault();
        propose({ kind: "detection_mistaken", run_id: runId, reason: why });
      }}
    >
      <h2>A mistake voids this try; it never makes a pass of it</h2>
      <div className="field-row">
        <Text label="What the wearer says" value={why} set={setWhy} maxLength={200} required autoFocus size="md" />
        <button className="act" type="submit" disabled={!why.trim()}>
          Void it
        </button>
      </div>
    </form>
  );
}
