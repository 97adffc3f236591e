const WIDTH = 900;
const GROUND = 300;
const STONE = "M-92 34C-98-8-70-58-18-66 42-74 96-36 94 14 92 52 46 66-8 64-58 62-88 58-92 34Z";

interface Motion {
  x: number;
  y: number;
  size: number;
  hint: "" | "left" | "right" | "up" | "down";
  waves: boolean;
}

function swing(t: number, period: number): number {
  return Math.sin((2 * Math.PI * t) / period);
}

/** Rests at both ends, so that there is time for a breath there. */
function dwell(t: number, period: number): number {
  return Math.max(-1, Math.min(1, 1.7 * swing(t, period)));
}

function motionOf(kind: string, ms: number): Motion {
  const t = Math.max(0, ms) / 1000;
  const still: Motion = { x: 0, y: 0, size: 1, hint: "", waves: false };
  switch (kind) {
    case "deep":
      return { ...still, size: 1.1 + 0.34 * swing(t, 8) };
    case "side": {
      const at = dwell(t, 10);
      return { ...still, x: at * -300, size: Math.abs(at) > 0.97 ? 1.12 : 1, hint: at > 0 ? "left" : "right" };
    }
    case "updown": {
      const at = dwell(t, 10);
      return { ...still, y: at * -130, size: at > 0.97 ? 1.12 : 1, hint: at > 0 ? "up" : "down" };
    }
    case "talk":
      return { ...still, waves: true, size: 1 + 0.04 * swing(t, 0.9) };
    case "bend": {
      const at = swing(t, 6);
      return { ...still, y: 40 + at * 130, hint: at > 0 ? "down" : "up" };
    }
    case "jog":
      return { ...still, y: -60 * Math.abs(swing(t, 1.1)) };
    case "left":
      return { ...still, x: -300, hint: "left" };
    case "right":
      return { ...still, x: 300, hint: "right" };
    case "up":
      return { ...still, y: -130, hint: "up" };
    case "floor":
      return { ...still, y: 130, hint: "down" };
    case "shake":
      return { ...still, x: 160 * swing(t, 0.5) };
    case "rest":
      return still;
    default:
      return { ...still, size: 1 + 0.1 * swing(t, 4.5) };
  }
}

const HINTS: Record<string, string> = {
  left: "M-190 0l60-58v116z",
  right: "M190 0l-60-58v116z",
  up: "M0-170l58 60h-116z",
  down: "M0 170l58-60h-116z",
};

/** A stone over the moor that moves as the wearer is to move; the fog bank below it shrinks as time goes by. */
export function MovingStone({ kind, t, share }: { kind: string; t: number; share: number }) {
  const { x, y, size, hint, waves } = motionOf(kind, t);
  return (
    <svg className="moving-stone" viewBox={`0 0 ${WIDTH} 520`} role="img" aria-label={hint ? `Go ${hint}` : "Breathe"}>
      <path className="moor" d={`M-1200 ${GROUND + 104}q525-70 1050 0t900-6t1050-20v1600H-1200z`} />
      <g transform={`translate(${WIDTH / 2 + x} ${GROUND - 70 + y})`}>
        {hint && <path className="hint" d={HINTS[hint]} />}
        {waves && (
          <path className="waves" d="M120-40q22 40 0 80M156-60q32 60 0 120M-120-40q-22 40 0 80M-156-60q-32 60 0 120" />
        )}
        <path className="stone-shape" d={STONE} transform={`scale(${size})`} />
      </g>
      <rect
        className="fogbank"
        x={0}
        y={470}
        width={WIDTH * (1 - Math.min(1, Math.max(0, share)))}
        height={40}
        rx={20}
      />
    </svg>
  );
}
