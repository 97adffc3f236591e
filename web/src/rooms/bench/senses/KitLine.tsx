import { Link } from "react-router";
import { clockTime } from "@/shared/clock";
import { useKeys } from "@/shared/keys";
import { Key } from "@/design/Key";
import type { HeldKit } from "@/rooms/bench/senses/useKit";

/** What is used, as its label has it; and what stands against it, with the way to put it right here and now. */
export function KitLine({ kit }: { kit: HeldKit }) {
  const { nebuliser, lots, missing, problem } = kit;
  const against = nebuliser?.blocked_by ?? [];
  const old = nebuliser?.needs.includes("filling") ?? false;
  const dry = nebuliser?.needs.includes("spray_check") ?? false;
  useKeys({
    f: old ? kit.refill : undefined,
    p: dry && !old ? kit.sprays : undefined,
    k: kit.another,
  });
  return (
    <>
      {nebuliser && (
        <p className="kit-line">
          <b className="kit-number">{nebuliser.number}</b>
          <span>
            <b>{nebuliser.name}</b>
            {nebuliser.lot ? `, lot ${nebuliser.lot.number}, use by ${nebuliser.lot.use_by}` : ""}
            {nebuliser.refill_at && against.length === 0 ? `, refill at ${clockTime(nebuliser.refill_at)}` : ""}
          </span>
          {kit.another && <Key cap="K" label="another" onPress={kit.another} />}
        </p>
      )}
      {lots.length > 0 && (
        <p className="reading">
          {lots.map((one) => `${one.role.replaceAll("_", " ")}: lot ${one.number}, use by ${one.use_by}`).join(" · ")}
        </p>
      )}
      {(against.length > 0 || missing.length > 0 || problem) && (
        <div className="note rust" role="alert">
          <h2>Not permitted with this</h2>
          <ul>
            {against.map((one) => (
              <li key={one}>
                {nebuliser?.name}: {one}
              </li>
            ))}
            {missing.map((one) => (
              <li key={one}>no {one} in date is entered</li>
            ))}
            {problem && <li>{problem}</li>}
          </ul>
          <div className="foot-keys">
            {old && kit.refill && <Key cap="F" label="rinsed and refilled, same lot" onPress={kit.refill} />}
            {dry && !old && kit.sprays && <Key cap="P" label="sprayed once: it sprays" onPress={kit.sprays} />}
            <Link to="/kit">Kit page</Link>
          </div>
        </div>
      )}
    </>
  );
}
