import { useEffect, useState } from "react";
import { api, unwrap } from "@/shared/client";

let offset = 0;

/** Measure how far this device's clock is from the server's; the quickest of three answers counts. */
export async function measureClock(): Promise<void> {
  let best = Number.POSITIVE_INFINITY;
  for (let i = 0; i < 3; i += 1) {
    const before = performance.now();
    const sent = Date.now();
    try {
      const { now } = await unwrap(api.GET("/api/time"));
      const took = performance.now() - before;
      if (took < best) {
        best = took;
        offset = Date.parse(now) - (sent + took / 2);
      }
    } catch {
      return;
    }
  }
}

/**
 * Take note of a moment the server has spoken of: it is past there by now. A clock measured a little late must not
 * date an answer before the question could be asked.
 */
export function notBefore(moment: string): void {
  offset = Math.max(offset, Date.parse(moment) - Date.now());
}

/** The server's time in milliseconds, as far as we know it. */
export function serverNow(): number {
  return Date.now() + offset;
}

/** The server's time, drawn anew every `period` milliseconds. */
export function useNow(period = 250): number {
  const [now, setNow] = useState(serverNow);
  useEffect(() => {
    const timer = window.setInterval(() => setNow(serverNow()), period);
    return () => window.clearInterval(timer);
  }, [period]);
  return now;
}

/** Seconds as m:ss, never below zero. */
export function minutes(seconds: number): string {
  const whole = Math.max(0, Math.ceil(seconds));
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, "0")}`;
}

/** A moment as the time of day here. */
export function clockTime(moment: string): string {
  return new Date(moment).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
}

/** A moment as date and time here. */
export function dateTime(moment: string): string {
  return `${new Date(moment).toLocaleDateString("sv-SE")} ${clockTime(moment)}`;
}
