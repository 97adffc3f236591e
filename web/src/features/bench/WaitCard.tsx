import type { Body, VisitView } from "@/api/client";
import { clockTime, minutes, useNow } from "@/app/clock";

/** Nothing to ask while a clock runs: which one, and how long still. */
export function WaitCard({ view }: { view: VisitView; propose: (body: Body) => void }) {
  const now = useNow(250);
  const waits = view.picture.waiting_for
    .filter((one) => one.until)
    .sort((a, b) => (b.until ?? "").localeCompare(a.until ?? ""));
  const first = waits[0];
  const left = first?.until ? (Date.parse(first.until) - now) / 1000 : 0;
  if (!first)
    return (
      <section className="card" data-item="wait">
        <h1 className="question">Something on the right stands in the way</h1>
        <p className="reading">Settle it, or go back with U and answer again.</p>
      </section>
    );
  return (
    <section className="card" data-item="wait">
      <p className="mode">
        Wait
        <i />
        nothing is lost meanwhile
      </p>
      <h1 className="question">{first.sentence}</h1>
      <p className="wait-clock mono" role="timer">
        {minutes(left)}
      </p>
      <p className="say">“Just breathe and get used to it. I start at {first.until ? clockTime(first.until) : ""}.”</p>
    </section>
  );
}
