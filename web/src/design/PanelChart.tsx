import "./PanelChart.css";
const X = (width: number) => (Math.min(Math.max(width, 112), 166) - 112) * 2.6;
const Y = (length: number) => 128 - (Math.min(Math.max(length, 92), 144) - 92) * 2.4;

interface Props {
  length: number;
  width: number;
  cell: number | null;
  panel: { number: number; length: string[]; width: string[] }[];
}

/** Where this face lies among the cells of the panel: a hint, nothing more. */
export function PanelChart({ length, width, cell, panel }: Props) {
  const words = cell ? `panel cell ${cell}` : "outside panel";
  return (
    <svg
      className="panel-chart"
      viewBox="0 0 150 142"
      role="img"
      aria-label={`Face ${length} by ${width} mm: ${words}, a hint only`}
    >
      {panel.map(({ number, length: [l0 = 0, l1 = 0], width: [w0 = 0, w1 = 0] }) => (
        <rect
          key={number}
          x={X(+w0)}
          y={Y(+l1)}
          width={X(+w1) - X(+w0)}
          height={Y(+l0) - Y(+l1)}
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
