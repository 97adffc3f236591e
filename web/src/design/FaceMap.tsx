import "./FaceDrawing.css";
import "./FaceMap.css";
export const PLACES = ["nose", "eyes", "cheek", "temple", "chin", "throat", "valve"] as const;
export type Place = (typeof PLACES)[number];
const AT: Record<Place, [number, number][]> = {
  nose: [[85, 78]],
  eyes: [
    [58, 66],
    [112, 66],
  ],
  cheek: [
    [44, 122],
    [126, 122],
  ],
  temple: [
    [24, 88],
    [146, 88],
  ],
  chin: [[85, 178]],
  throat: [[85, 204]],
  valve: [[85, 138]],
};

/** A face in outline whose places can be touched: where does it leak? Digits do the same. */
export function FaceMap({ choose }: { choose: (place: Place) => void }) {
  return (
    <div className="face-map">
      <svg viewBox="0 0 170 222" aria-hidden="true" className="face">
        <path d="M85 6C132 6 160 46 156 100c-3 52-36 104-71 104S17 152 14 100C10 46 38 6 85 6z" className="outline" />
        <path d="M46 66q13-9 26 0M98 66q13-9 26 0" className="outline thin" />
        <path className="seal" d="M85 72c12 8 43 52 42 76-1 27-22 42-42 42s-41-15-42-42c-1-24 30-68 42-76z" />
      </svg>
      {PLACES.map((place, i) =>
        AT[place].map(([x, y], side) => (
          <button
            key={`${place}${side}`}
            type="button"
            className="spot"
            style={{ left: `${(x / 170) * 100}%`, top: `${(y / 222) * 100}%` }}
            aria-label={`${i + 1}, ${place}${side ? ", other side" : ""}`}
            onClick={() => choose(place)}
          >
            {i + 1}
          </button>
        )),
      )}
    </div>
  );
}
