interface Thing {
  words: string;
  /** Drawn thin: what it is; `marked`: what to look at. */
  lines: string[];
  marked: string[];
}

/** Own line drawings of things on the bench, each with what is looked at drawn thick. */
const THINGS: Record<string, Thing> = {
  badge: {
    words: "A badge: the name and the number on it, and the face above them",
    lines: ["M56 40h128v140H56z", "M104 40v-12h32v12", "M120 66a20 20 0 1 1 0 40a20 20 0 1 1 0-40"],
    marked: ["M80 130h80", "M80 152h48"],
  },
  paper: {
    words: "The clearance: until when it holds, and by whom it is signed",
    lines: ["M60 22h96l28 28v130H60z", "M156 22v28h28", "M82 70h72M82 90h80M82 110h60"],
    marked: ["M84 150c8-16 14-16 14-2s8 10 14-2s10 12 22 2h22"],
  },
  water: {
    words: "Only a glass of plain water; nothing to eat, nothing else to drink",
    lines: [
      "M36 92h56v52c0 16-12 26-28 26s-28-10-28-26z",
      "M92 104h10c18 0 18 30 0 30H92",
      "M52 78c-6-10 6-16 0-26M74 78c-6-10 6-16 0-26",
    ],
    marked: ["M142 66h64l-9 104h-46z", "M146 104c14 8 40-8 56 0", "M28 178 110 44"],
  },
  hood: {
    words: "The hood: clean, clear in front, its hole before the mouth",
    lines: ["M52 176V96c0-44 28-72 68-72s68 28 68 72v80", "M44 176h152", "M78 58h84v62H78z"],
    marked: ["M120 138a10 10 0 1 1 0 20a10 10 0 1 1 0-20"],
  },
  nebuliser: {
    words: "The nebuliser: squeezed hard once, it sprays a fine mist",
    lines: [
      "M58 120c-22 4-34 20-30 40c4 16 22 24 38 18c14-6 18-22 12-34z",
      "M78 144l22-12",
      "M100 112h44v44c0 14-44 14-44 0z",
      "M112 112V90h20v22",
      "M132 96l22-8",
    ],
    marked: ["M166 82l14-6M166 92h18M164 102l14 8M188 72l12-6M194 92h14M186 114l12 8"],
  },
  hose: {
    words: "The hose: blown through until it is dry, the HEPA filter on its end, wiped from there up",
    lines: ["M40 30v30c0 40 90 20 90 60s-70 20-70 48", "M40 30c0-12 40-12 40 0"],
    marked: ["M140 150h16a22 22 0 1 1 0 32h-16z", "M124 166h16", "M196 62l-26-16M196 62l-26 18M196 62h-52"],
  },
  piece: {
    words: "The facepiece from the front: straps, valves, the edge that touches the face, what is printed on it",
    lines: [
      "M120 44c30 0 56 44 56 86c0 32-26 48-56 48s-56-16-56-48c0-42 26-86 56-86z",
      "M66 104c-26 0-40 10-40 30s20 28 40 18M174 104c26 0 40 10 40 30s-20 28-40 18",
      "M74 84C50 74 30 70 12 70M166 84c24-10 44-14 62-14M66 160c-20 8-38 12-54 12M174 160c20 8 38 12 54 12",
    ],
    marked: ["M120 118a18 18 0 1 1 0 36a18 18 0 1 1 0-36", "M104 88h32"],
  },
  neck: {
    words: "Neck and back: will bending and turning the head hurt?",
    lines: [
      "M120 20a26 26 0 1 1 0 52a26 26 0 1 1 0-52",
      "M110 72v12M130 72v12",
      "M44 182c2-60 30-90 76-98c46 8 74 38 76 98",
    ],
    marked: [
      "M120 92v84",
      "M74 58C68 34 82 16 98 12M74 58l-9-12M74 58l10-9",
      "M166 58C172 34 158 16 142 12M166 58l9-12M166 58l-10-9",
    ],
  },
  hand: {
    words: "A raised hand: unwell, mask off at once",
    lines: [
      "M88 182v-26C76 140 58 118 52 106c-5-11 8-18 17-7l19 23V56c0-14 17-14 17 0v42V42c0-14 17-14 17 0v56V48c0-14 17-14 17 0v54V66c0-13 16-13 16 0v62c0 24-8 36-17 46v8",
    ],
    marked: ["M184 54l14-10M190 78h18M50 54 36 44M44 78H26"],
  },
  swap: {
    words: "What came on for the test comes off; what is worn at work goes back on",
    lines: [
      "M66 74a32 32 0 1 1 0 64a32 32 0 1 1 0-64",
      "M174 74a32 32 0 1 1 0 64a32 32 0 1 1 0-64",
      "M50 106h32M66 90v32",
      "M152 96h44M152 106h44M152 116h44",
    ],
    marked: [
      "M66 56C86 22 152 22 172 54M172 54l-16-4M172 54l3-16",
      "M174 156C154 190 88 190 68 158M68 158l16 4M68 158l-3 16",
    ],
  },
  rub: {
    words: "Hand rub: a drop on every hand",
    lines: ["M72 84h64v94H72z", "M88 84V64h32v20", "M98 64V46h34"],
    marked: ["M150 62c14 20 20 28 20 38a20 20 0 0 1-40 0c0-10 6-18 20-38z"],
  },
  breath: {
    words: "Breathing and eyes: asthma, other trouble, contact lenses",
    lines: [
      "M120 92v34M120 126l-16 16M120 126l16 16",
      "M104 112c-30 6-46 34-44 66c16 6 36 2 44-10zM136 112c30 6 46 34 44 66c-16 6-36 2-44-10z",
    ],
    marked: ["M76 50c26-30 62-30 88 0c-26 30-62 30-88 0z", "M120 36a14 14 0 1 1 0 28a14 14 0 1 1 0-28"],
  },
  fan: {
    words: "The fan runs and takes the air out of the room; you wear goggles and a mask of your own",
    lines: ["M84 44a54 54 0 1 1 0 108a54 54 0 1 1 0-108", "M84 90a8 8 0 1 1 0 16a8 8 0 1 1 0-16"],
    marked: [
      "M84 90c-22-12-22-34 0-36c16 4 14 24 0 36M92 98c12-22 34-22 36 0c-4 16-24 14-36 0M84 106c22 12 22 34 0 36c-16-4-14-24 0-36M76 98c-12 22-34 22-36 0c4-16 24-14 36 0",
      "M156 70h56M212 70l-14-9M212 70l-14 9M156 98h56M212 98l-14-9M212 98l-14 9M156 126h56M212 126l-14-9M212 126l-14 9",
    ],
  },
  tube: {
    words: "The tube: both ends broken off, a sleeve over each, the bulb on one of them",
    lines: ["M76 88h92v24H76z", "M100 88v24M144 88v24", "M36 76c20-6 34 2 34 24s-14 30-34 24c-20-8-20-40 0-48z"],
    marked: ["M66 84h20v32H66zM158 84h20v32h-20z", "M188 92c8-6 14 4 20-2M188 100h26M188 108c8 6 14-4 20 2"],
  },
  lids: {
    words: "Eyes shut, from before the smoke until it is clear",
    lines: ["M120 18c52 0 76 40 72 86c-4 48-38 86-72 86s-68-38-72-86c-4-46 20-86 72-86z", "M120 92l-10 36q10 8 20 0"],
    marked: [
      "M66 88q20 18 40 0M134 88q20 18 40 0",
      "M72 100l-6 10M86 104v12M100 100l6 10M140 100l-6 10M154 104v12M168 100l6 10",
    ],
  },
  rooms: {
    words: "Two rooms: smelt in one, tested in the other, fresh air in both",
    lines: ["M22 46h196v128H22z", "M112 46v44M112 132v42", "M48 150V112h28v38z", "M150 168V96q20-24 40 0v72z"],
    marked: ["M46 72c12-12 20 12 34 0M146 72c12-12 20 12 34 0"],
  },
  jars: {
    words: "Two jars, the labels switched since the last person; the third is the test's own",
    lines: ["M36 74h68v94c0 8-68 8-68 0zM136 74h68v94c0 8-68 8-68 0z", "M44 58h52v16H44zM144 58h52v16h-52z"],
    marked: [
      "M50 104h40v30H50zM150 104h40v30h-40z",
      "M80 42C100 18 140 18 160 42M160 42l-16-2M160 42l0-16M80 42l16-2M80 42l0-16",
    ],
  },
  manifold: {
    words: "The manifold in the filters' place; the inhalation valves held open",
    lines: ["M120 48c28 0 50 38 50 72c0 28-22 44-50 44s-50-16-50-44c0-34 22-72 50-72z", "M98 84h44"],
    marked: ["M66 116H30V76M174 116h36V76M30 76h180M120 76V34", "M108 120l24 20M132 120l-24 20"],
  },
  card: {
    words: "The card: facepiece, size, until when, and the code that shows whether it still holds",
    lines: ["M26 48h188v112H26z", "M46 74h76M46 94h60M46 138h50"],
    marked: ["M46 116h70", "M146 74h48v48h-48z", "M158 86h8v8h-8zM174 102h8v8h-8z"],
  },
};

/** The names of the things there are drawings of. */
export const THING_DRAWINGS = Object.keys(THINGS);

/** A thing in outline, as large as there is room for it. Nothing for a name that is none. */
export function ThingDrawing({ name }: { name: string }) {
  const one = THINGS[name];
  if (!one) return null;
  return (
    <svg className="straps" viewBox="10 10 220 180" role="img" aria-label={one.words}>
      {one.lines.map((d) => (
        <path key={d} d={d} />
      ))}
      {one.marked.map((d) => (
        <path key={d} className="moves" d={d} />
      ))}
    </svg>
  );
}
