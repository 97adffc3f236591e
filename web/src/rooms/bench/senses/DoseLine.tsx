import type { Schemas } from "@/shared/client";

interface Props {
  doses: { due_ms: number; state: string; what: string }[];
  exercises: Schemas["ExerciseView"][];
  t: number;
}

const WIDTH = 1000;
const EDGE = 14;

/** The run as a stretch of moor: an exercise a field, a dose a stone on it, and where we are. */
export function DoseLine({ doses, exercises, t }: Props) {
  const total = exercises.at(-1)?.end_ms ?? 1;
  const x = (ms: number) => EDGE + (Math.min(Math.max(ms, 0), total) / total) * (WIDTH - 2 * EDGE);
  const given = doses.filter((one) => one.state === "given").length;
  const missed = doses.filter((one) => one.state === "missed").length;
  const words = doses.length
    ? `${given} of ${doses.length} doses given${missed ? `, ${missed} missed` : ""}`
    : "no doses in this test";
  return (
    <svg className="dose-line" viewBox={`0 0 ${WIDTH} 104`} role="img" aria-label={words}>
      {exercises.map((one, i) => (
        <g key={one.id + String(one.start_ms)} className={t >= one.start_ms && t < one.end_ms ? "now" : ""}>
          <rect
            x={x(one.start_ms)}
            y={56}
            width={x(one.end_ms) - x(one.start_ms) - 2}
            height={16}
            className={i % 2 ? "field odd" : "field"}
          />
          <text x={(x(one.start_ms) + x(one.end_ms)) / 2} y={94} textAnchor="middle">
            {one.short}
          </text>
        </g>
      ))}
      {doses.map((one) => (
        <g key={one.due_ms} transform={`translate(${x(one.due_ms)} 40)`} className={`stone-${one.state}`}>
          <path d="M-12 13-10 0-3-9 8-6 13 5 11 13z" />
          {one.state === "missed" && <path className="crack" d="M-16-14 16 18M16-14-16 18" />}
        </g>
      ))}
      <path className="here" d={`M${x(t)} 30v50m0-50-8-12h16z`} />
    </svg>
  );
}
