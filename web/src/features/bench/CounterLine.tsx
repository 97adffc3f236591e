import { useQuery } from "@tanstack/react-query";
import { api, keys, unwrap } from "@/api/client";

/** All counters in sight, asked for every few seconds. */
export function useCounters(period = 3000) {
  return useQuery({
    queryKey: keys.counters,
    queryFn: () => unwrap(api.GET("/api/counters")),
    refetchInterval: period,
  });
}

/** The instrument in use in a line: its name, what it does, the ambient it reads. */
export function CounterLine({ name, kind }: { name: string; kind: string }) {
  const all = useCounters().data ?? [];
  const one = all.find((each) => each.name === name) ?? all.find((each) => each.kind === kind) ?? all[0];
  if (!one) return <span>no counter</span>;
  if (!one.is_linked)
    return (
      <span>
        {one.name}: <b>no link</b>
      </span>
    );
  return (
    <span>
      {one.name} · {one.link_state.replace("_", " ")}
      {one.ambient ? (
        <>
          {" "}
          · ambient <b>{Number(one.ambient).toLocaleString("en").replaceAll(",", "\u2009")}</b> {one.unit}
        </>
      ) : null}
    </span>
  );
}
