import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

/** Asked for anew where nothing is heard: while the stream is away, and now and then beside it. */
const ALONE_MS = 5000;
const BESIDE_MS = 60_000;

/**
 * Hears that something has changed on the day and has the queries named asked anew. Returns how often they are to be
 * asked without it.
 */
export function useDay(...named: readonly (readonly unknown[])[]): number {
  const queries = useQueryClient();
  const [isHeard, setHeard] = useState(false);
  const wanted = JSON.stringify(named);
  useEffect(() => {
    let source: EventSource | null = null;
    const open = () => {
      if (source || document.hidden) return;
      source = new EventSource("/api/today/live");
      source.onopen = () => setHeard(true);
      source.onerror = () => setHeard(false);
      source.addEventListener("changed", () => {
        for (const key of JSON.parse(wanted) as unknown[][]) void queries.invalidateQueries({ queryKey: key });
      });
    };
    const close = () => {
      source?.close();
      source = null;
      setHeard(false);
    };
    const onVisibility = () => (document.hidden ? close() : open());
    open();
    document.addEventListener("visibilitychange", onVisibility);
    return () => {
      close();
      document.removeEventListener("visibilitychange", onVisibility);
    };
  }, [queries, wanted]);
  return isHeard ? BESIDE_MS : ALONE_MS;
}
