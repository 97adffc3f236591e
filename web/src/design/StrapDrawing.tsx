import "./StrapDrawing.css";
import type { Schemas } from "@/shared/client";
import { FaceDrawing } from "@/design/FaceDrawing";
import { ThingDrawing } from "@/design/ThingDrawing";

interface Parts {
  words: string;
  mask: Outline | "none";
  lines: { d: string; order?: number; at?: [number, number] }[];
  arrows: string[];
}
type Outline = Schemas["FacepieceView"]["outline"];
const PIECES: Record<Outline, string> = {
  half: "M136 96 158 118c4 6 2 16-6 20l-22 12c-10-10-14-34-4-52z",
  full: "M120 44c22 4 36 32 36 62 0 22-14 40-30 44-12-30-18-78-6-106z",
  disposable: "M134 96c22 2 30 22 22 36-6 10-18 16-28 14-8-14-6-40 6-50z",
};

/** Own line drawings seen from the side: what moves is drawn thick, in the order it is done. */
const DRAWINGS: Record<string, Parts> = {
  half_fixed: {
    words:
      "Half facepiece, fixed suspension: one, harness over the crown; two, lower straps hooked behind the neck; upper first, then lower",
    mask: "half",
    lines: [
      { d: "M132 100C96 88 76 60 70 34", order: 1, at: [78, 52] },
      { d: "M130 138C100 146 78 150 62 150", order: 2, at: [84, 158] },
    ],
    arrows: ["M70 34l-6 12M70 34l10 9"],
  },
  half_dropdown: {
    words: "Half facepiece, drop-down: one, cradle on the head; two, slide the facepiece up; upper first, then lower",
    mask: "half",
    lines: [
      { d: "M64 70C74 42 96 30 116 34", order: 1, at: [74, 40] },
      { d: "M150 176 146 152", order: 2, at: [166, 176] },
    ],
    arrows: ["M146 152l-9 8M146 152l8 9"],
  },
  full: {
    words: "Full facepiece: one, chin in; two, harness over the back of the head; then lower straps first, then upper",
    mask: "full",
    lines: [
      { d: "M150 186C140 180 134 172 130 160", order: 1, at: [162, 190] },
      { d: "M122 54C98 34 74 42 60 70", order: 2, at: [84, 30] },
      { d: "M128 138C100 140 80 136 60 126", order: 3, at: [88, 156] },
    ],
    arrows: ["M60 70l12-8M60 70l-2-14"],
  },
  bands: {
    words: "Disposable: one, upper band high on the crown; two, lower band below the ears, not crossed",
    mask: "disposable",
    lines: [
      { d: "M138 104C104 84 82 56 74 34", order: 1, at: [82, 56] },
      { d: "M134 140C104 150 82 150 62 146", order: 2, at: [86, 162] },
    ],
    arrows: [],
  },
  clip: {
    words: "Clip-band: one, head lowered, chin in; two, bands up; three, hook the clip behind the neck",
    mask: "disposable",
    lines: [
      { d: "M138 104C104 84 82 56 74 34", order: 2, at: [82, 56] },
      { d: "M134 140C104 150 82 150 56 148M56 142v12", order: 3, at: [86, 164] },
    ],
    arrows: [],
  },
  nose_piece: {
    words: "Nose piece: two hands, from the centre outward",
    mask: "disposable",
    lines: [{ d: "M146 92C154 98 158 104 160 112", order: 1, at: [178, 92] }],
    arrows: ["M160 112l-9-6M160 112l3-10"],
  },
  buckle: {
    words: "Too tight: push out the back of the buckle, both sides alike",
    mask: "half",
    lines: [{ d: "M132 100C112 94 100 84 92 72" }, { d: "M112 86l14 14M118 80l14 14", order: 1, at: [104, 108] }],
    arrows: ["M118 80l4 12M118 80l12 2"],
  },
  chin: {
    words: "Chin well in: under it, not on it",
    mask: "half",
    lines: [{ d: "M150 182C142 174 138 166 136 154", order: 1, at: [164, 186] }],
    arrows: ["M136 154l-4 12M136 154l11 7"],
  },
  bridge: {
    words: "Low on the bridge of the nose, nothing gaping",
    mask: "half",
    lines: [{ d: "M176 84 154 100", order: 1, at: [188, 80] }],
    arrows: ["M154 100l13-1M154 100l4-12"],
  },
  probe: {
    words: "The probe sits midway between nose and mouth; the hose hangs slack",
    mask: "half",
    lines: [{ d: "M152 122h24c10 0 14 14 14 40", order: 1, at: [186, 108] }],
    arrows: [],
  },
  bars: {
    words: "Spectacle bars: over the ears, never under the seal",
    mask: "none",
    lines: [{ d: "M140 84H84", order: 1, at: [112, 70] }],
    arrows: [],
  },
  hair: {
    words: "Hair tied back, low, clear of straps and seal",
    mask: "none",
    lines: [{ d: "M64 96C48 110 42 132 50 156", order: 1, at: [34, 128] }],
    arrows: [],
  },
  settle: {
    words: "Head side to side, up and down, deep breaths",
    mask: "half",
    lines: [{ d: "M60 20C84 6 118 6 140 20", order: 1, at: [100, 24] }],
    arrows: ["M140 20l-13-2M140 20l-6-12M60 20l13-2M60 20l6-12"],
  },
  doff: {
    words: "Off: one, the upper strap forward over the head; two, tilted down and away from the face",
    mask: "half",
    lines: [
      { d: "M64 70C70 30 116 18 142 62", order: 1, at: [92, 28] },
      { d: "M160 158c16 4 26 14 32 30", order: 2, at: [196, 152] },
    ],
    arrows: ["M142 62l-13-4M142 62l3-13", "M192 188l-13-5M192 188l3-14"],
  },
  doff_bands: {
    words: "Off: leaning forward, the bands forward over the head, the front not touched",
    mask: "disposable",
    lines: [
      { d: "M62 140C70 150 96 156 118 148", order: 1, at: [84, 166] },
      { d: "M64 70C70 30 116 18 142 62", order: 2, at: [92, 28] },
    ],
    arrows: ["M118 148l-12-4M118 148l-9 9", "M142 62l-13-4M142 62l3-13"],
  },
  seal_positive: {
    words: "Palm over the valve, breathe out gently: it bulges slightly",
    mask: "half",
    lines: [{ d: "M186 104c-10 6-14 24-6 34" }, { d: "M150 124h20", order: 1, at: [200, 122] }],
    arrows: ["M170 124l-9-6M170 124l-9 6"],
  },
  seal_negative: {
    words: "Inlets closed, breathe in and hold: it is drawn in and stays so",
    mask: "half",
    lines: [{ d: "M186 104c-10 6-14 24-6 34" }, { d: "M178 124h-22", order: 1, at: [200, 122] }],
    arrows: ["M156 124l9-6M156 124l9 6"],
  },
};

