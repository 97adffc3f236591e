import { v7 as uuid } from "uuid";

/** This screen: a slip of the finger can be taken back only where it was made. A new tab is another screen. */
export const SCREEN: string = (() => {
  const known = sessionStorage.getItem("screen");
  if (known) return known;
  const made = uuid();
  sessionStorage.setItem("screen", made);
  return made;
})();
