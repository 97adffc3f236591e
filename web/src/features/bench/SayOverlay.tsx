import { useKeys } from "@/shared/keys";

/** The words to say, as large as the screen allows; any of the usual keys closes it. */
export function SayOverlay({ words, close }: { words: string; close: () => void }) {
  useKeys({ w: close, escape: close, " ": close });
  return (
    <button
      type="button"
      className={words.length > 240 ? "say-overlay long" : "say-overlay"}
      onClick={close}
      aria-label={`${words} Close.`}
    >
      <span>{words}</span>
      <small>W closes</small>
    </button>
  );
}
