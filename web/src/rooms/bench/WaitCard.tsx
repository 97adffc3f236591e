import type { Body, BenchView } from "@/shared/client";
import { Stops } from "@/rooms/bench/Stops";
import { clockTime, minutes, useNow } from "@/shared/clock";

const SAY: Record<string, string> = {
  cleared: "Rinse your mouth with water, breathe fresh air; nothing of it may be left.",
  screen: "A rest for your nose, in fresh air.",
  eating: "Only plain water now.",
  smoking: "No smoking until we start.",
};

/** Nothing to ask while a clock runs: which one, and how long still. */
export function WaitCard({ view }: { view: BenchView; propose: (body: Body) => void }) {
  const now = useNow(250);
  const coming = view.visit.waiting_for.find((one) => !one.until);
  const waits = view.visit.waiting_for
    .filter((one) => one.until)
    .sort((a, b) => (b.until ?? "").localeCompare(a.until ?? ""));
  const first = waits[0];
  const protocol = view.visit.protocols[0];
  const left = first?.until ? (Date.parse(first.until) - now) / 1000 : 0;
  if (!first && coming)
    return (
      <section className="card" data-item="wait" role="status">
        <h1 className="question">{coming.sentence}</h1>
        {coming.detail && <p className="reading">{coming.detail}</p>}
      </section>
    );
  if (!first)
    return (
      <section className="card" data-item="wait">
        <h1 className="question">No run yet</h1>
        <Stops stops={view.visit.between.filter((one) => one.gravity === "stop" || one.gravity === "put_right")} />
        <p className="reading">
          Settle it, or go back with U and answer again.
          {view.visit.worn_since ? " Nothing starts like this: R takes it off." : ""}
        </p>
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
      <p className="say">
        “{SAY[first.code] ?? "Just breathe and get used to it."} We can start at{" "}
        {view.visit.starts_at ? clockTime(view.visit.starts_at) : first.until ? clockTime(first.until) : ""}.”
      </p>
      {protocol && protocol.exercises.length > 0 && (
        <section aria-label="The exercises">
          <p className="reading">Show them meanwhile, and have each tried once:</p>
          <ol className="exercises-ahead">
            {protocol.exercises.map((one, i) => (
              <li key={`${i}${one}`}>{one}</li>
            ))}
          </ol>
        </section>
      )}
    </section>
  );
}
