import { NativeSelect } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useChange } from "@/shared/attempt";
import { useEmployers } from "@/rooms/common/useEmployers";
import { Problem, Text } from "@/design/Fields";
import { Empty, Failed, Loading, Pager } from "@/design/States";

type Form = Schemas["InstrumentForm"];
/** Instruments: entered with every figure, calibrated by certificate, retired; and how their links are reached. */
export function InstrumentsPage() {
  const [params, setParams] = useSearchParams();
  const page = Number(params.get("page") ?? "1") || 1;
  const [adding, setAdding] = useState(false);
  const [token, setToken] = useState("");
  const forms = useQuery({
    queryKey: keys.instrumentForms,
    queryFn: () => unwrap(api.GET("/api/instruments/forms")),
    staleTime: Infinity,
  });
  const list = useQuery({
    queryKey: keys.instruments(page),
    queryFn: () => unwrap(api.GET("/api/instruments", { params: { query: { page } } })),
  });
  if (list.isPending || forms.isPending) return <Loading what="The instruments" />;
  if (list.isError) return <Failed error={list.error} again={() => void list.refetch()} />;
  const kinds = forms.data ?? [];
  return (
    <>
      <div className="page-head">
        <div>
          <h1>Instruments</h1>
          <p className="dim">
            Checks of the day are done on the Kit page; here is what an instrument is and who reads it.
          </p>
        </div>
        <button type="button" className="act" onClick={() => setAdding(!adding)}>
          Enter an instrument
        </button>
      </div>
      {adding && (
        <InstrumentForm
          forms={kinds}
          done={(fresh) => {
            setAdding(false);
            setToken(fresh);
          }}
        />
      )}
      {token && <TokenNote token={token} close={() => setToken("")} />}
      {list.data.rows.length === 0 && !adding && (
        <Empty>No instrument is entered. Without one you test by taste and smell.</Empty>
      )}
      <ul className="rows">
        {list.data.rows.map((one) => (
          <li key={one.id}>
            <Line one={one} forms={kinds} made={setToken} />
          </li>
        ))}
      </ul>
      <Pager page={list.data.page} pages={list.data.pages} go={(to) => setParams({ page: String(to) })} />
    </>
  );
}

function TokenNote({ token, close }: { token: string; close: () => void }) {
  return (
    <div className="note heath" role="status">
      <h3>The token of its link, shown only now</h3>
      <p>On the machine it is plugged into, unless that is this one and you have said where it is plugged in:</p>
      <p className="once">
        MOORFOG_LINK_TOKEN={token} ./moorfog link --server {window.location.origin} --instrument /dev/ttyUSB0
      </p>
      <button type="button" className="act" onClick={close}>
        I have it
      </button>
    </div>
  );
}

/** What is shown of these, wherever. */
const SHOWN = [["instruments"], keys.counters, keys.missing];

interface LineProps {
  one: Schemas["InstrumentLine"];
  forms: Form[];
  made: (token: string) => void;
}

function Line({ one, forms, made }: LineProps) {
  const [open, setOpen] = useState<"" | "form" | "calibration">("");
  const { problem, change } = useChange(SHOWN);
  const path = { instrument_id: one.id };
  const kind = forms.find((each) => each.kind === one.kind)?.title ?? one.kind;
  const retire = () =>
    change(() =>
      unwrap(
        api.PUT("/api/instruments/{instrument_id}/retired", { params: { path }, body: { retired: !one.is_retired } }),
      ),
    );
  const renew = () =>
    change(async () =>
      made((await unwrap(api.POST("/api/instruments/{instrument_id}/token", { params: { path } }))).token),
    );
  return (
    <section aria-label={one.name}>
      <div className="row-line">
        <span>
          <span className="big">{one.name}</span> <span className="dim">{kind}</span>{" "}
          {one.is_retired && <b className="gorse">out of use</b>}
          <br />
          <span className="dim">
            serial {one.serial_number} · calibrated until {one.calibrated_until} · {one.owner || "no employer’s own"} ·{" "}
            {one.line ? `plugged in here, ${one.line}` : "linked from another machine, or typed"}
          </span>
        </span>
        <span>
          <button type="button" className="quiet" onClick={() => setOpen(open === "form" ? "" : "form")}>
            Change
          </button>
          <button type="button" className="quiet" onClick={() => setOpen(open === "calibration" ? "" : "calibration")}>
            Calibrations
          </button>
          <button type="button" className="quiet" onClick={() => void renew()}>
            New token
          </button>
          <button type="button" className="quiet" onClick={() => void retire()}>
            {one.is_retired ? "Into use again" : "Out of use"}
          </button>
        </span>
      </div>
      <Problem words={problem} />
      {open !== "" && <Opened id={one.id} what={open} forms={forms} close={() => setOpen("")} />}
    </section>
  );
}

interface OpenedProps {
  id: string;
  what: "form" | "calibration";
  forms: Form[];
  close: () => void;
}

function Opened({ id, what, forms, close }: OpenedProps) {
  const file = useQuery({
    queryKey: keys.instrumentFile(id),
    queryFn: () => unwrap(api.GET("/api/instruments/{instrument_id}", { params: { path: { instrument_id: id } } })),
  }).data;
  if (!file) return null;
  return what === "form" ? (
    <InstrumentForm forms={forms} file={file} done={close} />
  ) : (
    <Calibrations file={file} close={close} />
  );
}

