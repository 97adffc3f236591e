import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { KEY, useKeys } from "@/shared/keys";
import { Text } from "@/design/Fields";
import { Key } from "@/design/Key";
import { More } from "@/design/More";
import { PanelChart } from "@/design/PanelChart";
import type { ActProps } from "@/rooms/bench/card";
import { Foot } from "@/rooms/bench/Foot";
import { Measure } from "@/rooms/bench/Measure";
import { sameAgain } from "@/rooms/bench/sameAgain";
import { useAdvice } from "@/rooms/bench/TaskCard";

type Option = Schemas["FacepieceOption"];
type Choice = Schemas["Choice"];
const GEAR = ["goggles", "spectacles", "spectacle insert", "helmet", "hearing protection", "hood"];

/** Facepiece, size, set-up: Space takes what was passed last, digits choose. Advice is said with each, never hidden. */
export function ChooseCard(props: ActProps) {
  const [measuring, setMeasuring] = useState(false);
  if (measuring) return <Measure view={props.view} done={() => setMeasuring(false)} />;
  return <Choose {...props} measure={() => setMeasuring(true)} />;
}

function Choose({ card, view, propose, back, measure }: ActProps & { measure: () => void }) {
  const [choice, setChoice] = useState<Choice | null>(null);
  const [size, setSize] = useState("");
  const [words, setWords] = useState<string | null>(null);
  const [asked, ask] = useState(1);
  const visit = view.visit_id;
  const queries = useQueryClient();
  const pageOf = (q: string, page: number) => ({
    queryKey: keys.choices(visit, view.visit.seq, q, page),
    queryFn: () =>
      unwrap(api.GET("/api/visits/{visit_id}/choices", { params: { path: { visit_id: visit }, query: { q, page } } })),
  });
  const { data: found, isPlaceholderData: isOld } = useQuery({
    ...pageOf(words ?? "", asked),
    placeholderData: (old: Schemas["ChoicesPage"] | undefined) => old,
  });
  const [isFolded, setFolded] = useState(true);
  const every = found?.rows ?? [];
  const weak = every.filter((one) => one.suffices === "no");
  const rows = isFolded && weak.length < every.length ? every.filter((one) => one.suffices !== "no") : every;
  const folded = every.length - rows.length;
  const pages = found?.pages ?? 1;
  const page = found?.page ?? 1;
  const more = pages > 1 ? () => ask((page % pages) + 1) : undefined;
  const find = (text: string | null) => {
    setWords(text);
    ask(1);
  };
  /** Enter: the words are all typed; what they come to is waited for, and taken if it is one facepiece only. */
  const takeOnly = async (q: string) => {
    const only = (await queries.fetchQuery(pageOf(q, 1))).rows;
    if (only.length === 1 && only[0]) take(only[0]);
  };
  const advice = useAdvice(view).data;
  const same = advice?.same_again;
  const model = choice?.option ?? null;
  const take = (one: Choice) => {
    setChoice(one);
    if (one.option.sizes.length === 1) setSize(one.option.sizes[0]?.name ?? "");
  };
  const stepBack = () =>
    size && (model?.sizes.length ?? 0) > 1
      ? setSize("")
      : model
        ? (setChoice(null), setSize(""))
        : words !== null
          ? find(null)
          : back?.();
  const again = () => same && propose(sameAgain(same, false));
  const digits = !model
    ? (isOld ? [] : rows).map((one) => () => take(one))
    : !size
      ? model.sizes.map((one) => () => setSize(one.name))
      : [];
  const first = !same && rows[0]?.suffices === "yes" ? rows[0] : null;
  const suggested = choice?.size.suggested[0] ?? "";
  useKeys(
    {
      ...Object.fromEntries(digits.map((action, i) => [String(i + 1), action])),
      [KEY.fine]: model
        ? !size && suggested
          ? () => setSize(suggested)
          : undefined
        : same
          ? again
          : first && words === null
            ? () => take(first)
            : undefined,
      [KEY.back]: stepBack,
      [KEY.more]: model ? undefined : more,
      [KEY.find]: model ? undefined : () => find(words ?? ""),
      m: measure,
      o: !model && folded > 0 ? () => setFolded(false) : undefined,
    },
    !(model && size),
  );
  if (choice && model && size)
    return <Setup model={model} size={size} choice={choice} propose={propose} back={stepBack} item={card.id} />;
  return (
    <section className="card" data-item={card.id}>
      <p className="mode">
        Choose together
        <i />
        {advice?.length ? `face ${advice.length}${advice.width ? ` × ${advice.width}` : ""} mm` : "face not measured"}
        <i />
        {view.last_result}
      </p>
      <div className="card-head">
        <h1 className="question smaller">{!model ? card.title : `${model.model}: which size?`}</h1>
        {model && advice?.length && advice.width && (
          <PanelChart
            length={Number(advice.length)}
            width={Number(advice.width)}
            cell={advice.cell ?? null}
            panel={advice.panel}
          />
        )}
      </div>
      {!model && words !== null && (
        <Find words={words} set={find} entered={() => void takeOnly(words).catch(() => undefined)} />
      )}
      {!model && found && rows.length === 0 && (
        <p className="reading">
          {words ? `No facepiece has “${words}” in maker, model or kind.` : "No facepiece is in the catalogue yet."}
        </p>
      )}
      {!model && (
        <ul className={rows.length > 7 ? "options many" : "options"}>
          {rows.map((one, i) => (
            <li
              key={one.option.version_id}
              className={one.suffices === "no" ? "weak" : i === 0 && first ? "suggested" : ""}
            >
              <button type="button" onClick={() => take(one)}>
                <kbd>{i + 1}</kbd>
                <span>
                  <b>{one.option.model}</b> <span className="dim">{one.option.maker}</span>
                </span>
                <span className="dim">{optionWords(one)}</span>
              </button>
            </li>
          ))}
        </ul>
      )}
      {model && (
        <>
          <p className="reading">{choice?.size.sentence}</p>
          <ul className="options sizes">
            {model.sizes.map((one, i) => (
              <li key={one.name}>
                <button type="button" onClick={() => setSize(one.name)}>
                  <kbd>{i + 1}</kbd>
                  <span>
                    <b>{one.name}</b>
                  </span>
                  <span className="dim">{sizeWords(one, choice)}</span>
                </button>
              </li>
            ))}
          </ul>
        </>
      )}
      <Foot>
        {!model && same && words === null && (
          <Key cap="Space" label={`${same.label}, passed ${same.passed_on}`} tone="tarn" onPress={again} />
        )}
        {model && suggested && (
          <Key cap="Space" label={`try ${suggested} first`} tone="tarn" onPress={() => setSize(suggested)} />
        )}
        {!model && first && words === null && (
          <Key cap="Space" label={`${first.option.model}, which size?`} tone="tarn" onPress={() => take(first)} />
        )}
        {!model && folded > 0 && (
          <Key cap="O" label={`${folded} not enough for this task`} onPress={() => setFolded(false)} />
        )}
        {!model && <More page={page} pages={pages} more={more} />}
        {!model && words === null && (pages > 1 || rows.length > 1) && (
          <Key cap="F" label="find" onPress={() => find("")} />
        )}
        <Key cap="M" label={model ? "measure the face" : "measure"} onPress={measure} />
        {(model || words !== null || back) && <Key cap="U" label="back" onPress={stepBack} />}
      </Foot>
    </section>
  );
}

