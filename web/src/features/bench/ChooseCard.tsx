import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, type Schemas, unwrap } from "@/api/client";
import { KEY, useKeys } from "@/app/keys";
import { Key } from "@/design/Key";
import type { ActProps } from "@/features/bench/ActCard";
import { Foot } from "@/features/bench/Foot";

type Option = Schemas["FacepieceOption"];
const GEAR = ["goggles", "spectacles", "helmet", "hearing protection", "hood"];

/** Facepiece, size, set-up: digits choose, Space confirms. What failed in the same size is said, not hidden. */
export function ChooseCard({ card, view, propose, back }: ActProps) {
  const [model, setModel] = useState<Option | null>(null);
  const [size, setSize] = useState("");
  const [suspension, setSuspension] = useState("");
  const [clip, setClip] = useState("");
  const [own, setOwn] = useState(false);
  const [gear, setGear] = useState<string[]>([]);
  const options =
    useQuery({ queryKey: keys.facepieces, queryFn: () => unwrap(api.GET("/api/facepieces")), staleTime: 300_000 })
      .data ?? [];
  const take = (one: Option) => {
    setModel(one);
    setSuspension(one.suspensions[0] ?? "");
    setClip(one.clips[0] ?? "");
    if (one.sizes.length === 1) setSize(one.sizes[0]?.name ?? "");
  };
  const cycle = (all: string[], now: string) => all[(all.indexOf(now) + 1) % all.length] ?? now;
  const confirm = () =>
    model &&
    size &&
    propose({
      kind: "choose_facepiece",
      version_id: model.version_id,
      size,
      suspension,
      clip,
      filter_class: model.filter_classes[0] ?? "",
      is_own: own,
      ppe: gear,
    });
  const stepBack = () =>
    size && (model?.sizes.length ?? 0) > 1 ? setSize("") : model ? (setModel(null), setSize("")) : back?.();
  const toggle = (one: string) =>
    setGear((all) => (all.includes(one) ? all.filter((other) => other !== one) : [...all, one]));
  const digits = !model
    ? options.slice(0, 9).map((one) => () => take(one))
    : !size
      ? model.sizes.map((one) => () => setSize(one.name))
      : GEAR.map((one) => () => toggle(one));
  useKeys({
    ...Object.fromEntries(digits.map((action, i) => [String(i + 1), action])),
    [KEY.fine]: model && size ? confirm : undefined,
    [KEY.back]: stepBack,
    o: () => setOwn(!own),
    h: model && model.suspensions.length > 1 ? () => setSuspension(cycle(model.suspensions, suspension)) : undefined,
    c: model && model.clips.length > 1 ? () => setClip(cycle(model.clips, clip)) : undefined,
  });
  const failed = view.picture.tries
    .filter((one) => one.outcome === "fail")
    .map((one) => `${one.facepiece} ${one.size}`);
  return (
    <section className="card" data-item={card.id}>
      <p className="mode">
        Choose together
        <i />
        {view.face_length ? `face length ${view.face_length} mm` : "face not measured"} · {view.last_result}
      </p>
      <h1 className="question smaller">
        {!model ? card.title : `${model.model}: ${!size ? "which size?" : `size ${size}`}`}
      </h1>
      {!model && (
        <ul className="options">
          {options.map((one, i) => (
            <li key={one.version_id}>
              <button type="button" onClick={() => take(one)}>
                <kbd>{i + 1}</kbd>
                <span>
                  <b>{one.model}</b> <span className="dim">{one.maker}</span>
                </span>
                <span className="dim">
                  {one.kind_words}
                  {one.kind.startsWith("disposable") ? (one.valve ? ", valve" : ", no valve") : ""} ·{" "}
                  {one.sizes.map((s) => s.name).join(" ")}
                </span>
              </button>
            </li>
          ))}
        </ul>
      )}
      {model && !size && (
        <ul className="options sizes">
          {model.sizes.map((one, i) => {
            const inside =
              view.face_length !== null &&
              view.face_length !== undefined &&
              Number(view.face_length) >= Number(one.length_from) &&
              Number(view.face_length) <= Number(one.length_to);
            return (
              <li key={one.name}>
                <button type="button" onClick={() => setSize(one.name)}>
                  <kbd>{i + 1}</kbd>
                  <span>
                    <b>{one.name}</b>
                  </span>
                  <span className="dim">
                    maker: face length {one.length_from} to {one.length_to} mm
                    {view.face_length ? (inside ? " · this face is within" : " · this face is outside") : ""}
                    {failed.includes(`${model.maker} ${model.model} ${one.name}`) ? " · failed today" : ""}
                  </span>
                </button>
              </li>
            );
          })}
        </ul>
      )}
      {model && size && (
        <div className="stack">
          <p className="reading">
            {[suspension, clip, model.filter_classes[0], own ? "own piece" : "pool piece"].filter(Boolean).join(" · ")}
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
        </div>
      )}
      <Foot>
        {model && size && <Key cap="Space" label={`take ${model.model} ${size}`} tone="tarn" onPress={confirm} />}
        {model && size && <Key cap="O" label={own ? "own piece" : "pool piece"} onPress={() => setOwn(!own)} />}
        {model && size && model.suspensions.length > 1 && (
          <Key cap="H" label={suspension} onPress={() => setSuspension(cycle(model.suspensions, suspension))} />
        )}
        {model && size && model.clips.length > 1 && (
          <Key cap="C" label={clip} onPress={() => setClip(cycle(model.clips, clip))} />
        )}
        {(model || back) && <Key cap="U" label="back" onPress={stepBack} />}
      </Foot>
    </section>
  );
}
