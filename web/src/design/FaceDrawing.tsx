import "./FaceDrawing.css";
/** Where the seal runs on a face, drawn from the front. */
export const SEAL = {
  full: "M85 34C124 34 142 62 140 100c-2 46-28 88-55 88s-53-42-55-88C28 62 46 34 85 34z",
  half: "M85 72c12 8 43 52 42 76-1 27-22 42-42 42s-41-15-42-42c-1-24 30-68 42-76z",
};

/** A face in outline with the line where the seal runs; half facepiece or full. */
export function FaceDrawing({ isFull }: { isFull: boolean }) {
  return (
    <svg
      className="face"
      viewBox="0 0 170 210"
      role="img"
      aria-label={
        isFull
          ? "The seal of a full facepiece runs round the whole face"
          : "The seal runs over the nose, along the cheeks and under the chin"
      }
    >
      <path d="M85 6C132 6 160 46 156 100c-3 52-36 104-71 104S17 152 14 100C10 46 38 6 85 6z" className="outline" />
      <path d="M46 82q13-9 26 0M98 82q13-9 26 0" className="outline thin" />
      <path d="M86 80 74 118q10 9 22 1M62 148q23 10 46 0" className="outline thin" />
      <path className="seal" d={isFull ? SEAL.full : SEAL.half} />
    </svg>
  );
}
