import { useState } from "react";
import { v7 as uuid } from "uuid";
import type { Schemas } from "@/shared/client";
import { KEY, useKeys } from "@/shared/keys";
import { Key } from "@/design/Key";
import type { ActProps } from "@/rooms/bench/card";
import { Foot } from "@/rooms/bench/Foot";
import { KitLine } from "@/rooms/bench/senses/KitLine";
import { useKit } from "@/rooms/bench/senses/useKit";

/** Everything is settled: hood on, into the chamber, or eyes shut. From here on, sensing it fails the run. */
export function SenseStart({ card, view, propose, back, plan }: ActProps & { plan: Schemas["TestPlan"] }) {
  const kit = useKit(plan.agent, plan.role, plan.lots);
  const [bends, setBends] = useState(true);
  const start = () =>
    propose({
      kind: "start_qualitative",
      run_id: uuid(),
      nebuliser_id: kit.nebuliser?.id ?? null,
      lot_ids: kit.lots.map((one) => one.id),
      bends,
    });
  const swap = plan.has_other ? () => setBends(!bends) : undefined;
  useKeys({ [KEY.fine]: kit.isReady ? start : undefined, j: swap, [KEY.back]: back });
  const piece = view.visit.facepiece;
  return (
    <section className="card" data-item={card.id}>
      <p className="mode">
        Ready
        <i />
        {piece ? `${piece.maker} ${piece.label}` : ""}
        <i />
        {view.visit.method_words}
      </p>
      <h1 className="question">{plan.begin}</h1>
      <p className="say">“{plan.begin_say}”</p>
      <p className="reading">
        {plan.first_dose ? `First ${plan.first_dose.toLowerCase()}, ${plan.doses}. ` : ""}
        {plan.exercises.length} exercises, {plan.minutes} minutes{bends ? "" : ", jogging instead of bending"}.
      </p>
      <KitLine kit={kit} />
      <Foot>
        <Key cap="Space" label={plan.begin.toLowerCase()} tone="tarn" disabled={!kit.isReady} onPress={start} />
        {swap && <Key cap="J" label={bends ? "no room to bend: jog instead" : "bending after all"} onPress={swap} />}
        {back && <Key cap="U" label="back" onPress={back} />}
      </Foot>
    </section>
  );
}
