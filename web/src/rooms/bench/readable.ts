import { useEffect, useState } from "react";

const READ_MS = 700;
const PER_SIGN_MS = 22;

/** Whether a text has been there long enough to be read; at once where there is none. Practice reads faster. */
export function useReadable(text: string, speed = 1): boolean {
  const [isThere, setThere] = useState(text === "");
  useEffect(() => {
    if (text === "") return;
    const timer = window.setTimeout(() => setThere(true), (READ_MS + PER_SIGN_MS * text.length) / speed);
    return () => window.clearTimeout(timer);
  }, [text, speed]);
  return isThere;
}