/** The names of all drawings there are. */
export const STRAP_DRAWINGS = Object.keys(DRAWINGS);

/** The drawing of a card: the seal on a face from the front, straps and hands from the side, or a thing on the bench. */
export function StrapDrawing({ name, outline }: { name: string; outline?: Outline | undefined }) {
  if (name === "seal_line") return <FaceDrawing isFull={outline === "full"} />;
  const one = DRAWINGS[name];
  if (!one) return <ThingDrawing name={name} />;
  return (
    <svg className="straps" viewBox="20 0 196 210" role="img" aria-label={one.words}>
      <path
        className="head"
        d="M66 150C40 120 46 44 96 30c40-8 62 22 60 52l14 26-13 5c2 18-2 30-12 34-10 3-20 0-26 6-6 8-4 26-4 40M66 150c4 16 2 30-4 44"
      />
      <path className="ear" d="M88 92c-8-8-18 2-12 14 3 7 10 8 12 2" />
      {one.mask !== "none" && (
        <path className="piece" d={PIECES[one.mask === "half" ? (outline ?? "half") : one.mask]} />
      )}
      {one.lines.map((line) => (
        <path key={line.d} className={line.order ? "moves" : "still"} d={line.d} />
      ))}
      {one.arrows.map((d) => (
        <path key={d} className="moves" d={d} />
      ))}
      {one.lines.map((line) =>
        line.order && line.at ? (
          <g key={`n${line.d}`} transform={`translate(${line.at[0]} ${line.at[1]})`}>
            <circle r="11" className="order" />
            <text textAnchor="middle" y="5">
              {line.order}
            </text>
          </g>
        ) : null,
      )}
    </svg>
  );
}
