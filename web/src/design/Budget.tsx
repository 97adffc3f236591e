import "./Budget.css";
import type { Schemas } from "@/shared/client";

interface Props {
  shares: number[];
  exercises: Schemas["ExerciseView"][];
  count: number;
  percent: string;
  isUnlikely: boolean;
  isLost: boolean;
}

/** The leak budget: one bar that the exercises spend, with the words for what to look at. */
export function Budget({ shares, exercises, count, percent, isUnlikely, isLost }: Props) {
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
        ? `${exercises[worst].name} spends more than its part: look at ${exercises[worst].look_at}.`
        : done
          ? "Within what may be let in by now."
          : "Nothing measured yet.";
  return (
    <section className="budget" aria-label="Leak budget">
      <div className="budget-title">
        <b>Leak budget:</b> all {count} together may let in {percent} %{" "}
        <span className="mono">· {Math.floor(spent * 100)} % spent</span>
      </div>
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
