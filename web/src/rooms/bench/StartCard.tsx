import { useState } from "react";
import { Link } from "react-router";
import { v7 as uuid } from "uuid";
import { KEY, useKeys } from "@/shared/keys";
import { Key } from "@/design/Key";
import type { ActProps } from "@/rooms/bench/card";
import { useCounters } from "@/rooms/common/CounterLine";
import { Foot } from "@/rooms/bench/Foot";

/** Everything is settled: count-in and go, on a counter's link or with its numbers typed afterwards. */
export function StartCard({ card, view, propose, back }: ActProps) {
  const [chosen, setChosen] = useState(0);
  const [starting, setStarting] = useState(false);
  const [turn, setTurn] = useState(0);
  const protocols = view.visit.protocols;
  const protocol = protocols[turn % Math.max(1, protocols.length)];
  const counters = useCounters(1500, { kind: protocol?.instrument ?? "counter" }).data?.rows ?? [];
  const faults = view.visit.faults;
  const [fault, setFault] = useState(-1);
  const another = protocols.length > 1 ? () => setTurn(turn + 1) : undefined;
  const counter = counters[chosen % Math.max(1, counters.length)];
  const against = counter?.blocked_by ?? [];
  const ready = counter !== undefined && against.length === 0 && !starting;
  const start = (source: "counter" | "typed") => {
    if (!counter) return;
    setStarting(true);
    window.setTimeout(() => setStarting(false), 3000);
    propose({
      kind: "start_run",
      run_id: uuid(),
      instrument_id: counter.id,
      source,
      protocol_id: protocol?.id ?? "",
      fault: source === "counter" && counter.is_simulated ? (faults[fault] ?? "") : "",
    });
  };
  useKeys({
    [KEY.fine]: ready && counter.is_linked ? () => start("counter") : undefined,
    y: ready ? () => start("typed") : undefined,
    p: another,
    f: faults.length ? () => setFault(fault + 1 < faults.length ? fault + 1 : -1) : undefined,
    k: counters.length > 1 ? () => setChosen((chosen + 1) % counters.length) : undefined,
  });
  const piece = view.visit.facepiece;
  return (
    <section className="card" data-item={card.id}>
      <p className="mode">
        Ready
        <i />
        {piece ? `${piece.maker} ${piece.label}` : ""}
      </p>
      <h1 className="question">Count {view.first_name} in</h1>
      <p className="say">“Hands off the mask, breathe as it comes. Five, four, three, two, one.”</p>
      {protocol && (
        <p className="reading">
          <b>{protocol.title}</b>, {Math.floor(protocol.seconds / 60)} min {protocol.seconds % 60} s
          {protocol.standing === "contested" ? "; contested: check it against your copy" : ""}.
        </p>
      )}
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
          <h2>
            No{" "}
            {protocol?.instrument === "pressure" ? "negative-pressure instrument" : (protocol?.instrument ?? "counter")}
          </h2>
          <p>Enter one first; see the Kit page. Or choose another method.</p>
        </div>
      )}
      {faults.length > 0 && counter?.is_simulated && (
        <p className="reading">Practice: {fault < 0 ? "as this face and size come out" : <b>{faults[fault]}</b>}</p>
      )}
      <Foot>
        <Key
          cap="Space"
          label={`start, ${counter?.name ?? "instrument"} connected`}
          tone="tarn"
          disabled={!ready || !counter.is_linked}
          onPress={() => start("counter")}
        />
        <Key cap="Y" label="start, type the readings" disabled={!ready} onPress={() => start("typed")} />
        {another && <Key cap="P" label="another protocol" onPress={another} />}
        {faults.length > 0 && counter?.is_simulated && (
          <Key
            cap="F"
            label="set what is learned"
            onPress={() => setFault(fault + 1 < faults.length ? fault + 1 : -1)}
          />
        )}
        {counters.length > 1 && (
          <Key cap="K" label="another instrument" onPress={() => setChosen((chosen + 1) % counters.length)} />
        )}
        {back && <Key cap="U" label="back" onPress={back} />}
      </Foot>
    </section>
  );
}
