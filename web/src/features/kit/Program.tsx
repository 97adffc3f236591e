import { useQuery } from "@tanstack/react-query";
import { api, unwrap } from "@/shared/client";

/** What of the program stopped on its own and was started again: nothing to do, but somebody should know. */
export function Program() {
  const parts = useQuery({
    queryKey: ["system-parts"],
    queryFn: () => unwrap(api.GET("/api/system/parts")),
    refetchInterval: 5000,
  });
  const found = parts.data?.parts.filter((one) => one.restarts || !one.is_running) ?? [];
  if (!found.length) return null;
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
      <p className="why">Nothing was lost. If it happens again, show its log to whoever looks after the program.</p>
    </section>
  );
}
