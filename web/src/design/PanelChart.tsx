const CELLS: [number, number, number, number, number][] = [
  [1, 98.5, 108.5, 120.5, 132.5],
  [2, 98.5, 108.5, 132.5, 144.5],
  [3, 108.5, 118.5, 120.5, 132.5],
  [4, 108.5, 118.5, 132.5, 144.5],
  [5, 108.5, 118.5, 144.5, 158.5],
  [6, 118.5, 128.5, 120.5, 134.5],
  [7, 118.5, 128.5, 134.5, 146.5],
  [8, 118.5, 128.5, 146.5, 158.5],
  [9, 128.5, 138.5, 134.5, 146.5],
  [10, 128.5, 138.5, 146.5, 158.5],
];
const X = (width: number) => (Math.min(Math.max(width, 112), 166) - 112) * 2.6;
const Y = (length: number) => 128 - (Math.min(Math.max(length, 92), 144) - 92) * 2.4;

/** Where this face lies among the cells of the panel: a hint, nothing more. */
export function PanelChart({ length, width, cell }: { length: number; width: number; cell: number | null }) {
  const words = cell ? `panel cell ${cell}` : "outside panel";
  return (
    <svg
      className="panel-chart"
      viewBox="0 0 150 142"
      role="img"
      aria-label={`Face ${length} by ${width} mm: ${words}, a hint only`}
    >
      {CELLS.map(([number, l0, l1, w0, w1]) => (
        <rect
          key={number}
          x={X(w0)}
          y={Y(l1)}
          width={X(w1) - X(w0)}
          height={Y(l0) - Y(l1)}
          className={number === cell ? "mine" : ""}
        />
      ))}
      <circle cx={X(width)} cy={Y(length)} r="6" />
      <text x="2" y="140">
        {words}
      </text>
    </svg>
  );
}
