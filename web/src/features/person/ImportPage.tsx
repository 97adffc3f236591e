import { NativeSelect } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { Problem } from "@/design/Fields";

type File_ = Schemas["RosterFile"];
const FIELDS = ["name", "number", "site", "job", "task", "contact"];

async function encoded(file: File): Promise<string> {
  const bytes = new Uint8Array(await file.arrayBuffer());
  let text = "";
  for (let at = 0; at < bytes.length; at += 0x8000) text += String.fromCharCode(...bytes.subarray(at, at + 0x8000));
  return btoa(text);
}

/** A roster from CSV or XLSX: match the columns, look at what is wrong, import all of it or nothing. */
export function ImportPage() {
  const sites =
    useQuery({ queryKey: keys.sites, queryFn: () => unwrap(api.GET("/api/sites")), staleTime: 60_000 }).data ?? [];
  const [site, setSite] = useState("");
  const [file, setFile] = useState<File_ | null>(null);
  const [preview, setPreview] = useState<Schemas["Preview"] | null>(null);
  const [problem, setProblem] = useState("");
  const [job, setJob] = useState<string>("");
  const at = site || (sites[0]?.id ?? "");
  const look = async (given: File_) => {
    setProblem("");
    setFile(given);
    try {
      const found = await unwrap(api.POST("/api/imports/preview", { body: given }));
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
      setJob((await unwrap(api.POST("/api/imports", { body: file }))).id);
    } catch (error) {
      setProblem(error instanceof Error ? error.message : "The import did not start.");
    }
  };
  if (job) return <JobView id={job} />;
  return (
    <main className="page">
      <h1>Import a roster</h1>
      <p className="dim">CSV or XLSX with a line of headings. All of it is imported, or nothing.</p>
      <div className="field-row">
        <NativeSelect
          label="For people without a site in the file"
          data={sites.map((one) => ({ value: one.id, label: `${one.employer}, ${one.name}` }))}
          value={at}
          onChange={(event) => setSite(event.currentTarget.value)}
          w={340}
        />
        <label className="act file">
          Choose a file
          <input
            type="file"
            accept=".csv,.xlsx,.tsv,.txt"
            className="visually-hidden"
            onChange={(event) => {
              const chosen = event.currentTarget.files?.[0];
              if (chosen)
                void encoded(chosen).then((content) =>
                  look({ site_id: at, file_name: chosen.name, content, columns: {} }),
                );
            }}
          />
        </label>
        {file && <span>{file.file_name}</span>}
      </div>
      <Problem words={problem} />
      {preview && file && (
        <>
          <h2>{preview.rows} rows; which column is what?</h2>
          <div className="field-row">
            {FIELDS.map((field) => (
              <NativeSelect
                key={field}
                label={field === "name" || field === "number" ? `${field}, needed` : field}
                data={[
                  { value: "", label: "not in the file" },
                  ...preview.headings.map((one, i) => ({ value: String(i), label: one || `column ${i + 1}` })),
                ]}
                value={preview.columns[field] === undefined ? "" : String(preview.columns[field])}
                onChange={(event) => {
                  const columns = Object.fromEntries(
                    Object.entries({ ...file.columns, [field]: Number(event.currentTarget.value) }).filter(
                      ([name]) => name !== field || event.currentTarget.value !== "",
                    ),
                  );
                  void look({ ...file, columns });
                }}
                w={180}
              />
            ))}
          </div>
          <Errors preview={preview} />
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
          <div className="field-row">
            <button type="button" className="act" disabled={preview.error_count > 0} onClick={() => void start()}>
              Import {preview.rows} people
            </button>
            <Link to="/people">Back to people</Link>
          </div>
        </>
      )}
    </main>
  );
}

function Errors({ preview }: { preview: Schemas["Preview"] }) {
  if (!preview.error_count) return <div className="note tarn">Nothing is wrong with it.</div>;
  return (
    <div className="note rust" role="alert">
      <h3>
        {preview.error_count} {preview.error_count === 1 ? "thing is" : "things are"} wrong; correct them in the file
        and choose it again
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
  );
}

function JobView({ id }: { id: string }) {
  const queries = useQueryClient();
  const job = useQuery({
    queryKey: ["job", id],
    queryFn: () => unwrap(api.GET("/api/jobs/{job_id}", { params: { path: { job_id: id } } })),
    refetchInterval: (query) => (["waiting", "running"].includes(query.state.data?.state ?? "waiting") ? 400 : false),
  }).data;
  const cancel = async () => {
    queries.setQueryData(
      ["job", id],
      await unwrap(api.POST("/api/jobs/{job_id}/cancel", { params: { path: { job_id: id } } })),
    );
  };
  const goesOn = !job || job.state === "waiting" || job.state === "running";
  return (
    <main className="page">
      <h1>
        {goesOn
          ? "The roster is being imported"
          : job.state === "done"
            ? "Imported"
            : job.state === "cancelled"
              ? "Cancelled"
              : "Not imported"}
      </h1>
      {goesOn && (
        <>
          <progress max={job?.total || 1} value={job?.done ?? 0} aria-label="Import" />
          <p>
            {job?.done ?? 0} of {job?.total ?? "…"}
          </p>
          <button type="button" className="act" onClick={() => void cancel()}>
            Cancel; nothing is kept
          </button>
        </>
      )}
      {job?.message && <p className="reading">{job.message}</p>}
      {!goesOn && <Link to="/people">To the people</Link>}
    </main>
  );
}
