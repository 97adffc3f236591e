import "./FaceDrawing.css";
/** Where the seal runs on a face, drawn from the front. */
export const SEAL = {
  full: "M85 34C124 34 142 62 140 100c-2 46-28 88-55 88s-53-42-55-88C28 62 46 34 85 34z",
  half: "M85 72c12 8 43 52 42 76-1 27-22 42-42 42s-41-15-42-42c-1-24 30-68 42-76z",
};

/** A face in outline with the line where the seal runs, half facepiece or full, and up to where hair may stand: a
 * moustache to the corner of the lip, a sideburn to the line of the earlobe. The maker's own seal line decides. */
export function FaceDrawing({ isFull }: { isFull: boolean }) {
  const seal = isFull
    ? "The seal of a full facepiece runs round the whole face"
    : "The seal runs over the nose, along the cheeks and under the chin";
  return (
    <svg
      className="face"
      viewBox="0 0 170 210"
      role="img"
      aria-label={`${seal}. A moustache ends before the corner of the lip, a sideburn above the earlobe`}
    >
      <path d="M85 6C132 6 160 46 156 100c-3 52-36 104-71 104S17 152 14 100C10 46 38 6 85 6z" className="outline" />
      <path d="M46 82q13-9 26 0M98 82q13-9 26 0" className="outline thin" />
      <path d="M86 80 74 118q10 9 22 1M62 148q23 10 46 0" className="outline thin" />
      <path className="seal" d={isFull ? SEAL.full : SEAL.half} />
      <path
        className="hair"
        d="M67 139q18-13 36 0q-18-5-36 0zM17 64q6 22 4 44l7-3q2-22-2-40zM153 64q-6 22-4 44l-7-3q-2-22 2-40z"
      />
      <path className="limit" d="M62 130v26M108 130v26M6 108h30M134 108h30" />
    </svg>
  );
}
