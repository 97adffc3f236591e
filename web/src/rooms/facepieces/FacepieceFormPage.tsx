import { Checkbox, NativeSelect } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { parts } from "@/shared/words";
import { Problem, Text } from "@/design/Fields";
import { Empty, Failed, Loading, Pager } from "@/design/States";

type Model = Schemas["Model"];
type Form = Schemas["FacepieceForm"];
const NO_SIZE = { name: "", length_from: "", length_to: "", width_from: "", width_to: "" };

/** The catalogue as its administrator keeps it: one by one, or as a file. */
export function FacepieceFormPage() {
  const [params, setParams] = useSearchParams();
  const page = Number(params.get("page") ?? "1") || 1;
  const [opened, setOpened] = useState<Model | null>(null);
  const forms = useQuery({
    queryKey: keys.facepieceForms,
    queryFn: () => unwrap(api.GET("/api/facepieces/forms")),
    staleTime: Infinity,
  });
  const list = useQuery({
    queryKey: keys.facepiecesAt("", page),
    queryFn: () => unwrap(api.GET("/api/facepieces", { params: { query: { q: "", page } } })),
  });
  if (list.isPending || forms.isPending) return <Loading what="The facepieces" />;
  if (list.isError) return <Failed error={list.error} again={() => void list.refetch()} />;
  const half = forms.data?.find((one) => one.kind === "half") ?? forms.data?.[0];
  const openAs = async (version: string, isCopy: boolean) => {
    const path = { version_id: version };
    const model = await unwrap(api.GET("/api/facepieces/{version_id}/form", { params: { path } }));
    setOpened(isCopy ? { ...model, model: "" } : model);
  };
  return (
    <>
      <div className="page-head">
        <div>
          <h1>Facepieces</h1>
          <p className="dim">
            Many at once come as a file: <Link to="/facepieces">the catalogue</Link> takes JSON and CSV. A change makes
            a new version; records keep theirs.
          </p>
        </div>
        <button type="button" className="act" onClick={() => setOpened(half?.start ?? null)}>
          Enter a facepiece
        </button>
      </div>
      {opened && forms.data && (
        <ModelForm
          key={`${opened.maker}/${opened.model}`}
          given={opened}
          forms={forms.data}
          close={() => setOpened(null)}
        />
      )}
      {list.data.rows.length === 0 && !opened && <Empty>No facepiece is entered yet.</Empty>}
      <ul className="rows">
        {list.data.rows.map((one) => (
          <li key={one.version_id}>
            <Line one={one} open={(isCopy) => void openAs(one.version_id, isCopy)} />
          </li>
        ))}
      </ul>
      <Pager page={list.data.page} pages={list.data.pages} go={(to) => setParams({ page: String(to) })} />
    </>
  );
}

function Line({ one, open }: { one: Schemas["FacepieceOption"]; open: (isCopy: boolean) => void }) {
  const [reason, setReason] = useState<string | null>(null);
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("It stays as it was.");
  const withdraw = () =>
    attempt(async () => {
      const path = { version_id: one.version_id };
      await unwrap(
        api.POST("/api/facepieces/{version_id}/withdraw", { params: { path }, body: { reason: reason ?? "" } }),
      );
      await queries.invalidateQueries({ queryKey: keys.facepieces });
    });
  return (
    <>
      <div className="row-line">
        <span>
          <span className="big">{one.model}</span> <span className="dim">{one.maker}</span>
          <br />
          <span className="dim">
            {one.kind_words} · {one.sizes.map((size) => size.name).join(", ")} · version {one.version}
          </span>
        </span>
        <span>
          <button type="button" className="quiet" onClick={() => open(false)}>
            Change
          </button>
          <button type="button" className="quiet" onClick={() => open(true)}>
            Duplicate
          </button>
          <button type="button" className="quiet" onClick={() => setReason(reason === null ? "" : null)}>
            Approval withdrawn
          </button>
        </span>
      </div>
      {reason !== null && (
        <form
          className="note rust"
          onSubmit={(event) => {
            event.preventDefault();
            void withdraw();
          }}
        >
          <h3>Nobody chooses it any more, and whoever passed in it may not wear it until that is settled</h3>
          <div className="field-row">
            <Text label="What is wrong with its approval" value={reason} set={setReason} required w={420} autoFocus />
            <button type="submit" className="act">
              Withdraw it
            </button>
          </div>
          <Problem words={problem} />
        </form>
      )}
    </>
  );
}

