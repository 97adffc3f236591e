import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, type Schemas, unwrap, type BenchView } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { useEscape } from "@/shared/keys";
import { Problem, Text } from "@/design/Fields";

const MEASURES = [
  { name: "length", label: "Face length", how: "chin tip, mouth closed, to the deepest point of the nasal root" },
  { name: "width", label: "Face width", how: "across the cheek bones, the widest span" },
  { name: "lip", label: "Lip length", how: "corner to corner, mouth closed" },
] as const;
type Readings = Record<(typeof MEASURES)[number]["name"], string[]>;

/** Caliper readings: two of each, a third where two lie too far apart. Everything may be left out. */
export function Measure({ view, done }: { view: BenchView; done: () => void }) {
  const [readings, setReadings] = useState<Readings>({ length: ["", "", ""], width: ["", "", ""], lip: ["", "", ""] });
  const [result, setResult] = useState<Schemas["MeasureResult"] | null>(null);
  const { problem, attempt } = useAttempt("The readings were not stored.");
  const queries = useQueryClient();
  const needsThird = (name: keyof Readings) => result?.third.includes(name) || readings[name][2] !== "";
  const change = (name: keyof Readings, at: number, value: string) =>
    setReadings((all) => ({ ...all, [name]: all[name].map((one, i) => (i === at ? value.trim() : one)) }));
  const send = () =>
    attempt(async () => {
      const given = (name: keyof Readings) => readings[name].filter((one, i) => one && (i < 2 || needsThird(name)));
      const answer = await unwrap(
        api.POST("/api/people/{person_id}/measurements", {
          params: { path: { person_id: view.person_id } },
          body: { length: given("length"), width: given("width"), lip: given("lip") },
        }),
      );
      setResult(answer);
      if (!answer.stored) return;
      await queries.invalidateQueries({ queryKey: ["advice"] });
      await queries.invalidateQueries({ queryKey: keys.visit(view.visit_id) });
      if (answer.questions.length === 0) done();
    });
  useEscape(done);
  return (
    <form
      className="card"
      data-item="measure"
      onSubmit={(event) => {
        event.preventDefault();
        void send();
      }}
    >
      <p className="mode">
        Caliper, mm
        <i />
        length alone is often enough; everything may be left out
      </p>
      <h1 className="question smaller">Measure the face</h1>
      <div className="stack">
        {MEASURES.map((one) => (
          <fieldset key={one.name} className="measure">
            <legend>
              <b>{one.label}</b> <span className="dim">{one.how}</span>
            </legend>
            {[0, 1, 2].map((at) => (
              <Text
                key={at}
                aria-label={`${one.label}, reading ${at + 1}`}
                placeholder={at === 2 ? "third" : at === 1 ? "again" : "mm"}
                inputMode="decimal"
                value={readings[one.name][at] ?? ""}
                set={(text) => change(one.name, at, text)}
                disabled={at === 2 && !needsThird(one.name)}
                autoFocus={one.name === "length" && at === 0}
                w={110}
                size="md"
              />
            ))}
            {needsThird(one.name) && <span className="gorse">too far apart: take a third</span>}
          </fieldset>
        ))}
      </div>
      {result && result.questions.length > 0 && (
        <div className="note" role="alert">
          <h2>{result.stored ? "Stored, but look again" : "Not stored yet"}</h2>
          {result.questions.map((one) => (
            <p key={one}>{one}</p>
          ))}
        </div>
      )}
      <Problem words={problem} />
      <div className="field-row">
        <button className="act" type="submit">
          Use these readings
        </button>
        <button className="quiet" type="button" onClick={done}>
          {result?.stored ? "Go on" : "Go on without measuring"}
        </button>
      </div>
    </form>
  );
}
