import "@/app/mantine.css";
import "@fontsource-variable/atkinson-hyperlegible-next";
import "@fontsource/atkinson-hyperlegible-mono/400.css";
import "@fontsource/atkinson-hyperlegible-mono/700.css";
import "@/app/app.css";
import "@/design/base.css";
import { MantineProvider } from "@mantine/core";
import { type ReactNode, StrictMode, useState } from "react";
import { createRoot } from "react-dom/client";
import { theme, variables } from "@/app/theme";
import { Budget } from "@/design/Budget";
import { FaceDrawing } from "@/design/FaceDrawing";
import { HeadGuide } from "@/design/HeadGuide";
import { FaceMap } from "@/design/FaceMap";
import { Problem, Text } from "@/design/Fields";
import { FogLadder, type Point } from "@/design/FogLadder";
import { Key } from "@/design/Key";
import { Mark, MARKS, OutcomeMark } from "@/design/Marks";
import { More } from "@/design/More";
import { PanelChart } from "@/design/PanelChart";
import { Empty, Failed, Loading, Pager } from "@/design/States";
import { STRAP_DRAWINGS, StrapDrawing } from "@/design/StrapDrawing";
import { THING_DRAWINGS, ThingDrawing } from "@/design/ThingDrawing";
import { Walk } from "@/design/Walk";
import type { Schemas } from "@/shared/client";

/* Every component in the states it has, side by side: to be looked at, and to be walked by a test. */

const nothing = () => undefined;
const SHORT = ["Breathe", "Deep", "Side", "Talk"];
const EXERCISES: Schemas["ExerciseView"][] = SHORT.map((short, i) => ({
  id: short.toLowerCase(),
  name: short,
  short,
  say: short,
  pace: "",
  wearer: short,
  look_at: "the cheeks",
  in_sum: true,
  start_ms: i * 30_000,
  end_ms: (i + 1) * 30_000,
}));
const STEPS: Schemas["Waymark"][] = ["Arrive", "Choose", "Don", "Seal", "Run", "Sign"].map((name, i) => ({
  id: name.toLowerCase(),
  name,
  again: 0,
  state: i < 3 ? "behind" : i === 3 ? "here" : "ahead",
}));
const REFITTED = STEPS.map((one) => ({ ...one, again: one.id === "don" ? 2 : 0 }));
const FOG: Point[] = Array.from({ length: 240 }, (_, i) => [i * 250, 14 + 9 * Math.sin(i / 9) + (i % 4), "I"]);
const PANEL = [0, 1, 2].flatMap((row) =>
  [0, 1, 2].map((column) => ({
    number: row * 3 + column + 1,
    length: [`${98 + row * 13}`, `${111 + row * 13}`],
    width: [`${120 + column * 13}`, `${133 + column * 13}`],
  })),
);

function Field() {
  const [value, set] = useState("118.0");
  return <Text label="Face length, mm" value={value} set={set} />;
}

function ladder(more: Partial<Parameters<typeof FogLadder>[0]>): ReactNode {
  return (
    <FogLadder
      points={FOG}
      exercises={EXERCISES}
      factors={["412", "380", null, null]}
      bounds={["301", "290", null, null]}
      inside="14"
      unit="per cm³"
      t={60_000}
      outside="5 120"
      outsideIsLive={false}
      wall={51}
      wallWords="51 per cm³"
      level="100"
      countsWords=""
      {...more}
    />
  );
}

function budget(shares: number[], isUnlikely = false, isLost = false): ReactNode {
  return (
    <Budget
      shares={shares}
      exercises={EXERCISES}
      count={EXERCISES.length}
      heading={shares.length ? "240" : null}
      bound={shares.length ? "180" : null}
      level="100"
      isUnlikely={isUnlikely}
      isLost={isLost}
    />
  );
}

