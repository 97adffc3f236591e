import "./Budget.css";
import type { Schemas } from "@/shared/client";

interface Props {
  shares: number[];
  exercises: Schemas["ExerciseView"][];
  count: number;
  /** The fit factor the run is heading for by what has been read, its lower bound, and the level it needs. */
  heading: string | null;
  bound: string | null;
  level: string;
  isUnlikely: boolean;
  isLost: boolean;
}

/** What the run is heading for; the leak budget as a bar that the exercises spend, with the words for what to look at. */
export function Budget({ shares, exercises, count, heading, bound, level, isUnlikely, isLost }: Props) {
  const spent = shares.reduce((sum, one) => sum + one, 0);
  const worst = shares.indexOf(Math.max(...shares, 0));
  const scale = Math.max(1, spent);
  const done = shares.filter((one) => one > 0).length;
  const overdrawn = done > 0 && count > 0 && spent > done / count;
  const words = isLost
    ? "It cannot pass any more. Stop and refit."
    : isUnlikely
      ? "A pass is unlikely now."
      : overdrawn && exercises[worst]
        ? `${exercises[worst].name} lets in more than its part: look at ${exercises[worst].look_at}.`
        : "";
  return (
    <section className="budget" aria-label="Leak budget">
      <p className="heading-for" role="status">
        {heading ? (
          <>
            Heading for <b className="mono">{heading}</b>, needs {level}
            {bound && <span> · at least {bound}</span>}
          </>
        ) : (
          <>Needs {level}; nothing has come in yet</>
        )}
      </p>
      <div className={`bar ${isLost ? "lost" : isUnlikely ? "unlikely" : ""}`}>
        {shares.map((one, i) => (
          <span
            key={exercises[i]?.id ?? i}
            className={i === worst ? "worst" : ""}
            style={{ width: `${(one / scale) * 100}%` }}
          />
        ))}
        {spent > 1 && <i style={{ left: `${100 / scale}%` }} />}
      </div>
      <div className={`budget-words ${isLost ? "rust" : isUnlikely ? "gorse" : ""}`} role="status">
        {words}
      </div>
    </section>
  );
}
