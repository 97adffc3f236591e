import { type DBSchema, type IDBPDatabase, openDB } from "idb";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";

/** What was pressed and is not yet stored by the server, each press on its own, so that two windows lose none. */
interface Shelf extends DBSchema {
  presses: {
    key: number;
    value: Press;
    indexes: { place: string; id: string };
  };
}

/** A press kept on this device: where it belongs, and whose it is (empty: whoever holds the address). */
interface Press {
  id: string;
  place: string;
  account: string;
  name: string;
  entry: unknown;
}

/** Who presses here. */
export interface Presser {
  account: string;
  name: string;
}

let opened: Promise<IDBPDatabase<Shelf>> | null = null;

function shelf(): Promise<IDBPDatabase<Shelf>> {
  opened ??= openDB<Shelf>("moorfog", 1, {
    upgrade(db) {
      const presses = db.createObjectStore("presses", { autoIncrement: true });
      presses.createIndex("place", "place");
      presses.createIndex("id", "id", { unique: true });
    },
    terminated: () => (opened = null),
  }).catch((error: unknown) => {
    opened = null;
    throw error;
  });
  return opened;
}

async function put(press: Press): Promise<void> {
  const tx = (await shelf()).transaction("presses", "readwrite");
  await Promise.all([(await tx.store.index("id").getKey(press.id)) ?? tx.store.add(press), tx.done]);
}

async function take(id: string): Promise<void> {
  const tx = (await shelf()).transaction("presses", "readwrite");
  const key = await tx.store.index("id").getKey(id);
  await Promise.all([key === undefined ? undefined : tx.store.delete(key), tx.done]);
}

async function at(place: string): Promise<Press[]> {
  return (await shelf()).getAllFromIndex("presses", "place", place);
}

const BENCH = "visit:";
/** The place of what is pressed at the bench for a visit. */
export const benchOf = (visitId: string) => BENCH + visitId;
/** The place of what is pressed on the wearer's screen of an address. */
export const wearerAt = (token: string) => `wearer:${token}`;

/** How many presses this device keeps, by visit. */
export async function keptByVisit(): Promise<Map<string, number>> {
  const counts = new Map<string, number>();
  for (const one of await (await shelf()).getAll("presses")) {
    if (one.place.slice(0, BENCH.length) !== BENCH) continue;
    const visit = one.place.slice(BENCH.length);
    counts.set(visit, (counts.get(visit) ?? 0) + 1);
  }
  return counts;
}

/** How many presses this device keeps for a place, whichever of its windows they were made in. */
export async function keptAt(place: string): Promise<number> {
  return (await shelf()).countFromIndex("presses", "place", place);
}

/** What an outbox tells the page it belongs to. */
export interface Outbox<T> {
  /** What goes out for whoever is signed in, in its order. */
  entries: T[];
  /** What somebody else pressed here: it goes out when they are signed in. */
  others: Presser[];
  /** Whether what is pressed outlives this page. */
  isKept: boolean;
  add: (entry: T) => void;
  /** Stored by the server, or refused: it is done with. */
  drop: (id: string) => void;
  /** Try it again, after the others. */
  putLast: (id: string) => void;
  /** Try again. */
  again: () => void;
}

/** The presses of a place that the server does not have yet, kept on this device until it has. */
export function useOutbox<T extends { id: string }>(place: string, { account, name }: Presser): Outbox<T> {
  const [presses, setPresses] = useState<Press[]>([]);
  const [isKept, setKept] = useState(true);
  const done = useRef(new Set<string>());
  const lost = useCallback((error: unknown) => {
    console.warn("this device keeps nothing", error);
    setKept(false);
  }, []);

  useEffect(() => {
    let isHere = true;
    const look = () => {
      if (document.hidden) return;
      at(place)
        .then((found) => {
          if (!isHere) return;
          setPresses((here) => {
            const known = new Set(here.map((one) => one.id));
            const fresh = found.filter((one) => !known.has(one.id) && !done.current.has(one.id));
            return fresh.length ? [...fresh, ...here] : here;
          });
        })
        .catch(lost);
    };
    look();
    document.addEventListener("visibilitychange", look);
    return () => {
      isHere = false;
      document.removeEventListener("visibilitychange", look);
    };
  }, [place, lost]);

  const add = useCallback(
    (entry: T) => {
      const press: Press = { id: entry.id, place, account, name, entry };
      put(press).catch(lost);
      setPresses((all) => [...all, press]);
    },
    [place, account, name, lost],
  );
  const drop = useCallback(
    (id: string) => {
      done.current.add(id);
      take(id).catch(lost);
      setPresses((all) => all.filter((one) => one.id !== id));
    },
    [lost],
  );
  const putLast = useCallback((id: string) => {
    setPresses((all) => [...all.filter((one) => one.id !== id), ...all.filter((one) => one.id === id)]);
  }, []);
  const again = useCallback(() => setPresses((all) => [...all]), []);
  // a press belongs to its place, wherever the page has gone meanwhile
  const here = useMemo(() => presses.filter((one) => one.place === place), [presses, place]);
  const entries = useMemo(
    () => here.filter((one) => one.account === account).map((one) => one.entry as T),
    [here, account],
  );
  return {
    entries,
    others: here.filter((one) => one.account !== account),
    isKept,
    add,
    drop,
    putLast,
    again,
  };
}
