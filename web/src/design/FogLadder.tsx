import "./FogLadder.css";
import { useMediaQuery } from "@mantine/hooks";
import type { Schemas } from "@/shared/client";

export type Point = [number, number, string];
const LEFT = 76;
const DECADES = 6;
const WIDE = [860, 276] as const;
const TALL = [528, 460] as const;
const TOP = 30;
const FOOT = 52;

interface Props {
  points: Point[];
  exercises: Schemas["ExerciseView"][];
  factors: (string | null)[];
  bounds: (string | null)[];
  inside: string | null;
  unit: string;
  t: number;
  outside: string | null;
  outsideIsLive: boolean;
  wall: number | null;
  wallWords: string | null;
  level: string;
  countsWords: string;
}

/** Fog outside as a bank at the top, fog inside rising from the ground, the level as a dashed wall between. */
export function FogLadder({
  points,
  exercises,
  factors,
  bounds,
  inside,
  unit,
  t,
  outside,
  outsideIsLive,
  wall,
  wallWords,
  level,
  countsWords,
}: Props) {
  // drawn as large as it is shown, so that words stay as large as elsewhere
  const [W, H] = useMediaQuery("(max-width: 1000px)") ? TALL : WIDE;
  const FLOOR = H - FOOT;
  const y = (value: number) => {
    const share = (Math.log10(Math.max(value, 0.1)) + 1) / DECADES;
    return TOP + (FLOOR - TOP) * (1 - Math.min(1, Math.max(0, share)));
  };
  const bounded = exercises.length < 6;
  const isFlow = unit === "ml/min";
  const named = isFlow ? "Modelled flow" : "Outside";
  const total = exercises.at(-1)?.end_ms ?? 1;
  const x = (ms: number) => LEFT + ((W - LEFT) * Math.min(Math.max(ms, 0), total)) / total;
  const shown = points.filter((one) => one[0] >= 0 && one[0] <= total);
  const stretches: Point[][] = [];
  let before: Point | undefined;
  for (const one of shown) {
    if (one[2] === "I") {
      if (before?.[2] !== "I" || one[0] - before[0] > 1500) stretches.push([]);
      stretches.at(-1)?.push(one);
    }
    before = one;
  }
  const line = (run: Point[]) =>
    smooth(run)
      .map(([ms, value]) => `${x(ms).toFixed(1)},${y(value).toFixed(1)}`)
      .join(" ");
  const bank = outside ? y(Number(outside.replace(/\D/g, "")) || 5000) : y(10_000);
  return (
    <svg
      className="ladder"
      viewBox={`0 0 ${W} ${H}`}
      role="img"
      aria-label={`${named} ${outside ?? "not read yet"} ${unit}, ${outsideIsLive ? "read now" : "held"}. ${wallWords ? `Inside must stay under ${wallWords} on average for ${level}.` : ""}`}
    >
      <defs>
        <linearGradient id="bank" x1="0" y1="0" x2="0" y2="1">
          <stop offset="0" stopColor="var(--fog3)" />
          <stop offset="1" stopColor="var(--fog2)" stopOpacity="0.25" />
        </linearGradient>
      </defs>
      <rect x={LEFT} y={TOP} width={W - LEFT} height={FLOOR - TOP} className="field" />
      <rect x={LEFT} y={TOP} width={W - LEFT} height={bank - TOP} fill="url(#bank)" />
      {[0, 1, 2, 3, 4].map((decade) => (
        <g key={decade}>
          <line x1={LEFT} x2={W} y1={y(10 ** decade)} y2={y(10 ** decade)} className="rung" />
          <text x={LEFT - 10} y={y(10 ** decade) + 5} textAnchor="end" className="mono">
            {(10 ** decade).toLocaleString("en").replace(",", " ")}
          </text>
        </g>
      ))}
      {stretches.map((run, i) => (
        <g key={i}>
          <polygon
            points={`${x(run[0]?.[0] ?? 0)},${FLOOR} ${line(run)} ${x(run.at(-1)?.[0] ?? 0)},${FLOOR}`}
            className="inside-fill"
          />
          <polyline points={line(run)} className="inside-line" />
        </g>
      ))}
      {exercises.map((one, i) => (
        <g key={one.id}>
          {i > 0 && <line x1={x(one.start_ms)} x2={x(one.start_ms)} y1={TOP} y2={H} className="between" />}
          {one.short.length * 9 < x(one.end_ms) - x(one.start_ms) && (
            <text x={x(one.start_ms) + 8} y={FLOOR + 19} className="exercise">
              {one.short}
            </text>
          )}
          {factors[i] && (
            <text x={x(one.start_ms) + 8} y={FLOOR + 45} className="factor">
              {factors[i]}
              {bounds[i] && bounded && t >= one.end_ms && <tspan className="bound"> at least {bounds[i]}</tspan>}
            </text>
          )}
        </g>
      ))}
      {wall !== null && wallWords !== null && (
        <>
          <line x1={LEFT} x2={W} y1={y(wall)} y2={y(wall)} className="wall-line" />
          <text x={W - 8} y={y(wall) - 8} textAnchor="end" className="wall-words">
            {isFlow ? "the leak" : "inside"} must stay under {wallWords} on average for {level}
          </text>
        </>
      )}
      {outside && (
        <text x={LEFT} y="21" className="outside">
          {isFlow
            ? `modelled flow ${outside} ${unit}`
            : `outside ${outside} ${unit} ${outsideIsLive ? "· read now" : "· held"}${countsWords ? ` · ${countsWords}` : ""}`}
        </text>
      )}
      {inside && (
        <text x={W} y="21" textAnchor="end" className="outside">
          {isFlow ? "leak" : "inside"} {inside} {unit}
        </text>
      )}
      {t > 0 && t < total && <line x1={x(t)} x2={x(t)} y1={TOP} y2={FLOOR} className="now" />}
    </svg>
  );
}

/** Means over a second, drawn where the second ends: the eye wants the level, not each puff. */
function smooth(run: Point[]): Point[] {
  const cells = new Map<number, [number, number]>();
  for (const [ms, value] of run) {
    const cell = cells.get(Math.ceil(ms / 1000)) ?? [0, 0];
    cells.set(Math.ceil(ms / 1000), [cell[0] + value, cell[1] + 1]);
  }
  return [...cells].map(([second, [sum, n]]) => [second * 1000, sum / n, "I"]);
}
