import "./Walk.css";
import type { Schemas } from "@/shared/client";

const WIDTH = 1240;
const BASE = 46;

function at(index: number, count: number): [number, number] {
  const x = 62 + (index * (WIDTH - 124)) / (count - 1);
  return [x, BASE + Math.sin(index * 1.25 + 0.6) * 8];
}

function curve(points: [number, number][]): string {
  return points
    .map(([x, y], i) => {
      const before = points[i - 1];
      if (!before) return `M${x} ${y}`;
      const mid = (before[0] + x) / 2;
      return `C${mid} ${before[1]} ${mid} ${y} ${x} ${y}`;
    })
    .join("");
}

const ANCHORS = ["start", "middle", "end"] as const;
/** Which of the anchors a waymark's words have: the first and the last stay on the page however long they are. */
function edge(index: number, count: number): 0 | 1 | 2 {
  return index === 0 ? 0 : index === count - 1 ? 2 : 1;
}

/** The visit as a walk: cairns behind, a lantern here, open cairns ahead and where it was left; a refit bends the line back. */
export function Walk({ steps, detail }: { steps: Schemas["Waymark"][]; detail: string }) {
  const points = steps.map((_, i) => at(i, steps.length));
  const here = steps.findIndex((one) => one.state === "here");
  const done = steps.every((one) => one.state === "behind");
  const left = steps.findIndex((one) => one.state === "left_out");
  const walked = points.slice(0, done ? points.length : left >= 0 ? left : here + 1);
  const loops = Math.max(...steps.map((one) => one.again));
  const from = points[steps.findIndex((one) => one.again > 0)];
  const to = points[steps.length - 2];
  const words = done
    ? "all steps done"
    : here < 0
      ? "ended before all was done"
      : `step ${here + 1} of ${steps.length}, ${steps[here]?.name ?? ""}`;
  return (
    <svg className="walk" viewBox={`0 0 ${WIDTH} 92`} role="img" aria-label={`Way of this visit: ${words}`}>
      <path d={curve(points)} className="line-ahead" />
      {walked.length > 1 && <path d={curve(walked)} className="line-walked" />}
      {from &&
        to &&
        Array.from({ length: Math.min(loops, 3) }, (_, i) => (
          <path
            key={i}
            className="loop"
            d={`M${to[0]} ${to[1]}C${to[0] - 60} ${to[1] - 34 - i * 7} ${from[0] + 60} ${from[1] - 38 - i * 7} ${from[0]} ${from[1]}`}
          />
        ))}
      {steps.map((step, i) => {
        const [x, y] = points[i] ?? [0, 0];
        const side = edge(i, steps.length);
        const said = step.state === "here" ? detail : "";
        return (
          <g key={step.id} transform={`translate(${x} ${y})`} className={step.state}>
            {step.state === "here" ? (
              <>
                <circle r="14" className="glow" />
                <circle r="5" className="core" />
              </>
            ) : (
              <>
                <path d="M-13 8 -8 -5H8L13 8z" />
                <path d="M-7 -7 -4 -15H4L7 -7z" className="upper" />
              </>
            )}
            <text y="34" x={[-30, 0, 30][side]} textAnchor={ANCHORS[side]}>
              {step.name}
              {said && side < 2 ? ` · ${said}` : ""}
            </text>
            {said && side === 2 && (
              <text y="-20" x="30" textAnchor="end">
                {said}
              </text>
            )}
          </g>
        );
      })}
    </svg>
  );
}
