import { useEffect, useState } from "react";
import { api, unwrap } from "@/shared/client";

/**
 * The server's time minus the time this page has seen pass. The device's own clock is not asked: it may be an hour off,
 * or be set while somebody is being tested.
 */
let offset = Date.now() - performance.now();
/** The device's clock minus the time this page has seen pass, when the server's time was measured last. */
let apart = offset;
/** So far the two may part before the server is asked again: the device slept, or its clock was set. */
const PARTED_MS = 1000;
const DAY_MS = 86_400_000;

/** Measure what time it is at the server; the quickest of three answers counts. */
export async function measureClock(): Promise<void> {
  let best = Number.POSITIVE_INFINITY;
  for (let i = 0; i < 3; i += 1) {
    const before = performance.now();
    try {
      const { now } = await unwrap(api.GET("/api/time"));
      const took = performance.now() - before;
      if (took < best) {
        best = took;
        offset = Date.parse(now) - (before + took / 2);
        apart = Date.now() - performance.now();
      }
    } catch {
      return;
    }
  }
}

/** Measure now, every five minutes, and as soon as this device has slept or its clock was set. Returns how to end it. */
export function keepMeasuring(): () => void {
  void measureClock();
  const often = window.setInterval(() => {
    const now = Date.now() - performance.now();
    if (Math.abs(now - apart) < PARTED_MS) return;
    apart = now;
    void measureClock();
  }, 1000);
  const seldom = window.setInterval(() => void measureClock(), 300_000);
  return () => {
    window.clearInterval(often);
    window.clearInterval(seldom);
  };
}

/**
 * Take note of a moment the server has spoken of: it is past there by now. A clock measured a little late must not
 * date an answer before the question could be asked.
 */
export function notBefore(moment: string): void {
  offset = Math.max(offset, Date.parse(moment) - performance.now());
}

/** The server's time in milliseconds, as far as we know it. */
export function serverNow(): number {
  return performance.now() + offset;
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

/**
 * Which day it is in a time zone, as YYYY-MM-DD: at a site the site's day counts, whatever this device is set to.
 * Without a zone: where this device is.
 */
export function dayIn(zone?: string, later = 0): string {
  return new Date(serverNow() + later * DAY_MS).toLocaleDateString("sv-SE", { timeZone: zone });
}

/** A moment as date and time here. */
export function dateTime(moment: string): string {
  return `${new Date(moment).toLocaleDateString("sv-SE")} ${clockTime(moment)}`;
}
