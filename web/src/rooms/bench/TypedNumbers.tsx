import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Body, keys, type Schemas, unwrap, type BenchView } from "@/shared/client";
import { Problem, Text } from "@/design/Fields";

interface Props {
  view: BenchView;
  run: Schemas["RunView"];
  propose: (body: Body) => void;
  stop: () => void;
}

/** Figures copied from the instrument, or its file of readings. The record says which. */
export function TypedNumbers({ view, run, propose, stop }: Props) {
  const isCounted = run.unit === "per cm³";
  const [only, setOnly] = useState(!isCounted);
  const [problem, setProblem] = useState("");
  const queries = useQueryClient();
  const [rows, setRows] = useState(() => run.values.map(() => ({ outside: "", inside: "", factor: "" })));
  const change = (index: number, key: "outside" | "inside" | "factor", value: string) =>
    setRows((all) => all.map((one, i) => (i === index ? { ...one, [key]: value.trim() } : one)));
  const send = () =>
    propose({
      kind: "numbers_typed",
      run_id: run.run_id,
      resolution: run.resolution,
      exercises: rows.map((one) =>
        only
          ? { outside: null, inside: null, factor: one.factor }
          : { outside: one.outside, inside: one.inside, factor: null },
      ),
    });
  const bring = async (file: File | undefined) => {
    if (!file) return;
    setProblem("");
    try {
      const path = { visit_id: view.visit_id, run_id: run.run_id };
      const fresh = await unwrap(
        api.POST("/api/visits/{visit_id}/runs/{run_id}/file", { params: { path }, body: { text: await file.text() } }),
      );
      queries.setQueryData(keys.visit(view.visit_id), fresh);
    } catch (error) {
      setProblem(error instanceof Error ? error.message : "The file was not taken.");
    }
  };
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
        Copy what it shows
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
          {run.values.map((name, i) => (
            <tr key={name}>
              <td>{name}</td>
              {(only ? (["factor"] as const) : (["outside", "inside"] as const)).map((key) => (
                <td key={key}>
                  <Text
                    aria-label={`${name}, ${key === "factor" ? "fit factor" : key}`}
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
          <p>
            {run.instrument_name} shows steps of <b className="mono">{run.resolution}</b> {run.unit}; what is smaller
            counts as half a step.
          </p>
        )}
        <button className="act" type="submit">
          Judge these numbers
        </button>
        {isCounted && (
          <button className="quiet" type="button" onClick={() => setOnly(!only)}>
            {only ? "It shows counts too" : "It shows fit factors only"}
          </button>
        )}
        <label className="quiet">
          It gives a file
          <input
            className="visually-hidden"
            type="file"
            accept=".csv,text/csv"
            aria-label="File of readings"
            onChange={(event) => void bring(event.currentTarget.files?.[0])}
          />
        </label>
        <button className="quiet" type="button" onClick={stop}>
          No numbers: end this try
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}
