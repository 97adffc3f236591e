import type { Body, Schemas, VisitView } from "@/api/client";
import { useKeys } from "@/app/keys";
import { OutcomeMark } from "@/design/Marks";

/** A try without a pass: why, and what may come next. */
export function DecideCard({ view, propose }: { view: VisitView; propose: (body: Body) => void }) {
  const { offers, tries } = view.picture;
  const last = tries.at(-1);
  const take = (next: string) => propose({ kind: "decided", next: next as Schemas["Decided"]["next"] });
  useKeys(Object.fromEntries(offers.map((one, i) => [String(i + 1), () => take(one.next)])));
  return (
    <section className="card" data-item="decide">
      <p className="mode">
        Try {last?.no}
        <i />
        {last?.facepiece} {last?.size}
      </p>
      <h1 className="question">
        {last && <OutcomeMark outcome={last.outcome} />}
        {last?.overall ? `, overall ${last.overall}` : ""}
      </h1>
      {last?.reasons
        .filter((one) => one.gravity !== "note")
        .map((one) => (
          <div key={one.code} className={`note ${one.gravity === "stop" ? "rust" : ""}`}>
            <h2>{one.sentence}</h2>
            {one.remedy && <p>{one.remedy}</p>}
            {one.rule && <p className="why">{one.rule}</p>}
          </div>
        ))}
      <ul className="options">
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
