import { Link } from "react-router";
import type { BenchView } from "@/shared/client";
import { useCounters } from "@/rooms/common/CounterLine";

/** That no instrument is ready, said from arrival on and not when it is worn already; and what can be done. */
export function KitBand({ view }: { view: BenchView }) {
  const { visit } = view;
  const isOver = visit.run !== null || visit.verdict !== "" || visit.closed !== "" || visit.tries.length > 0;
  const wanted = visit.method ? (visit.protocols[0]?.instrument ?? "") : "";
  const rows = useCounters(5000, { kind: wanted }).data?.rows ?? [];
  const needsOne = visit.method === "" || wanted !== "";
  if (isOver || !needsOne || !rows.length || rows.some((one) => !one.blocked_by.length)) return null;
  return (
    <div className="away-band" role="status" aria-label="No instrument is ready">
      Not ready today: {rows.map((one) => one.name).join(", ")}. See <Link to="/kit">Kit</Link>,{" "}
      {visit.method ? "or press V for another method." : "or test by another method."}
    </div>
  );
}