function ModelForm({ given, forms, close }: { given: Model; forms: Form[]; close: () => void }) {
  const [model, setModel] = useState<Model>({ ...given, sizes: given.sizes.length ? given.sizes : [NO_SIZE] });
  const [lists, setLists] = useState({
    filter_classes: given.filter_classes.join(", "),
    suspensions: (given.suspensions ?? []).join(", "),
    clips: (given.clips ?? []).join(", "),
  });
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("It was not entered.");
  const set = (change: Partial<Model>) => setModel((old) => ({ ...old, ...change }));
  const chooseKind = (kind: string) => {
    const start = forms.find((one) => one.kind === kind)?.start;
    if (!start) return;
    setModel((old) => ({
      ...start,
      maker: old.maker,
      model: old.model,
      approval: old.approval ?? "",
      sizes: old.sizes,
    }));
    setLists({
      filter_classes: start.filter_classes.join(", "),
      suspensions: (start.suspensions ?? []).join(", "),
      clips: (start.clips ?? []).join(", "),
    });
  };
  const setSize = (at: number, name: keyof typeof NO_SIZE, text: string) =>
    set({ sizes: model.sizes.map((one, i) => (i === at ? { ...one, [name]: text } : one)) });
  const save = () =>
    attempt(async () => {
      const body = {
        ...model,
        filter_classes: parts(lists.filter_classes),
        suspensions: parts(lists.suspensions),
        clips: parts(lists.clips),
        sizes: model.sizes.filter((one) => one.name.trim()),
      };
      await unwrap(api.POST("/api/facepieces", { body }));
      await Promise.all([keys.facepieces, keys.missing].map((queryKey) => queries.invalidateQueries({ queryKey })));
      close();
    });
  const title = forms.find((one) => one.kind === model.kind)?.title ?? model.kind;
  return (
    <form
      className="note tarn"
      aria-label="Facepiece"
      onSubmit={(event) => {
        event.preventDefault();
        void save();
      }}
    >
      <div className="field-row">
        <NativeSelect
          label="Kind"
          data={forms.map((one) => ({ value: one.kind, label: one.title }))}
          value={model.kind}
          onChange={(event) => chooseKind(event.currentTarget.value)}
        />
        <Text label="Maker" value={model.maker} set={(maker) => set({ maker })} required maxLength={120} autoFocus />
        <Text label="Model" value={model.model} set={(text) => set({ model: text })} required maxLength={120} />
        <Text label="Approval, if stated" value={model.approval ?? ""} set={(approval) => set({ approval })} />
        <NativeSelect
          label="Filter"
          data={[
            { value: "media", label: "the piece itself filters" },
            { value: "particulate", label: "particle filters" },
            { value: "gas", label: "gas cartridges" },
            { value: "combined", label: "combined" },
          ]}
          value={model.filter_kind}
          onChange={(event) => set({ filter_kind: event.currentTarget.value as Model["filter_kind"] })}
        />
        <Text
          label="Filter classes, by commas"
          value={lists.filter_classes}
          set={(text) => setLists({ ...lists, filter_classes: text })}
        />
        <Text
          label="Suspensions, by commas"
          value={lists.suspensions}
          set={(text) => setLists({ ...lists, suspensions: text })}
        />
        <Text label="Clips, by commas" value={lists.clips} set={(text) => setLists({ ...lists, clips: text })} />
        <NativeSelect
          label="Covered in the seal check"
          data={[
            { value: "front", label: "with both hands" },
            { value: "palms", label: "inlets, with the palms" },
            { value: "thumbs", label: "inlets, with the thumbs" },
            { value: "none", label: "cannot be covered" },
          ]}
          value={model.cover}
          onChange={(event) => set({ cover: event.currentTarget.value as Model["cover"] })}
        />
        <NativeSelect
          label="Probed"
          data={[
            { value: "through", label: "through the piece" },
            { value: "valve_seat", label: "at the valve seat" },
            { value: "probed_cartridge", label: "by a probed cartridge or adapter" },
          ]}
          value={model.probe}
          onChange={(event) => set({ probe: event.currentTarget.value as Model["probe"] })}
        />
        <Checkbox
          label="Exhalation valve"
          checked={model.valve}
          onChange={(event) => set({ valve: event.currentTarget.checked })}
          pb={8}
        />
        <Checkbox
          label="Tested with test filters"
          checked={model.test_filters}
          onChange={(event) => set({ test_filters: event.currentTarget.checked })}
          pb={8}
        />
        <Checkbox
          label="Air supplied, with an escape cylinder of its own"
          checked={model.has_escape_cylinder ?? false}
          onChange={(event) => set({ has_escape_cylinder: event.currentTarget.checked })}
          pb={8}
        />
      </div>
      <fieldset>
        <legend>Sizes, with the maker’s range of face lengths and widths in mm; empty where none is stated</legend>
        {model.sizes.map((one, i) => (
          <div key={i} className="sizes-form">
            <Text label="Size" value={one.name} set={(text) => setSize(i, "name", text)} maxLength={40} />
            <Text label="Length from" value={one.length_from ?? ""} set={(text) => setSize(i, "length_from", text)} />
            <Text label="to" value={one.length_to ?? ""} set={(text) => setSize(i, "length_to", text)} />
            <Text label="Width from" value={one.width_from ?? ""} set={(text) => setSize(i, "width_from", text)} />
            <Text label="to" value={one.width_to ?? ""} set={(text) => setSize(i, "width_to", text)} />
            {model.sizes.length > 1 && (
              <button
                type="button"
                className="quiet"
                onClick={() => set({ sizes: model.sizes.filter((_, j) => j !== i) })}
              >
                Take away
              </button>
            )}
          </div>
        ))}
        <button type="button" className="quiet" onClick={() => set({ sizes: [...model.sizes, NO_SIZE] })}>
          One more size
        </button>
      </fieldset>
      <p>
        At the bench it stands as: <b>{model.model || "…"}</b> <span className="dim">{model.maker}</span>, {title}
        {model.valve ? ", valve" : ", no valve"},{" "}
        {model.sizes
          .map((one) => one.name)
          .filter(Boolean)
          .join(", ") || "no size yet"}
      </p>
      <div className="field-row">
        <button type="submit" className="act">
          Enter it
        </button>
        <button type="button" className="quiet" onClick={close}>
          Leave it
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}
