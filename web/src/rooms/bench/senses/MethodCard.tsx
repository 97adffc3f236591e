import { useState } from "react";
import type { Schemas } from "@/shared/client";
import { KEY, useKeys } from "@/shared/keys";
import { Key } from "@/design/Key";
import type { ActProps } from "@/rooms/bench/card";
import { Foot } from "@/rooms/bench/Foot";
import { useAdvice } from "@/rooms/bench/TaskCard";

type Method = Schemas["ChooseMethod"]["method"];

/** How it is tested: what the facepiece, the book, the person and the kit leave, each with its reason. */
export function MethodCard({ view, propose, back }: Pick<ActProps, "view" | "propose" | "back">) {
  const [explaining, setExplaining] = useState(false);
  const advice = useAdvice(view).data;
  const methods = advice?.methods ?? [];
  const open = methods.filter((one) => one.verdict !== "not permitted");
  const last = view.visit.tries.at(-1)?.senses?.agent;
  const best =
    open.find((one) => one.method === last && one.verdict === "may") ??
    methods.find((one) => one.is_best) ??
    open.find((one) => one.method === "ambient_count");
  const take = (method: string) => propose({ kind: "choose_method", method: method as Method });
  useKeys({
    ...Object.fromEntries(open.map((one, i) => [String(i + 1), () => take(one.method)])),
    [KEY.fine]: best ? () => take(best.method) : undefined,
    [KEY.back]: back,
    q: () => setExplaining(!explaining),
  });
  if (explaining) return <NoTests view={view} close={() => setExplaining(false)} />;
  return (
    <section className="card" data-item="method">
      <p className="mode">
        Choose
        <i />
        {view.visit.facepiece?.maker} {view.visit.facepiece?.label}, {view.visit.facepiece?.setup}
      </p>
      <h1 className="question smaller">How is it tested?</h1>
      {view.visit.method_blocked_by && (
        <div className="note rust" role="alert">
          <h2>{view.visit.method_words}: not any more</h2>
          <p>{view.visit.method_blocked_by}</p>
        </div>
      )}
      <ul className="options methods">
        {methods.map((one) => {
          const digit = open.indexOf(one) + 1;
          return (
            <li key={one.method} className={one.verdict === "may" ? "" : "weak"}>
              <button type="button" disabled={!digit} onClick={() => take(one.method)}>
                <kbd>{digit || "–"}</kbd>
                <span>
                  <b>{one.words}</b>
                </span>
                <span className="dim">
                  {one.verdict === "not permitted" && "not permitted: "}
                  {[...one.reasons, ...one.limits].join("; ")}
                </span>
              </button>
            </li>
          );
        })}
      </ul>
      <Foot>
        {best && (
          <Key
            cap="Space"
            label={best.verdict === "may" ? best.words : `${best.words}, once its kit is ready`}
            tone={best.verdict === "may" ? "tarn" : "gorse"}
            onPress={() => take(best.method)}
          />
        )}
        <Key cap="Q" label="scent oil, a match, the kitchen?" onPress={() => setExplaining(true)} />
        {back && <Key cap="U" label="back" onPress={back} />}
      </Foot>
    </section>
  );
}

function NoTests({ view, close }: { view: ActProps["view"]; close: () => void }) {
  const list = useAdvice(view).data?.no_tests ?? [];
  useKeys({ [KEY.back]: close, [KEY.fine]: close });
  return (
    <section className="card" data-item="no_tests">
      <p className="mode">
        What is no test
        <i />
        none of these can be recorded as one
      </p>
      <h1 className="question smaller">No threshold, no dose, no test</h1>
      <ul className="lines">
        {list.map((one) => (
          <li key={one.name}>
            <div>
              <b>{one.name}</b>
              <p>{one.why}</p>
              <p className="dim">Instead: {one.instead}</p>
            </div>
          </li>
        ))}
      </ul>
      <Foot>
        <Key cap="U" label="back to the methods" onPress={close} />
      </Foot>
    </section>
  );
}
