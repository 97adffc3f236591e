import "./Marks.css";
/** Marks of the moor. Each state has its own shape, so that greyscale reads as well as colour. */
export type MarkName = "cairn" | "cairn-open" | "gate" | "gate-unknown" | "wall" | "ring" | "lantern" | "clock";

const SHAPES: Record<MarkName, React.ReactNode> = {
  cairn: (
    <>
      <path d="M5 20 8 12h8l3 8z" fill="currentColor" />
      <path d="m9 11 1.5-5h3L15 11z" fill="currentColor" />
    </>
  ),
  "cairn-open": <path d="M5 20 8 12h8l3 8z" fill="none" stroke="currentColor" strokeWidth="2" />,
  gate: <path d="M3 5v14M21 5v14M3 9h18M3 15h18" fill="none" stroke="currentColor" strokeWidth="2.6" />,
  "gate-unknown": (
    <path
      d="M3 5v14M21 5v14M3 9h18M3 15h18"
      fill="none"
      stroke="currentColor"
      strokeWidth="2"
      strokeDasharray="2.5 2.5"
    />
  ),
  wall: (
    <path d="M3 7h18v10H3zM3 12h18M9 7v5M15 12v5M9 17v0M6 12v5" fill="none" stroke="currentColor" strokeWidth="2.2" />
  ),
  ring: <path d="M17.5 6.2A8 8 0 1 0 20 13" fill="none" stroke="currentColor" strokeWidth="3" strokeLinecap="round" />,
  lantern: (
    <>
      <circle cx="12" cy="12" r="8.5" fill="none" stroke="currentColor" strokeWidth="2.6" />
      <circle cx="12" cy="12" r="3" fill="currentColor" />
    </>
  ),
  clock: (
    <>
      <circle cx="12" cy="12" r="8.5" fill="none" stroke="currentColor" strokeWidth="2.2" />
      <path d="M12 7v5l4 2" fill="none" stroke="currentColor" strokeWidth="2.2" />
    </>
  ),
};

/** The names of all marks there are. */
export const MARKS = Object.keys(SHAPES) as MarkName[];

/** One mark. Decorative: the words beside it say the same. */
export function Mark({ name, size = 24 }: { name: MarkName; size?: number }) {
  return (
    <svg className={`mark ${name}`} width={size} height={size} viewBox="0 0 24 24" aria-hidden="true">
      {SHAPES[name]}
    </svg>
  );
}

/** The word and mark of an outcome. */
export function OutcomeMark({ outcome }: { outcome: string }) {
  const mark: Record<string, MarkName> = { pass: "cairn", fail: "wall", void: "wall", unfinished: "gate-unknown" };
  const tone: Record<string, string> = { pass: "tarn", fail: "rust", void: "rust", unfinished: "gorse" };
  if (!outcome) return <span className="dim">no test yet</span>;
  return (
    <span className={`outcome ${tone[outcome] ?? ""}`}>
      <Mark name={mark[outcome] ?? "gate-unknown"} size={20} /> {outcome}
    </span>
  );
}
