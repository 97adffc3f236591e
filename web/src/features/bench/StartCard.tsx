import { useState } from "react";
import { Link } from "react-router";
import { v7 as uuid } from "uuid";
import { KEY, useKeys } from "@/app/keys";
import { Key } from "@/design/Key";
import type { ActProps } from "@/features/bench/ActCard";
import { useCounters } from "@/features/bench/CounterLine";
import { Foot } from "@/features/bench/Foot";

/** Everything is settled: count-in and go, on a counter's link or with its numbers typed afterwards. */
export function StartCard({ card, view, propose, back }: ActProps) {
  const counters = useCounters(1500).data ?? [];
  const [chosen, setChosen] = useState(0);
  const [starting, setStarting] = useState(false);
  const counter = counters[chosen];
  const against = counter?.stands_against ?? [];
  const ready = counter !== undefined && against.length === 0 && !starting;
  const start = (source: "counter" | "typed") => {
    if (!counter) return;
    setStarting(true);
    window.setTimeout(() => setStarting(false), 3000);
    propose({ kind: "start_run", run_id: uuid(), instrument_id: counter.id, source });
  };
  useKeys({
    [KEY.fine]: ready && counter.is_linked ? () => start("counter") : undefined,
    y: ready ? () => start("typed") : undefined,
    k: counters.length > 1 ? () => setChosen((chosen + 1) % counters.length) : undefined,
  });
  const piece = view.picture.facepiece;
  return (
    <section className="card" data-item={card.id}>
      <p className="mode">
        Ready
        <i />
        {piece ? `${piece.maker} ${piece.label}` : ""}
      </p>
      <h1 className="question">Count {view.first_name} in</h1>
      <p className="say">“Hands off the mask, breathe as it comes. Five, four, three, two, one.”</p>
      {counter && against.length === 0 && (
        <p className="reading">
          {counter.name}, {counter.serial_number}: daily checks passed, calibrated until {counter.calibrated_until}
          {counter.is_linked ? ", link is up" : ", no link: only typed numbers"}.
        </p>
      )}
      {counter && against.length > 0 && (
        <div className="note rust" role="alert">
          <h2>Not permitted with {counter.name}</h2>
          <ul>
            {against.map((one) => (
              <li key={one}>{one}</li>
            ))}
          </ul>
          <p>
            <Link to="/kit">Do the daily checks on the Kit page</Link>, then come back; nothing here is lost.
          </p>
        </div>
      )}
      {!counter && (
        <div className="note rust">
          <h2>No counter</h2>
          <p>Enter one first; see the Kit page.</p>
        </div>
      )}
      <Foot>
        <Key
          cap="Space"
          label="start, the counter is read"
          tone="tarn"
          disabled={!ready || !counter.is_linked}
          onPress={() => start("counter")}
        />
        <Key cap="Y" label="start, I type its numbers" disabled={!ready} onPress={() => start("typed")} />
        {counters.length > 1 && (
          <Key cap="K" label="another counter" onPress={() => setChosen((chosen + 1) % counters.length)} />
        )}
        {back && <Key cap="U" label="back" onPress={back} />}
      </Foot>
    </section>
  );
}
