import { FileInput, NativeSelect } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useAttempt } from "@/shared/attempt";
import { api, type Schemas, unwrap } from "@/shared/client";
import { Problem } from "@/design/Fields";
import { Empty, Failed, Loading } from "@/design/States";
import { useSite } from "@/rooms/common/useSite";
import { InWriting } from "@/rooms/wear/InWriting";

type HistoryFile = Schemas["HistoryFile"];
const ORDERS = [
  { value: "", label: "2026-03-31, or choose" },
  { value: "dmy", label: "day, month, year" },
  { value: "mdy", label: "month, day, year" },
  { value: "ymd", label: "year, month, day" },
];

async function asBase64(file: File): Promise<string> {
  const bytes = new Uint8Array(await file.arrayBuffer());
  let text = "";
  for (const one of bytes) text += String.fromCharCode(one);
  return btoa(text);
}

/** Results of before, taken over from a table: shown as history, judged by nobody here, permitting nothing. */
export function HistoryPage() {
  const { sites, site, remember } = useSite();
  const [file, setFile] = useState<File | null>(null);
  const [order, setOrder] = useState<NonNullable<HistoryFile["day_order"]>>("");
  const [found, setFound] = useState<Schemas["HistoryPreview"] | null>(null);
  const [done, setDone] = useState<number | null>(null);
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("The table was not read.");
  if (sites.isPending) return <Loading what="The sites" />;
  if (sites.isError) return <Failed error={sites.error} again={() => void sites.refetch()} />;
  if (!site) return <Empty>No site is entered yet.</Empty>;
  const body = async (): Promise<HistoryFile> => ({
    site_id: site,
    file_name: file?.name ?? "",
    content: file ? await asBase64(file) : "",
    day_order: order,
  });
  const look = () =>
    attempt(async () => {
      setDone(null);
      setFound(null);
      setFound(await unwrap(api.POST("/api/history/preview", { body: await body() })));
    });
  const take = () =>
    attempt(async () => {
      setDone((await unwrap(api.POST("/api/history", { body: await body() }))).new);
      await queries.invalidateQueries({ queryKey: ["history"] });
      setFound(null);
    });
  return (
    <main className="page">
      <h1>Results of before</h1>
      <p>
        Columns: number, tested on, model, result; and size, method, fit factor, tester where there are any. They are
        shown on the person’s page as history. Nobody here judged them, and nobody wears anything on the strength of
        them unless the site says so in writing, further down.
      </p>
      <div className="field-row">
        <NativeSelect
          label="Site"
          data={sites.data.map((one) => ({ value: one.id, label: `${one.employer}, ${one.name}` }))}
          value={site}
          onChange={(event) => remember(event.currentTarget.value)}
        />
        <FileInput label="Table" placeholder=".csv, .xlsx, .xls, .ods" value={file} onChange={setFile} w={280} />
        <NativeSelect
          label="Days are written"
          data={ORDERS}
          value={order}
          onChange={(event) => setOrder(event.currentTarget.value as typeof order)}
        />
        <button type="button" className="act" disabled={!file} onClick={() => void look()}>
          Look at it
        </button>
      </div>
      <Problem words={problem} />
      {done !== null && <p role="status">{done} results of before are on file now.</p>}
      {found && (
        <section aria-label="What it holds">
          <h2>
            {found.rows === 1 ? "One result" : `${found.rows} results`} can be taken over
            {found.known > 0 && `, ${found.known} of them on file already`}
          </h2>
          {!order && found.day_order && (
            <p className="note">
              Its days are read as they were chosen before: {ORDERS.find((one) => one.value === found.day_order)?.label}
              .
            </p>
          )}
          {found.needs_order && <p className="note">Say in which order its days are written.</p>}
          {found.fault_count > 0 && (
            <p className="note rust">Mend this in the table and send it again. Nothing is taken over until then.</p>
          )}
          {found.fault_count > 0 && (
            <ul className="why-list">
              {found.faults.map((one) => (
                <li key={`${one.row}${one.column}`}>
                  Row {one.row}, {one.column}: {one.problem}.
                </li>
              ))}
            </ul>
          )}
          {found.fault_count === 0 && found.rows > found.known && (
            <button type="button" className="act" onClick={() => void take()}>
              Take them over as history
            </button>
          )}
        </section>
      )}
      <InWriting key={site} site={site} />
    </main>
  );
}