/** Words typed to find a facepiece: Enter goes back to the keys, or takes the only one left; Escape shows all again. */
function Find({ words, set, entered }: { words: string; set: (words: string | null) => void; entered: () => void }) {
  return (
    <Text
      label="Maker, model or kind"
      size="lg"
      value={words}
      autoFocus
      set={set}
      onKeyDown={(event) => {
        if (event.key === "Escape") set(null);
        if (event.key !== "Enter") return;
        event.currentTarget.blur();
        entered();
      }}
    />
  );
}

function optionWords({ option: one, ...choice }: Choice): string {
  const valve = one.family === "disposable" ? (one.valve ? ", valve" : ", no valve") : "";
  const task = choice.suffices === "yes" ? "enough for the task" : choice.suffices === "no task" ? "" : choice.why;
  const size = choice.size.suggested.length
    ? `try ${choice.size.suggested.join(", then ")}`
    : choice.size.state === "outside"
      ? "face outside its ranges"
      : "";
  return [`${one.kind_words}${valve}`, task, size].filter(Boolean).join(" · ");
}

function sizeWords(one: Schemas["SizeView"], choice: Choice | null): string {
  const range = one.length_from
    ? `maker: face length ${one.length_from} to ${one.length_to} mm`
    : "the maker states no range";
  const size = choice?.size;
  if (!size) return range;
  const tried = size.failed.includes(one.name)
    ? "failed on this face"
    : size.passed.includes(one.name)
      ? "passed on this face"
      : "";
  const fits = size.within.includes(one.name)
    ? "this face is within"
    : size.state === "not measured" || size.failed.includes(one.name) || !one.length_from
      ? ""
      : "this face is outside";
  return [range, tried, fits].filter(Boolean).join(" · ");
}

