import { useLayoutEffect, useRef } from "react";

/** The bench's keys, the same everywhere. Off while a field has the focus. */
export const KEY = {
  fine: " ",
  gate: "y",
  notFine: "n",
  touched: "x",
  stop: "s",
  say: "w",
  back: "u",
  later: "l",
  away: "t",
  more: "0",
  find: "f",
} as const;

export type KeyMap = Record<string, (() => void) | undefined>;

function isField(element: Element | null): boolean {
  return (
    element instanceof HTMLElement &&
    (element.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(element.tagName))
  );
}

type Listener = { readonly current: KeyMap };
/** Who listens now: what lies over everything else, and what it lies upon, which hears of a key nobody above takes. */
const over = new Set<Listener>();
const under = new Set<Listener>();

function onKey(event: KeyboardEvent): void {
  const focused = document.activeElement;
  if (event.ctrlKey || event.metaKey || event.altKey || event.repeat || isField(focused)) return;
  if ((event.key === " " || event.key === "Enter") && focused?.matches("button:focus-visible")) return;
  if (event.key === "Enter" && focused?.matches("a")) return;
  const key = event.key.toLowerCase();
  for (const layer of [over, under]) {
    const actions = [...layer].flatMap((one) => one.current[key] ?? []);
    for (const action of actions) action();
    if (actions.length) {
      event.preventDefault();
      return;
    }
  }
}

/**
 * Listen for single keys. A button reached by Tab keeps Space and Enter for itself.
 *
 * A card that can be seen already listens: with effects after painting, a quick press on a new card would be lost.
 * ``isUnder``: keys of the page that a card lies on; the card's own meaning of a key comes first.
 */
export function useKeys(map: KeyMap, active = true, isUnder = false): void {
  const current = useRef(map);
  useLayoutEffect(() => {
    current.current = map;
  });
  useLayoutEffect(() => {
    if (!active) return;
    const layer = isUnder ? under : over;
    if (over.size + under.size === 0) window.addEventListener("keydown", onKey);
    layer.add(current);
    return () => {
      layer.delete(current);
      if (over.size + under.size === 0) window.removeEventListener("keydown", onKey);
    };
  }, [active, isUnder]);
}

/** Escape leaves, also while a field has the focus. */
export function useEscape(leave: () => void): void {
  const current = useRef(leave);
  useLayoutEffect(() => {
    current.current = leave;
  });
  useLayoutEffect(() => {
    const onKey = (event: KeyboardEvent) => event.key === "Escape" && current.current();
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
}
