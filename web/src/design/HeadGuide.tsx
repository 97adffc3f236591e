import "./HeadGuide.css";

const WIDTH = 900;
const HEIGHT = 520;
const SIDE =
  "M66 150C40 120 46 44 96 30c40-8 62 22 60 52l14 26-13 5c2 18-2 30-12 34-10 3-20 0-26 6-6 8-4 26-4 40H62C68 180 70 166 66 150z";

/** How the outline stands: from above turned by degrees, or from the side tilted by degrees; `at` marks a breath. */
interface Pose {
  seen: "above" | "side";
  turn: number;
  drop: number;
  breath: boolean;
  arrow: "" | "left" | "right" | "up" | "down";
}

function swing(t: number, period: number): number {
  return Math.sin((2 * Math.PI * t) / period);
}

/** Rests at both ends, so that there is time for a breath there. */
function dwell(t: number, period: number): number {
  return Math.max(-1, Math.min(1, 1.7 * swing(t, period)));
}

const TURN = 78;
const STRAIGHT: Pose = { seen: "side", turn: 0, drop: 0, breath: true, arrow: "" };
const HELD: Record<string, Pose> = {
  left: { seen: "above", turn: -TURN, drop: 0, breath: false, arrow: "left" },
  right: { seen: "above", turn: TURN, drop: 0, breath: false, arrow: "right" },
  up: { seen: "side", turn: -32, drop: 0, breath: false, arrow: "up" },
  down: { seen: "side", turn: 40, drop: 0, breath: false, arrow: "down" },
  rest: { ...STRAIGHT, breath: false },
};

/** Where the nose points at a moment of an exercise, in ms from the start; it waits where a breath is taken. */
export function poseOf(kind: string, ms: number): Pose {
  const t = Math.max(0, ms) / 1000;
  const held = HELD[kind];
  if (held) return held;
  switch (kind) {
    case "side": {
      const at = dwell(t, 10);
      return {
        seen: "above",
        turn: -at * TURN,
        drop: 0,
        breath: Math.abs(at) > 0.97,
        arrow: at > 0 ? "left" : "right",
      };
    }
    case "shake":
      return { seen: "above", turn: 40 * swing(t, 0.5), drop: 0, breath: false, arrow: "" };
    case "updown": {
      const at = dwell(t, 10);
      return {
        seen: "side",
        turn: at > 0 ? -32 * at : -40 * at,
        drop: 0,
        breath: at > 0.97,
        arrow: at > 0 ? "up" : "down",
      };
    }
    case "bend": {
      const at = (1 - Math.cos((2 * Math.PI * t) / 8)) / 2;
      return { seen: "side", turn: 80 * at, drop: 0, breath: at > 0.8, arrow: swing(t, 8) > 0 ? "down" : "up" };
    }
    case "jog":
      return { ...STRAIGHT, drop: -26 * Math.abs(swing(t, 1.1)), breath: false };
    default:
      return STRAIGHT;
  }
}

const ARROWS: Record<string, string> = {
  left: "M70 260l84-70v140z",
  right: "M830 260l-84-70v140z",
  up: "M760 90l70 84h-140z",
  down: "M760 430l70-84h-140z",
};
const WORDS: Record<string, string> = { left: "Left", right: "Right", up: "Up", down: "Down" };

/** A head in outline whose nose points where to turn, and waits there for the breath; the fog below says how long. */
export function HeadGuide({ kind, t, share }: { kind: string; t: number; share: number }) {
  const { seen, turn, drop, breath, arrow } = poseOf(kind, t);
  const deep = kind === "deep" ? 1.6 : 1;
  const puff = 1 + 0.22 * deep * swing(Math.max(0, t) / 1000, kind === "deep" ? 8 : 4.5);
  return (
    <svg
      className="head-guide"
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      role="img"
      aria-label={arrow ? WORDS[arrow] : "Straight ahead"}
    >
      {arrow && <path className="guide-arrow" d={ARROWS[arrow]} />}
      {seen === "above" ? (
        <g transform={`translate(${WIDTH / 2} 270)`}>
          <path className="shoulders" d="M-230 40c20-70 120-96 230-96s210 26 230 96-90 96-230 96-250-26-230-96z" />
          <g transform={`rotate(${turn})`}>
            <path className="guide-head" d="M0-150c74 0 112 58 112 134S70 128 0 128-112 60-112-16-74-150 0-150z" />
            <path className="guide-nose" d="M-26-146L0-206 26-146z" />
            {breath && <circle className="guide-breath" cy="-232" r={34 * puff} />}
          </g>
        </g>
      ) : (
        <g transform={`translate(${WIDTH / 2 - 190} ${110 + drop})`}>
          <g transform={`rotate(${turn} 160 310) scale(1.6)`}>
            <path className="guide-head" d={SIDE} />
            {kind === "talk" && <path className="guide-waves" d="M178 116q10 14 0 28M192 108q16 22 0 44" />}
            {breath && kind !== "talk" && <circle className="guide-breath" cx="192" cy="124" r={15 * puff} />}
          </g>
        </g>
      )}
      <rect
        className="fogbank"
        x={0}
        y={484}
        width={WIDTH * (1 - Math.min(1, Math.max(0, share)))}
        height={32}
        rx={16}
      />
    </svg>
  );
}
