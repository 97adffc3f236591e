import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

/** Asked for anew where nothing is heard: while the stream is away, and now and then beside it. */
const ALONE_MS = 5000;
const BESIDE_MS = 60_000;
/** The first change is asked for at once; of many that follow, one in so long. */
const CALM_MS = 2000;

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
    let timer = 0;
    let askedAt = -CALM_MS;
    const ask = () => {
      askedAt = performance.now();
      for (const key of JSON.parse(wanted) as unknown[][]) void queries.invalidateQueries({ queryKey: key });
    };
    const hear = () => {
      window.clearTimeout(timer);
      timer = window.setTimeout(ask, Math.max(0, askedAt + CALM_MS - performance.now()));
    };
    const open = () => {
      if (source || document.hidden) return;
      source = new EventSource("/api/today/live");
      source.onopen = () => setHeard(true);
      source.onerror = () => setHeard(false);
      source.addEventListener("changed", hear);
    };
    const close = () => {
      source?.close();
      source = null;
      window.clearTimeout(timer);
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
