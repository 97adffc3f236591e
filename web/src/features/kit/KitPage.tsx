import { useState } from "react";
import { Empty, Failed, Loading, Pager } from "@/design/States";
import { useCounters } from "@/features/common/CounterLine";
import { Instrument } from "@/features/kit/Instrument";
import { Parts } from "@/features/kit/Parts";
import { Program } from "@/features/kit/Program";
import { Recalls } from "@/features/common/Recall";
import { Solutions } from "@/features/kit/Solutions";

/** The kit: each counter, its link, and the daily checks as values against limits. No tick box. */
export function KitPage() {
  const [page, setPage] = useState(1);
  const counters = useCounters(2000, { page });
  if (counters.isPending) return <Loading what="The kit" />;
  if (counters.isError && !counters.data)
    return <Failed error={counters.error} again={() => void counters.refetch()} />;
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
      {counters.data.rows.map((one) => (
        <Instrument key={one.id} counter={one} />
      ))}
      <Pager page={counters.data.page} pages={counters.data.pages} go={setPage} />
      <Parts />
      <Solutions />
    </main>
  );
}
