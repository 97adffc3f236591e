import type { CSSProperties } from "react";
import type { Schemas } from "@/shared/client";
import { OutcomeMark } from "@/design/Marks";
import "./Verdict.css";

/** `isShort` leaves room for what comes next. A try that is over, to be read from where the tester stands: the word, the numbers, what to say, each exercise. */
export function Verdict({ one, isShort = false }: { one: Schemas["TryView"]; isShort?: boolean }) {
  return (
    <>
      <div className={isShort ? "verdict short" : "verdict"}>
        <h1>
          <OutcomeMark outcome={one.outcome} />
        </h1>
        {one.overall && ["pass", "fail"].includes(one.outcome) && (
          <p className="verdict-number">
            <b className="mono">{one.overall}</b>
            <span>needs {one.level}</span>
          </p>
        )}
      </div>
      {one.tell && <p className="say">“{one.tell}”</p>}
      {one.exercises.length > 0 && (
        <table
          className={isShort || one.exercises.length > 5 ? "verdict-rows many" : "verdict-rows"}
          style={{ "--rows": Math.ceil(one.exercises.length / 2) } as CSSProperties}
        >
          <thead className="visually-hidden">
            <tr>
              <th>Exercise</th>
              <th>Fit factor</th>
              <th>Against the level</th>
            </tr>
          </thead>
          <tbody>
            {one.exercises.map((row, i) => (
              <tr key={`${i}${row.name}`} className={row.reaches ? "" : "under"}>
                <th scope="row">{row.name}</th>
                <td className="mono">{row.factor}</td>
                <td>
                  {row.reaches ? "" : "under"}
                  {i === one.worst ? (row.reaches ? "lowest" : ", lowest") : ""}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {one.is_marginal && (
        <p className="verdict-marginal">
          Marginal: with so few particles counted it may be as low as {one.bound}. It stands as it is; say so.
        </p>
      )}
    </>
  );
}
