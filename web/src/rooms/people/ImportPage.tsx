import { Checkbox, NativeSelect } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { dayIn } from "@/shared/clock";
import { JobProgress, useJob } from "@/shared/JobProgress";
import { Problem, Text } from "@/design/Fields";
import { Pager } from "@/design/States";

type File_ = Omit<Schemas["RosterFile"], "site_id" | "skip" | "sure" | "left" | "left_on">;
type Preview = Schemas["Preview"];
type Kind = Schemas["RosterLine"]["kind"];
const FIELDS = {
  name: "name",
  given_name: "given name",
  family_name: "family name",
  number: "number, needed",
  site: "site",
  job: "job",
  task: "task",
  contact: "contact",
  cleared_on: "cleared on",
  cleared_until: "cleared until",
  cleared_by: "cleared by",
  trained_on: "trained on",
};
const KINDS: Record<Kind, string> = {
  new: "new",
  changed: "changed",
  moved: "moved",
  back: "back again",
  missing: "not in the file",
  same: "as they were",
};
const ENCODINGS = ["utf-8", "utf-16", "cp1252", "cp1250", "iso8859-2", "cp1251", "cp1257"];

async function encoded(file: File): Promise<string> {
  const bytes = new Uint8Array(await file.arrayBuffer());
  let text = "";
  for (let at = 0; at < bytes.length; at += 0x8000) text += String.fromCharCode(...bytes.subarray(at, at + 0x8000));
  return btoa(text);
}

/** A roster: how the file is read, who is new, changed, moved, back or missing, a tick each, then all of it or nothing. */
export function ImportPage() {
  const sites =
    useQuery({ queryKey: keys.sites, queryFn: () => unwrap(api.GET("/api/sites")), staleTime: 60_000 }).data ?? [];
  const [site, setSite] = useState("");
  const [file, setFile] = useState<File_ | null>(null);
  const [preview, setPreview] = useState<Preview | null>(null);
  const [problem, setProblem] = useState("");
  const [job, setJob] = useState("");
  const [skip, setSkip] = useState<number[]>([]);
  const [sure, setSure] = useState<number[]>([]);
  const [left, setLeft] = useState<string[]>([]);
  const at = site || (sites[0]?.id ?? "");
  const left_on = left.length ? dayIn(sites.find((one) => one.id === at)?.zone) : "";
  const look = async (given: File_, place: string, kind: Kind = "new", page = 1) => {
    setProblem("");
    setFile(given);
    try {
      const body = { ...given, site_id: place, skip, sure, left, left_on };
      const found = await unwrap(api.POST("/api/imports/preview", { params: { query: { kind, page } }, body }));
      setPreview(found);
      setFile({ ...given, columns: found.columns });
    } catch (error) {
      setPreview(null);
      setProblem(error instanceof Error ? error.message : "The file could not be read.");
    }
  };
  const start = async () => {
    if (!file) return;
    try {
      setJob(
        (await unwrap(api.POST("/api/imports", { body: { ...file, site_id: at, skip, sure, left, left_on } }))).id,
      );
    } catch (error) {
      setProblem(error instanceof Error ? error.message : "The import did not start.");
    }
  };
  if (job) return <JobView id={job} />;
  const again = (change: Partial<File_>) => file && void look({ ...file, ...change }, at);
  return (
    <main className="page">
      <h1>Import a roster</h1>
      <p className="dim">
        CSV, XLSX, XLS or ODS with a line of headings. What you tick is done, all of it or nothing; nobody is deleted.
      </p>
      <div className="field-row">
        <NativeSelect
          label="For people without a site in the file"
          data={sites.map((one) => ({ value: one.id, label: `${one.employer}, ${one.name}` }))}
          value={at}
          onChange={(event) => {
            setSite(event.currentTarget.value);
            if (file) void look(file, event.currentTarget.value);
          }}
          w={340}
        />
        <label className="act file">
          Choose a file
          <input
            type="file"
            accept=".csv,.xlsx,.xls,.ods,.tsv,.txt"
            disabled={at === ""}
            className="visually-hidden"
            onChange={(event) => {
              const chosen = event.currentTarget.files?.[0];
              event.currentTarget.value = "";
              setSkip([]);
              setSure([]);
              setLeft([]);
              if (chosen)
                void encoded(chosen).then((content) =>
                  look(
                    {
                      file_name: chosen.name,
                      content,
                      columns: {},
                      sheet: 0,
                      heading_row: 0,
                      encoding: "",
                      day_order: "",
                    },
                    at,
                  ),
                );
            }}
          />
        </label>
        {file && <span>{file.file_name}</span>}
      </div>
      <Problem words={problem} />
      {preview && file && (
        <>
          <Reading preview={preview} file={file} again={again} />
          <Errors preview={preview} />
          <Lines
            preview={preview}
            skip={skip}
            sure={sure}
            left={left}
            setSkip={setSkip}
            setSure={setSure}
            setLeft={setLeft}
            show={(kind, page) => void look(file, at, kind, page)}
          />
          <div className="field-row">
            <button type="button" className="act" disabled={preview.error_count > 0} onClick={() => void start()}>
              {doing(preview, skip, left, sure)}
            </button>
            <Link to="/people">Back to people</Link>
          </div>
        </>
      )}
    </main>
  );
}

