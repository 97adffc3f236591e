import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { clockTime } from "@/shared/clock";
import { useSession } from "@/shared/session";
import { Problem, Text } from "@/design/Fields";
import { Mark } from "@/design/Marks";
import { Lending } from "@/rooms/kit/Lending";
import { TrendLine } from "@/rooms/kit/TrendLine";
import { linkWords } from "@/shared/words";

type Counter = Schemas["CounterView"];

/** One instrument: its link, its checks of the day one after the other, what else is done to it. */
export function Instrument({ counter }: { counter: Counter }) {
  const session = useSession();
  const may = session.data?.roles.some((role) => role !== "supervisor") ?? false;
  const next = counter.checks.find((one) => one.value === null) ?? counter.checks.find((one) => !one.passed);
  const [open, setOpen] = useState("");
  const shown = open || next?.name;
  return (
    <section className="counter" data-kind={counter.kind}>
      <h2>
        {counter.name}{" "}
        <span className="dim">
          {counter.title}, {counter.serial_number}
          {counter.is_simulated ? " · simulated" : ""}
        </span>
      </h2>
      <p className="dim">
        {counter.is_linked ? `link up, ${linkWords(counter.link_state)}` : "no link"}
        {counter.counted_flow ? ` · counted flow ${counter.counted_flow} cm³/min` : ""} · one step {counter.resolution}{" "}
        {counter.unit} · calibrated until {counter.calibrated_until}
        {counter.ambient ? (
          <>
            {" "}
            · outside <b className="mono">{counter.ambient}</b> {counter.unit}
          </>
        ) : (
          ""
        )}
      </p>
      {counter.blocked_by.length > 0 ? (
        <div className="note rust">
          <h3>Not permitted for a run</h3>
          <ul>
            {counter.blocked_by.map((why) => (
              <li key={why}>{why}</li>
            ))}
          </ul>
        </div>
      ) : (
        <div className="note tarn">
          <h3>
            <Mark name="cairn" /> Ready for runs today
            {counter.charge_until ? `, alcohol until ${clockTime(counter.charge_until)}` : ""}
          </h3>
        </div>
      )}
      {counter.checks.map((one) => (
        <Check
          key={one.name}
          counter={counter}
          check={one}
          may={may}
          isOpen={shown === one.name}
          toggle={() => setOpen(shown === one.name ? "none" : one.name)}
          done={() => setOpen("")}
        />
      ))}
      <Acts counter={counter} may={may} />
      <Lending kit={counter.id} name={counter.name} />
    </section>
  );
}

interface CheckProps {
  counter: Counter;
  check: Schemas["CheckView"];
  may: boolean;
  isOpen: boolean;
  toggle: () => void;
  done: () => void;
}

function Check({ counter, check, may, isOpen, toggle, done }: CheckProps) {
  const [value, setValue] = useState("");
  const { problem, attempt } = useAttempt("The value was not recorded.");
  const queries = useQueryClient();
  const record = () =>
    attempt(async () => {
      await unwrap(
        api.POST("/api/counters/{instrument_id}/checks", {
          params: { path: { instrument_id: counter.id } },
          body: { name: check.name, value },
        }),
      );
      setValue("");
      done();
      await queries.invalidateQueries({ queryKey: keys.counters });
      await queries.invalidateQueries({ queryKey: ["trend", counter.id] });
      await queries.invalidateQueries({ queryKey: ["recalls"] });
    });
  const isFigure = check.reads === "figure";
  const verdict = isFigure
    ? check.passed
      ? "within the limit"
      : "outside the limit"
    : check.passed
      ? "the same as on file"
      : "not the one on file";
  return (
    <form
      className="check"
      onSubmit={(event) => {
        event.preventDefault();
        void record();
      }}
    >
      <div>
        <button type="button" className="plain-button" aria-expanded={isOpen} onClick={toggle}>
          <b>{check.title}</b>
        </button>
        <div className="dim">
          {check.what}, {check.limit_word} {check.limit}
        </div>
      </div>
      <div>
        {check.value ? (
          <span className={check.passed ? "tarn" : "rust"}>
            <b className="mono">{check.value}</b> {verdict}, {check.checked_at ? clockTime(check.checked_at) : ""}
          </span>
        ) : (
          <span className="dim">not done today</span>
        )}
        {check.passed === false && (
          <p className="rust">
            {isFigure
              ? "Look at its steps again, then check again; until it is within the limit no run counts."
              : "This is another instrument: no run counts with it. Plug in the one on file."}
          </p>
        )}
        <Problem words={problem} />
      </div>
      {may && (
        <div className="field-row">
          <Text
            aria-label={`${counter.name}: ${check.title}, value read`}
            placeholder="value read"
            inputMode={isFigure ? "decimal" : "text"}
            value={value}
            set={setValue}
            w={150}
            size="md"
          />
          <button className="act" type="submit" disabled={!value}>
            Record
          </button>
          {check.read_now !== null && (
            <button type="button" className="quiet" onClick={() => setValue(check.read_now ?? "")}>
              take {check.read_now} from the link
            </button>
          )}
        </div>
      )}
      {isOpen && (
        <div className="guide">
          <ol>
            {check.steps.map((one) => (
              <li key={one}>{one}</li>
            ))}
          </ol>
          {isFigure && <TrendLine instrument={counter.id} name={check.name} />}
        </div>
      )}
    </form>
  );
}

function Acts({ counter, may }: { counter: Counter; may: boolean }) {
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("It was not noted.");
  const note = (name: string) =>
    attempt(async () => {
      await unwrap(
        api.POST("/api/counters/{instrument_id}/acts", {
          params: { path: { instrument_id: counter.id } },
          body: { name },
        }),
      );
      await queries.invalidateQueries({ queryKey: keys.counters });
    });
  const row = (one: Schemas["ActView"]) => (
    <li key={one.name}>
      <div>
        <b>{one.title}</b>
        <div className="dim">{one.when}</div>
      </div>
      <span className={one.is_today ? "tarn" : "dim"}>
        {one.is_today && one.done_at ? clockTime(one.done_at) : "not yet today"}
      </span>
      {may && (
        <button type="button" className="act" onClick={() => void note(one.name)}>
          Done
        </button>
      )}
    </li>
  );
  const daily = counter.acts.filter((one) => !one.closes_day);
  const evening = counter.acts.filter((one) => one.closes_day);
  return (
    <>
      {daily.length > 0 && <ul className="acts">{daily.map(row)}</ul>}
      <details className="evening">
        <summary>
          After each person and at the end of the day, {evening.filter((one) => one.is_today).length} of{" "}
          {evening.length} done today
        </summary>
        <ul className="acts">{evening.map(row)}</ul>
      </details>
      <Problem words={problem} />
    </>
  );
}
