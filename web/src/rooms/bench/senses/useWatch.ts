import { useEffect, useState } from "react";
import { serverNow } from "@/shared/clock";

interface Kept {
  last: number;
  longest: number;
}

function kept(runId: string): Kept | null {
  try {
    return JSON.parse(localStorage.getItem(`watch:${runId}`) ?? "null") as Kept | null;
  } catch {
    return null;
  }
}

/**
 * For how long this screen was away during a run, at most, in milliseconds: asleep, closed, reloaded. A screen that
 * joins late was away from the start.
 */
export function useWatch(runId: string, startedAt: string): number {
  const [longest, setLongest] = useState(0);
  useEffect(() => {
    const tick = () => {
      const now = serverNow();
      const before = kept(runId) ?? { last: Date.parse(startedAt), longest: 0 };
      const next = { last: now, longest: Math.max(before.longest, Math.round(now - before.last)) };
      localStorage.setItem(`watch:${runId}`, JSON.stringify(next));
      setLongest(next.longest);
    };
    tick();
    const timer = window.setInterval(tick, 500);
    return () => window.clearInterval(timer);
  }, [runId, startedAt]);
  return longest;
}
