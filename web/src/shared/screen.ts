import { useEffect, useRef } from "react";
import { v7 as uuid } from "uuid";

/** This screen: a slip of the finger can be taken back only where it was made. A new tab is another screen. */
export const SCREEN: string = (() => {
  const known = sessionStorage.getItem("screen");
  if (known) return known;
  const made = uuid();
  sessionStorage.setItem("screen", made);
  return made;
})();

const PERIOD_MS = 3000;

/** What a screen says of itself: it is there, holds so many presses unsent, and knows the log up to an entry. */
export interface Heard {
  screen: string;
  unsent: number;
  seq: number;
  /** It is closed, or goes to another page: nothing can be pressed on it now. */
  leaving: boolean;
}

/** Where unsent presses are kept: this browser, whichever of its windows they were made in. */
function holder(role: "bench" | "wearer"): string {
  const key = `holder:${role}`;
  const known = localStorage.getItem(key);
  if (known) return known;
  const made = uuid();
  localStorage.setItem(key, made);
  return made;
}

type Say = (heard: Heard) => Promise<unknown>;

interface Holding {
  role: "bench" | "wearer";
  unsent: number;
  /** How many are kept on this browser's disk, by another window of it too. */
  kept: () => Promise<number>;
  seq: number;
  running: boolean;
}

/** Say now and then that this screen is there; at once when it has nothing left to send and when a run begins or ends. */
export function useHeard(say: Say | null, holding: Holding) {
  const latest = useRef({ say, holding });
  const counted = useRef(0);
  useEffect(() => {
    latest.current = { say, holding };
  });
  const isThere = say !== null;
  const isEmpty = holding.unsent === 0;
  useEffect(() => {
    if (!isThere) return;
    void tell(latest.current, false, counted);
    const timer = window.setInterval(() => void tell(latest.current, false, counted), PERIOD_MS);
    return () => window.clearInterval(timer);
  }, [isThere, isEmpty, holding.running]);
  useEffect(() => {
    if (!isThere) return;
    const known = latest;
    const leave = () => void tell(known.current, true, counted);
    window.addEventListener("pagehide", leave);
    return () => {
      window.removeEventListener("pagehide", leave);
      leave();
    };
  }, [isThere]);
}

/** ``counted``: how many presses were kept on the disk for this place when last counted; a page that goes cannot wait. */
async function tell(
  { say, holding }: { say: Say | null; holding: Holding },
  leaving: boolean,
  counted: { current: number },
) {
  const { role, unsent, kept, seq } = holding;
  if (!leaving) counted.current = await kept().catch(() => 0);
  // what is not heard now is said again in a moment
  await say?.({ screen: holder(role), unsent: Math.max(unsent, counted.current), seq, leaving }).catch(() => undefined);
}
