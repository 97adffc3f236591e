import { useState } from "react";
import { Mark } from "@/design/Marks";
import { Empty, Failed, Loading, Pager } from "@/design/States";
import { useCounters } from "@/rooms/common/CounterLine";
import { Instrument } from "@/rooms/kit/Instrument";
import { Parts } from "@/rooms/kit/Parts";
import { Program } from "@/rooms/kit/Program";
import { Recalls } from "@/rooms/common/Recall";
import { Solutions } from "@/rooms/kit/Solutions";

/** The kit: each counter, its link, and the daily checks as values against limits. No tick box. */
export function KitPage() {
  const [page, setPage] = useState(1);
  const [chosen, setChosen] = useState("");
  const counters = useCounters(2000, { page });
  if (counters.isPending) return <Loading what="The kit" />;
  if (counters.isError && !counters.data)
    return <Failed error={counters.error} again={() => void counters.refetch()} />;
  const rows = counters.data.rows;
  const shown = rows.find((one) => one.id === chosen) ?? rows[0];
  return (
    <main className="page">
      <h1>Kit</h1>
      <p className="dim">
        Before the first person: warm, charged, and every check as a value. Without them no quantitative run is
        permitted on an instrument.
      </p>
      <Program />
      <Recalls onlyOpen={false} />
      {counters.data.total === 0 && <Empty>No instrument is entered. See the README: how to connect one.</Empty>}
      {rows.length > 1 && (
        <nav className="instruments" aria-label="Instruments">
          {rows.map((one) => (
            <button
              key={one.id}
              type="button"
              data-kind={one.kind}
              aria-pressed={one.id === shown?.id}
              onClick={() => setChosen(one.id)}
            >
              <Mark name={one.blocked_by.length ? "gate" : "cairn"} size={24} />
              <span>
                <b>{one.name}</b>
                <small>{one.blocked_by.length ? "not ready" : "ready"}</small>
              </span>
            </button>
          ))}
        </nav>
      )}
      {shown && <Instrument key={shown.id} counter={shown} />}
      <Pager page={counters.data.page} pages={counters.data.pages} go={setPage} />
      <Parts />
      <Solutions />
    </main>
  );
}