function doing(preview: Preview, skip: number[], left: string[], sure: number[]): string {
  const { counts, twins } = preview;
  const count = (["new", "changed", "moved", "back"] as const).reduce((sum, kind) => sum + (counts[kind] ?? 0), 0);
  const people = count - skip.length - (twins - sure.length) + left.length;
  return `Import ${people} ${people === 1 ? "person" : "people"}`;
}

interface ReadingProps {
  preview: Preview;
  file: File_;
  again: (change: Partial<File_>) => void;
}

/** How the file was read: sheet, headings, encoding, columns, and the order of its days. */
function Reading({ preview, file, again }: ReadingProps) {
  return (
    <>
      <h2>{preview.rows} rows; which column is what?</h2>
      <div className="field-row">
        {preview.sheets.length > 1 && (
          <NativeSelect
            label="Sheet"
            data={preview.sheets.map((name, i) => ({ value: String(i), label: name }))}
            value={String(preview.sheet)}
            onChange={(event) => again({ sheet: Number(event.currentTarget.value), heading_row: 0, columns: {} })}
          />
        )}
        <Text
          label="Headings in row"
          type="number"
          min={1}
          value={String(preview.heading_row)}
          set={(text) => Number(text) > 0 && again({ heading_row: Number(text), columns: {} })}
          w={130}
        />
        {preview.encoding && (
          <NativeSelect
            label="Encoding, as recognised"
            data={[...new Set([preview.encoding, ...ENCODINGS])]}
            value={preview.encoding}
            onChange={(event) => again({ encoding: event.currentTarget.value })}
          />
        )}
        {(preview.needs_order || preview.day_order) && (
          <NativeSelect
            label="Days are written"
            data={[
              { value: "", label: "choose" },
              { value: "dmy", label: "day, month, year" },
              { value: "mdy", label: "month, day, year" },
              { value: "ymd", label: "year, month, day" },
            ]}
            description={!file.day_order && preview.day_order ? "as chosen before" : undefined}
            value={preview.day_order}
            onChange={(event) => again({ day_order: event.currentTarget.value as NonNullable<File_["day_order"]> })}
          />
        )}
      </div>
      <div className="field-row">
        {Object.entries(FIELDS).map(([field, label]) => (
          <NativeSelect
            key={field}
            label={label}
            data={[
              { value: "", label: "not in the file" },
              ...preview.headings.map((one, i) => ({ value: String(i), label: one || `column ${i + 1}` })),
            ]}
            value={preview.columns[field] === undefined ? "" : String(preview.columns[field])}
            onChange={(event) => {
              const chosen = event.currentTarget.value;
              const columns = Object.fromEntries(
                Object.entries({ ...file.columns, [field]: Number(chosen) }).filter(
                  ([name]) => name !== field || chosen !== "",
                ),
              );
              again({ columns });
            }}
            w={170}
          />
        ))}
      </div>
      <details>
        <summary>The first rows as they were read</summary>
        <div className="wide">
          <table className="plain">
            <thead>
              <tr>
                {preview.headings.map((one, i) => (
                  <th key={i}>{one}</th>
                ))}
              </tr>
            </thead>
            <tbody>
              {preview.sample.map((row, i) => (
                <tr key={i}>
                  {row.map((cell, j) => (
                    <td key={j}>{cell}</td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </details>
    </>
  );
}

function Errors({ preview }: { preview: Preview }) {
  return (
    <>
      {preview.error_count > 0 && (
        <div className="note rust" role="alert">
          <h3>
            {preview.error_count} {preview.error_count === 1 ? "thing is" : "things are"} wrong; correct them in the
            file and choose it again
          </h3>
          <ul className="why-list">
            {preview.errors.slice(0, 20).map((one, i) => (
              <li key={i}>
                row {one.row}, {one.column}: {one.problem}
              </li>
            ))}
          </ul>
          {preview.error_count > 20 && <p>and {preview.error_count - 20} more</p>}
        </div>
      )}
      {preview.odd.length > 0 && (
        <div className="note">
          <h3>Look at these; they may be right</h3>
          <ul className="why-list">
            {preview.odd.slice(0, 20).map((one, i) => (
              <li key={i}>
                row {one.row}, {one.column}: {one.problem}
              </li>
            ))}
          </ul>
        </div>
      )}
    </>
  );
}

interface LinesProps {
  preview: Preview;
  skip: number[];
  sure: number[];
  left: string[];
  setSkip: (rows: number[]) => void;
  setSure: (rows: number[]) => void;
  setLeft: (people: string[]) => void;
  show: (kind: Kind, page: number) => void;
}

/** Who is new, changed, moved, back or missing, a tick each. Who is missing is noted as left only where ticked. */
function Lines({ preview, skip, sure, left, setSkip, setSure, setLeft, show }: LinesProps) {
  const kind = preview.shown as Kind;
  const toggle = (one: Schemas["RosterLine"], on: boolean) => {
    if (kind === "missing") setLeft(on ? [...left, one.person_id] : left.filter((id) => id !== one.person_id));
    else if (one.twin) setSure(on ? [...sure, one.row] : sure.filter((row) => row !== one.row));
    else setSkip(on ? skip.filter((row) => row !== one.row) : [...skip, one.row]);
  };
  const isTaken = (one: Schemas["RosterLine"]) => {
    if (kind === "missing") return left.includes(one.person_id);
    return one.twin ? sure.includes(one.row) : kind !== "same" && !skip.includes(one.row);
  };
  return (
    <section aria-label="What it comes to">
      <nav className="field-row" aria-label="Kinds of rows">
        {(Object.keys(KINDS) as Kind[]).map((one) => (
          <button
            key={one}
            type="button"
            className="quiet"
            aria-pressed={one === kind}
            onClick={() => show(one, 1)}
            disabled={!preview.counts[one]}
          >
            {preview.counts[one] ?? 0} {KINDS[one]}
          </button>
        ))}
      </nav>
      <ul className="rows">
        {preview.lines.map((one) => (
          <li key={`${one.row}${one.person_id}`} className="row-line">
            <Checkbox
              disabled={kind === "same"}
              checked={isTaken(one)}
              onChange={(event) => toggle(one, event.currentTarget.checked)}
              label={
                <>
                  <b>{one.name}</b> <span className="dim">{one.number}</span> {kind === "missing" && "has left"}
                  {one.changes.join("; ")}
                  {one.twin && (
                    <b className="gorse"> Entered already as {one.twin}? Tick only if they are two people.</b>
                  )}
                </>
              }
            />
            <span className="dim">{one.row > 0 && `row ${one.row}`}</span>
          </li>
        ))}
      </ul>
      <Pager page={preview.page} pages={preview.pages} go={(page) => show(kind, page)} />
    </section>
  );
}

function JobView({ id }: { id: string }) {
  const { job, goesOn } = useJob(id);
  const ended = { done: "Imported", cancelled: "Cancelled" }[job?.state ?? ""] ?? "Not imported";
  return (
    <main className="page">
      <h1>{goesOn ? "The roster is being imported" : ended}</h1>
      <JobProgress id={id} what="Import" cancelling="Cancel; nothing is kept" />
      {!goesOn && <Link to="/people">To the people</Link>}
    </main>
  );
}