const STORIES: [component: string, story: string, drawn: ReactNode][] = [
  ["Key", "plain", <Key cap="Space" label="as it should be" onPress={nothing} />],
  ["Key", "sure", <Key cap="Space" label="start" tone="tarn" onPress={nothing} />],
  ["Key", "careful", <Key cap="N" label="not fine" tone="gorse" onPress={nothing} />],
  ["Key", "ends it", <Key cap="X" label="stop" tone="rust" onPress={nothing} />],
  ["Key", "not yet", <Key cap="Y" label="no leak" onPress={nothing} disabled />],
  ["More", "second of four", <More page={2} pages={4} more={nothing} />],
  ...MARKS.map((name): [string, string, ReactNode] => ["Mark", name, <Mark name={name} size={48} />]),
  ...["pass", "fail", "void", "unfinished", ""].map((one): [string, string, ReactNode] => [
    "OutcomeMark",
    one || "none yet",
    <OutcomeMark outcome={one} />,
  ]),
  ["Walk", "half way", <Walk steps={STEPS} detail="Sedge, M" />],
  ["Walk", "refitted twice", <Walk steps={REFITTED} detail="" />],
  ["Walk", "all done", <Walk steps={STEPS.map((one) => ({ ...one, state: "behind" }))} detail="" />],
  [
    "Walk",
    "ended before it was done",
    <Walk
      steps={STEPS.map((one, i) => ({ ...one, state: i < 2 ? "behind" : i < 5 ? "left_out" : "here" }))}
      detail=""
    />,
  ],
  ["FogLadder", "held outside", ladder({})],
  ["FogLadder", "outside read now", ladder({ outsideIsLive: true, factors: [null, null, null, null], t: 4_000 })],
  ["FogLadder", "nothing read yet", ladder({ points: [], inside: null, outside: null, t: 0, wall: null })],
  ["Budget", "nothing measured", budget([0, 0, 0, 0])],
  ["Budget", "within", budget([0.1, 0.12, 0, 0])],
  ["Budget", "one spends too much", budget([0.1, 0.52, 0, 0])],
  ["Budget", "unlikely", budget([0.3, 0.6, 0, 0], true)],
  ["Budget", "lost", budget([0.4, 0.9, 0, 0], true, true)],
  ["FaceDrawing", "half", <FaceDrawing isFull={false} />],
  ["FaceDrawing", "full", <FaceDrawing isFull />],
  ...["normal", "left", "right", "up", "down", "bend", "talk"].map((kind): [string, string, ReactNode] => [
    "HeadGuide",
    kind,
    <div key={kind} style={{ display: "flex", flexDirection: "column", height: 240 }}>
      <HeadGuide kind={kind} t={4000} share={0.3} />
    </div>,
  ]),
  ["FaceMap", "where it leaks", <FaceMap choose={nothing} />],
  ["PanelChart", "in a cell", <PanelChart length={118} width={139} cell={5} panel={PANEL} />],
  ["PanelChart", "outside", <PanelChart length={142} width={118} cell={null} panel={PANEL} />],
  ...THING_DRAWINGS.map((name): [string, string, ReactNode] => ["ThingDrawing", name, <ThingDrawing name={name} />]),
  ...STRAP_DRAWINGS.map((name): [string, string, ReactNode] => ["StrapDrawing", name, <StrapDrawing name={name} />]),
  ["Text", "filled", <Field />],
  ["Problem", "in the server's words", <Problem words="The number 1004 is taken by somebody else." />],
  ["Pager", "in the middle", <Pager page={2} pages={3} go={nothing} />],
  ["Empty", "what to do", <Empty>Nobody is on file yet. Import a roster.</Empty>],
  ["Loading", "on its way", <Loading what="The list" />],
  ["Failed", "and again", <Failed error={null} again={nothing} />],
];

function Stories() {
  return (
    <div className="page">
      <h1>Stories of the components</h1>
      {STORIES.map(([component, story, drawn]) => (
        <section key={`${component} ${story}`} data-story={component} aria-label={`${component}: ${story}`}>
          <p className="dim">
            {component} · {story}
          </p>
          {drawn}
        </section>
      ))}
    </div>
  );
}

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <MantineProvider theme={theme} cssVariablesResolver={variables} defaultColorScheme="auto">
        <Stories />
      </MantineProvider>
    </StrictMode>,
  );
}
