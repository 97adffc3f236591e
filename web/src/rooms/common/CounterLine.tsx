import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, keys, unwrap } from "@/shared/client";
import { linkWords } from "@/shared/words";

interface Wanted {
  kind?: string | undefined;
  name?: string | undefined;
  page?: number;
}

/** A page of the instruments in sight, of one kind or by name where given, asked for every few seconds. */
export function useCounters(period: number, { kind = "", name = "", page = 1 }: Wanted = {}) {
  return useQuery({
    queryKey: keys.countersAt(page, kind, name),
    queryFn: () => unwrap(api.GET("/api/counters", { params: { query: { page, kind, name } } })),
    placeholderData: keepPreviousData,
    refetchInterval: period,
  });
}

/** The instrument in use in a line: its name, what it does, the ambient it reads. Without a name the first of its kind. */
export function CounterLine({ name, kind }: { name: string; kind: string }) {
  const one = useCounters(3000, name ? { name } : { kind }).data?.rows[0];
  if (!one) return <span>no {kind}</span>;
  if (!one.is_linked)
    return (
      <span>
        {one.name}: <b>no link</b>
      </span>
    );
  const against = one.blocked_by[0];
  if (against)
    return (
      <span className="gorse">
        {one.name} is not ready: <b>{against.toLowerCase()}</b>
        {one.blocked_by.length > 1 ? ` and ${one.blocked_by.length - 1} more` : ""}
      </span>
    );
  return (
    <span>
      {one.name} · {linkWords(one.link_state)}
      {one.ambient ? (
        <>
          {" "}
          · ambient <b>{Number(one.ambient).toLocaleString("en").replaceAll(",", "\u2009")}</b> {one.unit}
        </>
      ) : null}
    </span>
  );
}
