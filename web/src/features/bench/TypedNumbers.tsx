import { useState } from "react";
import type { Body, Schemas } from "@/api/client";
import { Text } from "@/design/Fields";

interface Props {
  run: Schemas["RunView"];
  propose: (body: Body) => void;
  stop: () => void;
}

/** Figures copied from the counter: outside and inside per exercise, or fit factors only. The record says which. */
export function TypedNumbers({ run, propose, stop }: Props) {
  const [only, setOnly] = useState(false);
  const [resolution, setResolution] = useState("1");
  const [rows, setRows] = useState(() => run.exercises.map(() => ({ outside: "", inside: "", factor: "" })));
  const change = (index: number, key: "outside" | "inside" | "factor", value: string) =>
    setRows((all) => all.map((one, i) => (i === index ? { ...one, [key]: value.trim() } : one)));
  const send = () =>
    propose({
      kind: "numbers_typed",
      run_id: run.run_id,
      resolution,
      exercises: rows.map((one) =>
        only
          ? { outside: null, inside: null, factor: one.factor }
          : { outside: one.outside, inside: one.inside, factor: null },
      ),
    });
  return (
    <form
      className="card"
      data-item="typed"
      onSubmit={(event) => {
        event.preventDefault();
        send();
      }}
    >
      <p className="mode">
        Copy what the counter shows
        <i />
        try {run.try_no}, level {run.level}
      </p>
      <h1 className="question smaller">
        {only ? "Fit factor of each exercise" : "Outside and inside of each exercise"}
      </h1>
      <table className="plain typed">
        <thead>
          <tr>
            <th>Exercise</th>
            {only ? (
              <th>Fit factor</th>
            ) : (
              <>
                <th>Outside, per cm³</th>
                <th>Inside, per cm³</th>
              </>
            )}
          </tr>
        </thead>
        <tbody>
          {run.exercises.map((one, i) => (
            <tr key={one.id}>
              <td>{one.name}</td>
              {(only ? (["factor"] as const) : (["outside", "inside"] as const)).map((key) => (
                <td key={key}>
                  <Text
                    aria-label={`${one.name}, ${key === "factor" ? "fit factor" : key}`}
                    inputMode="decimal"
                    value={rows[i]?.[key] ?? ""}
                    set={(text) => change(i, key, text)}
                    autoFocus={i === 0 && key !== "inside"}
                    size="md"
                  />
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <div className="field-row">
        {!only && (
          <Text
            label="One step of the display's last digit"
            inputMode="decimal"
            value={resolution}
            set={(text) => setResolution(text.trim())}
            w={280}
            size="md"
          />
        )}
        <button className="act" type="submit">
          Judge these numbers
        </button>
        <button className="quiet" type="button" onClick={() => setOnly(!only)}>
          {only ? "It shows counts too" : "It shows fit factors only"}
        </button>
        <button className="quiet" type="button" onClick={stop}>
          No numbers: end this try
        </button>
      </div>
    </form>
  );
}
