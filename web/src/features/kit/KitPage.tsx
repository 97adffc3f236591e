import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, type Schemas, unwrap } from "@/api/client";
import { clockTime } from "@/app/clock";
import { useSession } from "@/app/session";
import { Mark } from "@/design/Marks";
import { Empty, Failed, Loading } from "@/design/States";
import { useCounters } from "@/features/bench/CounterLine";
import { Text } from "@/design/Fields";

/** The kit: each counter, its link, and the daily checks as values against limits. No tick box. */
export function KitPage() {
  const counters = useCounters(2000);
  if (counters.isPending) return <Loading what="The kit" />;
  if (counters.isError && !counters.data)
    return <Failed error={counters.error} again={() => void counters.refetch()} />;
  return (
    <main className="page">
      <h1>Kit</h1>
      <p className="dim">
        Before the first person: warm, alcohol charged, and three checks as values. Without them no quantitative run is
        permitted on a counter.
      </p>
      {counters.data.length === 0 && <Empty>No counter is entered. See the README: how to connect a counter.</Empty>}
      {counters.data.map((one) => (
        <Counter key={one.id} counter={one} />
      ))}
    </main>
  );
}

function Counter({ counter }: { counter: Schemas["CounterView"] }) {
  return (
    <section className="counter">
      <h2>
        {counter.name}{" "}
        <span className="dim">
          {counter.serial_number}
          {counter.is_simulated ? " · simulated" : ""}
        </span>
      </h2>
      <p className="dim">
        {counter.is_linked ? `link up, ${counter.link_state.replace("_", " ")}` : "no link"} · counted flow{" "}
        {counter.counted_flow} cm³/min · calibrated until {counter.calibrated_until}
        {counter.ambient ? (
          <>
            {" "}
            · ambient <b className="mono">{counter.ambient}</b> per cm³
          </>
        ) : (
          ""
        )}
      </p>
      {counter.stands_against.length > 0 ? (
        <div className="note rust">
          <h3>Not permitted for a run</h3>
          <ul>
            {counter.stands_against.map((why) => (
              <li key={why}>{why}</li>
            ))}
          </ul>
        </div>
      ) : (
        <div className="note tarn">
          <h3>
            <Mark name="cairn" /> Ready for runs today
          </h3>
        </div>
      )}
      {counter.checks.map((one) => (
        <Check key={one.name} id={counter.id} check={one} />
      ))}
    </section>
  );
}

function Check({ id, check }: { id: string; check: Schemas["CheckView"] }) {
  const [value, setValue] = useState("");
  const [problem, setProblem] = useState("");
  const session = useSession();
  const queries = useQueryClient();
  const may = session.data?.roles.some((role) => role !== "supervisor") ?? false;
  const record = async () => {
    setProblem("");
    try {
      await unwrap(
        api.POST("/api/counters/{instrument_id}/checks", {
          params: { path: { instrument_id: id } },
          body: { name: check.name as Schemas["CheckValue"]["name"], value },
        }),
      );
      setValue("");
      await queries.invalidateQueries({ queryKey: keys.counters });
    } catch (error) {
      setProblem(error instanceof Error ? error.message : "The value was not recorded.");
    }
  };
  return (
    <form
      className="check"
      onSubmit={(event) => {
        event.preventDefault();
        void record();
      }}
    >
      <div>
        <b>{check.title}</b>
        <div className="dim">
          {check.what}, {check.limit_word} {check.limit}
        </div>
      </div>
      <div>
        {check.value ? (
          <span className={check.passed ? "tarn" : "rust"}>
            <b className="mono">{check.value}</b> {check.passed ? "within the limit" : "outside the limit"},{" "}
            {check.checked_at ? clockTime(check.checked_at) : ""}
          </span>
        ) : (
          <span className="dim">not done today</span>
        )}
        {problem && (
          <div className="rust" role="alert">
            {problem}
          </div>
        )}
      </div>
      {may && (
        <div className="field-row">
          <Text
            aria-label={`${check.title}, value read`}
            placeholder="value read"
            inputMode="decimal"
            value={value}
            set={setValue}
            w={150}
            size="md"
          />
          <button className="act" type="submit" disabled={!value}>
            Record
          </button>
        </div>
      )}
    </form>
  );
}
