import { useQuery } from "@tanstack/react-query";
import { api, unwrap } from "@/shared/client";
import { clockTime, serverNow } from "@/shared/clock";

/** A jump of the clock is told of for a day. */
const SHOWN_MS = 86_400_000;

const far = (seconds: number) => (seconds < 90 ? `${Math.round(seconds)} s` : `${Math.round(seconds / 60)} min`);

/** What of the program stopped on its own and was started again, and jumps of its clock: nothing to do, but somebody should know. */
export function Program() {
  const parts = useQuery({
    queryKey: ["system-parts"],
    queryFn: () => unwrap(api.GET("/api/system/parts")),
    refetchInterval: 5000,
  });
  const found = parts.data?.parts.filter((one) => one.restarts || !one.is_running) ?? [];
  const jumps = parts.data?.jumps.filter((one) => serverNow() - Date.parse(one.at) < SHOWN_MS) ?? [];
  if (!found.length && !jumps.length) return null;
  return (
    <section className="note" aria-label="The program itself">
      <h2>The program itself</h2>
      <ul className="why-list">
        {found.map((one) => (
          <li key={one.name}>
            {one.title} stopped ({one.last_end}) and{" "}
            {one.is_running
              ? `was started again, ${one.restarts === 1 ? "once" : `${one.restarts} times`} since the program began.`
              : "is being started again."}
          </li>
        ))}
      </ul>
      {found.length > 0 && (
        <p className="why">Nothing was lost. If it happens again, show its log to whoever looks after the program.</p>
      )}
      {jumps.map((one) => (
        <p key={one.at} className="why">
          {clockTime(one.at)}: the clock of the database {one.by_s > 0 ? "jumped ahead" : "was put back"} by{" "}
          {far(Math.abs(one.by_s))}.{" "}
          {one.followed_at
            ? `Times here follow it since ${clockTime(one.followed_at)}.`
            : "Times here go on as they were, and follow it once nobody is being tested. If the new time is wrong, have it set right."}
        </p>
      ))}
    </section>
  );
}
