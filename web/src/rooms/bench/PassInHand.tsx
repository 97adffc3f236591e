import { useState } from "react";
import type { Body, BenchView } from "@/shared/client";
import { useKeys } from "@/shared/keys";
import { Text } from "@/design/Fields";
import { Key } from "@/design/Key";

/** A level that was reached: marginal is said with what to do, and a pass may be withheld until it is signed. */
export function PassInHand({ view, propose }: { view: BenchView; propose: (body: Body) => void }) {
  const [isOpen, setOpen] = useState(false);
  const [why, setWhy] = useState("");
  const { visit } = view;
  const last = visit.tries.at(-1);
  const isPass = last?.outcome === "pass" && visit.signatures.length === 0 && !visit.closed;
  const marginal = last?.reasons.find((one) => one.code === "marginal");
  useKeys({ z: isPass && !isOpen ? () => setOpen(true) : undefined });
  if (!last || visit.closed || (!isPass && !marginal)) return null;
  return (
    <section aria-label="The pass in hand">
      {marginal && (
        <div className="note" role="status">
          <h2>Marginal</h2>
          <p>{marginal.sentence}</p>
          <p>{marginal.remedy}</p>
        </div>
      )}
      {isPass && !isOpen && (
        <div className="aside-keys">
          <Key cap="Z" label="withhold this pass" onPress={() => setOpen(true)} />
        </div>
      )}
      {isPass && isOpen && (
        <form
          className="note"
          onSubmit={(event) => {
            event.preventDefault();
            setOpen(false);
            propose({ kind: "withheld", run_id: last.run_id, reason: why });
          }}
        >
          <h2>Withhold this pass</h2>
          <Text label="Why, in a few words" value={why} set={setWhy} maxLength={200} required autoFocus size="md" />
          <div className="field-row">
            <button className="act" type="submit" disabled={!why.trim()}>
              Withhold
            </button>
            <button className="quiet" type="button" onClick={() => setOpen(false)}>
              Back
            </button>
          </div>
        </form>
      )}
    </section>
  );
}
