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

/**
 * Listen for single keys. A button reached by Tab keeps Space and Enter for itself.
 *
 * A card that can be seen already listens: with effects after painting, a quick press on a new card would be lost.
 */
export function useKeys(map: KeyMap, active = true): void {
  const current = useRef(map);
  useLayoutEffect(() => {
    current.current = map;
  });
  useLayoutEffect(() => {
    if (!active) return;
    const onKey = (event: KeyboardEvent) => {
      const focused = document.activeElement;
      if (event.ctrlKey || event.metaKey || event.altKey || event.repeat || isField(focused)) return;
      if ((event.key === " " || event.key === "Enter") && focused?.matches("button:focus-visible")) return;
      if (event.key === "Enter" && focused?.matches("a")) return;
      const action = current.current[event.key.toLowerCase()];
      if (action) {
        event.preventDefault();
        action();
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [active]);
}
