import { useState } from "react";
import { api, type BenchView, keys, unwrap } from "@/shared/client";
import { useChange } from "@/shared/attempt";
import { useSession } from "@/shared/session";
import { Problem, Text } from "@/design/Fields";

/** An administrator takes a pass away, with the reason: nobody wears anything on its strength from then on. */
export function WithdrawPass({ view }: { view: BenchView }) {
  const [open, setOpen] = useState(false);
  const [why, setWhy] = useState("");
  const session = useSession();
  const { problem, change } = useChange([keys.visit(view.visit_id), ["person"], ["records"]]);
  const last = view.visit.tries.at(-1);
  if (last?.outcome !== "pass" || !session.data?.roles.includes("administrator")) return null;
  if (!open)
    return (
      <button type="button" className="quiet" onClick={() => setOpen(true)}>
        Withdraw this pass…
      </button>
    );
  const withdraw = () =>
    change(async () => {
      await unwrap(
        api.POST("/api/visits/{visit_id}/withdraw", {
          params: { path: { visit_id: view.visit_id } },
          body: { run_id: last.run_id, why },
        }),
      );
      setOpen(false);
    });
  return (
    <form
      className="note rust"
      aria-label="Withdraw this pass"
      onSubmit={(event) => {
        event.preventDefault();
        void withdraw();
      }}
    >
      <h2>Withdraw this pass</h2>
      <p>
        {view.person} may not wear {last.facepiece} {last.size} by this test from now on. The record stays, with your
        name and the reason.
      </p>
      <div className="field-row">
        <Text label="Why it does not count" value={why} set={setWhy} required maxLength={400} w={360} />
        <button className="act" type="submit">
          Withdraw it
        </button>
        <button className="quiet" type="button" onClick={() => setOpen(false)}>
          Leave it
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}
