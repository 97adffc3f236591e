import { NativeSelect } from "@mantine/core";
import { useState } from "react";
import type { Body, BenchView } from "@/shared/client";
import { useSession } from "@/shared/session";
import { Text } from "@/design/Fields";

/** A correction of a finished record: right size, void, or settled, with a reason. It never makes a pass of what was none. */
export function Correct({ view, propose }: { view: BenchView; propose: (body: Body) => void }) {
  const [open, setOpen] = useState(false);
  const [what, setWhat] = useState("void");
  const [no, setNo] = useState("1");
  const [size, setSize] = useState("");
  const [reason, setReason] = useState("");
  const session = useSession();
  const { visit } = view;
  if (!visit.tries.length || !session.data?.roles.includes("tester")) return null;
  if (!open)
    return (
      <button type="button" className="quiet" onClick={() => setOpen(true)}>
        Correct this record…
      </button>
    );
  const chosen = visit.tries.find((one) => String(one.no) === no);
  const send = () => {
    if (!chosen) return;
    propose({
      kind: "corrected",
      target: chosen.chosen_seq,
      reason,
      size: what === "size" ? size : null,
      person_id: null,
      void_run: what === "void" ? chosen.run_id : null,
    });
    setOpen(false);
  };
  return (
    <form
      className="note heath"
      onSubmit={(event) => {
        event.preventDefault();
        send();
      }}
    >
      <h2>Correct this record</h2>
      <p>
        The old revision stays readable; the result cannot be used until both have signed again. A correction never
        makes a pass.
      </p>
      <div className="field-row">
        <NativeSelect
          label="What"
          data={[
            { value: "void", label: "Void a try" },
            { value: "size", label: "Another size was worn" },
            { value: "settle", label: "Settle what came in afterwards" },
          ]}
          value={what}
          onChange={(event) => setWhat(event.currentTarget.value)}
        />
        <NativeSelect
          label="Which try"
          data={visit.tries.map((one) => ({ value: String(one.no), label: `Try ${one.no}` }))}
          value={no}
          onChange={(event) => setNo(event.currentTarget.value)}
        />
        {what === "size" && <Text label="Size that was worn" value={size} set={setSize} required maxLength={40} />}
        <Text label="Reason" value={reason} set={setReason} required maxLength={200} w={320} />
        <button className="act" type="submit">
          Correct
        </button>
        <button className="quiet" type="button" onClick={() => setOpen(false)}>
          Leave it
        </button>
      </div>
    </form>
  );
}
