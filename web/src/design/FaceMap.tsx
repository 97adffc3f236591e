import "./FaceDrawing.css";
import "./FaceMap.css";
import { SEAL } from "@/design/FaceDrawing";
export const PLACES = ["nose", "eyes", "cheek", "temple", "chin", "throat", "valve"] as const;
export type Place = (typeof PLACES)[number];
const AT: Record<Place, [number, number][]> = {
  nose: [[85, 88]],
  eyes: [
    [46, 58],
    [124, 58],
  ],
  cheek: [
    [38, 134],
    [132, 134],
  ],
  temple: [
    [16, 96],
    [154, 96],
  ],
  chin: [[85, 174]],
  throat: [[85, 217]],
  valve: [[85, 131]],
};

/** A face in outline whose places can be touched: where does it leak? Digits do the same. */
export function FaceMap({ choose, isFull = false }: { choose: (place: Place) => void; isFull?: boolean }) {
  return (
    <div className="face-map">
      <svg viewBox="0 0 170 222" aria-hidden="true" className="face">
        <path d="M85 6C132 6 160 46 156 100c-3 52-36 104-71 104S17 152 14 100C10 46 38 6 85 6z" className="outline" />
        <path d="M46 66q13-9 26 0M98 66q13-9 26 0" className="outline thin" />
        <path className="seal" d={isFull ? SEAL.full : SEAL.half} />
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