function Calibrations({ file, close }: { file: Schemas["InstrumentFile"]; close: () => void }) {
  const [given, setGiven] = useState({ done_on: "", good_until: "", certificate: "", by_whom: "" });
  const { problem, change } = useChange(SHOWN);
  const set = (name: keyof typeof given) => (text: string) => setGiven((old) => ({ ...old, [name]: text }));
  const path = { instrument_id: file.id };
  const enter = () =>
    change(async () => {
      await unwrap(api.POST("/api/instruments/{instrument_id}/calibrations", { params: { path }, body: given }));
      close();
    });
  return (
    <form
      className="note tarn"
      aria-label={`Calibration of ${file.name}`}
      onSubmit={(event) => {
        event.preventDefault();
        void enter();
      }}
    >
      {file.calibrations.map((one) => (
        <p key={`${one.done_on}${one.certificate}`}>
          {one.done_on}, good until {one.good_until}: certificate {one.certificate}, by {one.by_whom}
        </p>
      ))}
      <div className="field-row">
        <Text label="Calibrated on" type="date" value={given.done_on} set={set("done_on")} required />
        <Text label="Good until" type="date" value={given.good_until} set={set("good_until")} required />
        <Text label="Number of the certificate" value={given.certificate} set={set("certificate")} required />
        <Text label="By whom" value={given.by_whom} set={set("by_whom")} required />
        <button type="submit" className="act">
          Put on file
        </button>
        <button type="button" className="quiet" onClick={close}>
          Leave it
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}

interface FormProps {
  forms: Form[];
  file?: Schemas["InstrumentFile"];
  done: (token: string) => void;
}

function InstrumentForm({ forms, file, done }: FormProps) {
  const [kind, setKind] = useState(file?.figures.kind ?? forms[0]?.kind ?? "");
  const [name, setName] = useState(file?.name ?? "");
  const [owner, setOwner] = useState<string | null>(file?.employer_id ?? null);
  const [line, setLine] = useState(file?.line ?? "");
  const [figures, setFigures] = useState<Record<string, string>>(file?.figures ?? {});
  const { problem, change } = useChange(SHOWN);
  const places = useEmployers();
  const { data: plugs } = useQuery({
    queryKey: ["plugs"],
    queryFn: () => unwrap(api.GET("/api/instruments/places")),
  });
  const owners = [
    ...(places?.may_add ? [{ value: "", label: "no employer’s own: for all" }] : []),
    ...(places?.rows ?? []).map((one) => ({ value: one.id, label: one.name })),
  ];
  const form = forms.find((one) => one.kind === kind);
  const zone = places?.rows.flatMap((one) => one.sites)[0]?.zone ?? "";
  const shown: Record<string, string> = { zone, ...figures };
  const save = () =>
    change(async () => {
      const known = new Set(["kind", ...(form?.figures.map((one) => one.name) ?? [])]);
      const given = Object.fromEntries(Object.entries({ ...shown, kind }).filter(([key]) => known.has(key)));
      const body = { name, employer_id: owner ?? owners[0]?.value ?? "", figures: given, line };
      if (file) {
        const path = { instrument_id: file.id };
        await unwrap(api.PUT("/api/instruments/{instrument_id}", { params: { path }, body }));
        done("");
      } else done((await unwrap(api.POST("/api/instruments", { body }))).token);
    });
  return (
    <form
      className="note tarn"
      aria-label={file ? `Change ${file.name}` : "New instrument"}
      onSubmit={(event) => {
        event.preventDefault();
        void save();
      }}
    >
      <div className="field-row">
        <NativeSelect
          label="What it is"
          data={forms.map((one) => ({ value: one.kind, label: one.title }))}
          value={kind}
          onChange={(event) => setKind(event.currentTarget.value)}
          disabled={file !== undefined}
        />
        <Text label="Name, as on its label" value={name} set={setName} required maxLength={60} autoFocus />
        <NativeSelect
          label="Whose it is"
          data={owners}
          value={owner ?? owners[0]?.value ?? ""}
          onChange={(event) => setOwner(event.currentTarget.value)}
          disabled={file !== undefined}
        />
        {plugs?.may_choose && (
          <NativeSelect
            label="Plugged into this machine at"
            description={plugs.rows.length ? undefined : "nothing is plugged in now"}
            data={[
              { value: "", label: "not here" },
              ...(line && !plugs.rows.some((one) => one.line === line) ? [{ value: line, label: line }] : []),
              ...plugs.rows.map((one) => ({ value: one.line, label: `${one.line} · ${one.title}` })),
            ]}
            value={line}
            onChange={(event) => setLine(event.currentTarget.value)}
            w={320}
          />
        )}
      </div>
      <div className="figures">
        {form?.figures.map((one) => (
          <Text
            key={one.name}
            label={one.unit && one.unit !== "date" ? `${one.title}, ${one.unit}` : one.title}
            type={one.unit === "date" ? "date" : "text"}
            placeholder={one.limit ? `empty: ${one.limit}` : ""}
            value={shown[one.name] ?? ""}
            set={(text) => setFigures((old) => ({ ...old, [one.name]: text }))}
            required={one.is_needed}
          />
        ))}
      </div>
      <div className="field-row">
        <button type="submit" className="act">
          {file ? "Change it" : "Enter it"}
        </button>
        <button type="button" className="quiet" onClick={() => done("")}>
          Leave it
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}