interface SetupProps {
  model: Option;
  size: string;
  choice: Choice;
  propose: ActProps["propose"];
  back: () => void;
  item: string;
}

/** How it is worn: suspension, clip, own or pool, the gear beside it, and which method may show its fit. */
function Setup({ model, size, choice, propose, back, item }: SetupProps) {
  const [suspension, setSuspension] = useState(model.suspensions[0] ?? "");
  const [clip, setClip] = useState(model.clips[0] ?? "");
  const [own, setOwn] = useState(false);
  const [gear, setGear] = useState<string[]>([]);
  const cycle = (all: string[], now: string) => all[(all.indexOf(now) + 1) % all.length] ?? now;
  const toggle = (one: string) =>
    setGear((all) => (all.includes(one) ? all.filter((other) => other !== one) : [...all, one]));
  const confirm = () =>
    propose({
      kind: "choose_facepiece",
      version_id: model.version_id,
      size,
      suspension,
      clip,
      filter_class: model.filter_classes[0] ?? "",
      is_own: own,
      ppe: gear,
      task_id: null,
      method: null,
    });
  const more = {
    h: model.suspensions.length > 1 ? () => setSuspension(cycle(model.suspensions, suspension)) : undefined,
    c: model.clips.length > 1 ? () => setClip(cycle(model.clips, clip)) : undefined,
  };
  useKeys({
    ...Object.fromEntries(GEAR.map((one, i) => [String(i + 1), () => toggle(one)])),
    ...more,
    [KEY.fine]: confirm,
    [KEY.back]: back,
    o: () => setOwn(!own),
  });
  return (
    <section className="card" data-item={item}>
      <p className="mode">
        Set it up
        <i />
        {choice.why}
      </p>
      <h1 className="question smaller">
        {model.maker} {model.model}, size {size}
      </h1>
      <p className="reading">
        {[
          suspension,
          clip,
          model.filter_classes[0],
          own ? "own piece" : "pool piece",
          model.approval && `approval ${model.approval}`,
        ]
          .filter(Boolean)
          .join(" · ")}
      </p>
      <p className="reading">Worn with it at work, and so in the test:</p>
      <div className="foot-keys">
        {GEAR.map((one, i) => (
          <Key
            key={one}
            cap={String(i + 1)}
            label={gear.includes(one) ? `${one}: yes` : `${one}: no`}
            tone={gear.includes(one) ? "tarn" : ""}
            onPress={() => toggle(one)}
          />
        ))}
      </div>
      <Methods methods={choice.methods} />
      <Foot>
        <Key cap="Space" label={`take ${model.model} ${size}`} tone="tarn" onPress={confirm} />
        <Key cap="O" label={own ? "own piece" : "pool piece"} onPress={() => setOwn(!own)} />
        {more.h && <Key cap="H" label={suspension} onPress={more.h} />}
        {more.c && <Key cap="C" label={clip} onPress={more.c} />}
        <Key cap="U" label="back" onPress={back} />
      </Foot>
    </section>
  );
}

function Methods({ methods }: { methods: Schemas["MethodView"][] }) {
  const may = methods.filter((one) => one.verdict === "may");
  const rest = methods.filter((one) => one.verdict !== "may");
  return (
    <div className={`note ${may.length ? "tarn" : "rust"}`}>
      <h2>
        {may.length
          ? `Test it by: ${may.map((one) => one.words.toLowerCase() + (one.mode === "classified" ? ", size-classified" : "")).join(", ")}`
          : "No method may be used here today"}
      </h2>
      <details>
        <summary>Why not another way</summary>
        <ul className="why-list">
          {rest.map((one) => (
            <li key={one.method}>
              <b>{one.words}</b>: {one.reasons.join("; ")}
              {one.limits.length > 0 && ` (${one.limits.join("; ")})`}
            </li>
          ))}
        </ul>
      </details>
    </div>
  );
}
