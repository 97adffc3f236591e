import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useSession } from "@/shared/session";
import { Text } from "@/design/Fields";
import { Empty, Failed, Loading, Pager } from "@/design/States";

/** The facepieces that may be chosen: what each is, its sizes with ranges, how it is put on and looked after. */
export function CataloguePage() {
  const [params, setParams] = useSearchParams();
  const q = params.get("q") ?? "";
  const page = Number(params.get("page") ?? "1") || 1;
  const options = useQuery({
    queryKey: keys.facepiecesAt(q, page),
    queryFn: () => unwrap(api.GET("/api/facepieces", { params: { query: { q, page } } })),
    placeholderData: (old) => old,
  });
  const session = useSession();
  const isAdmin = session.data?.roles.includes("administrator") ?? false;
  if (options.isPending) return <Loading what="The catalogue" />;
  if (options.isError) return <Failed error={options.error} again={() => void options.refetch()} />;
  const { rows, pages } = options.data;
  return (
    <main className="page">
      <div className="page-head">
        <div>
          <h1>Facepieces</h1>
          <p className="dim">A changed model becomes a new version; records keep the one they were made with.</p>
        </div>
        <div className="field-row">
          <a className="quiet" href="/api/catalogue.json" download="facepieces.json">
            Export JSON
          </a>
          <a className="quiet" href="/api/catalogue.csv" download="facepieces.csv">
            Export CSV
          </a>
          {isAdmin && <Import />}
        </div>
      </div>
      <Text
        label="Find by maker, model or kind"
        value={q}
        set={(text) => setParams(text ? { q: text } : {}, { replace: true })}
        maw={420}
        mb="md"
      />
      {rows.length === 0 && (
        <Empty>
          {q
            ? `No facepiece has “${q}” in maker, model or kind.`
            : "No facepiece is entered yet. Import a catalogue as JSON or CSV."}
        </Empty>
      )}
      <ul className="rows">
        {rows.map((one) => (
          <li key={one.version_id} className="rule-row">
            <div>
              <span className="big">{one.model}</span> <span className="dim">{one.maker}</span>
              <div>
                {one.kind_words}
                {one.valve ? ", valve" : ", no valve"}
              </div>
              <div className="dim">
                version {one.version}
                {one.approval && ` · approval ${one.approval}`} · filters {one.filter_classes.join(", ")} (
                {one.filter_kind})
              </div>
            </div>
            <div>
              {one.sizes.map((size) => (
                <div key={size.name}>
                  <b>{size.name}</b>{" "}
                  <span className="dim">
                    {size.length_from ? `face length ${size.length_from} to ${size.length_to} mm` : "no range stated"}
                  </span>
                </div>
              ))}
              <Care one={one} />
            </div>
          </li>
        ))}
      </ul>
      <Pager page={options.data.page} pages={pages} go={(to) => setParams({ ...(q ? { q } : {}), page: String(to) })} />
    </main>
  );
}

function Care({ one }: { one: Schemas["FacepieceOption"] }) {
  const lines = [
    one.suspensions.length ? `suspension: ${one.suspensions.join(", ")}` : "",
    one.clips.length ? `clips: ${one.clips.join(", ")}` : "",
    one.diaphragms ? `${one.diaphragms} diaphragms to count` : "",
    one.accessories.length ? `accessories: ${one.accessories.join(", ")}` : "",
    one.wash_limit_c ? `wash at most ${one.wash_limit_c} °C` : "",
    one.reuse ? `re-use: ${one.reuse}` : "",
    one.adapter ? `adapter: ${one.adapter}` : "",
  ].filter(Boolean);
  if (!lines.length && !one.donning.length) return null;
  return (
    <details>
      <summary>Putting on, taking off, care</summary>
      <ul className="why-list">
        {one.donning.map((step) => (
          <li key={step}>{step}</li>
        ))}
        {one.doffing.map((step) => (
          <li key={step}>{step}</li>
        ))}
        {lines.map((line) => (
          <li key={line}>{line}</li>
        ))}
      </ul>
    </details>
  );
}

function Import() {
  const [said, setSaid] = useState("");
  const queries = useQueryClient();
  const take = async (file: File) => {
    setSaid("");
    try {
      const done = await unwrap(
        api.POST("/api/catalogue", { body: { file_name: file.name, content: await file.text() } }),
      );
      setSaid(`${done.new} new, ${done.changed} changed, ${done.same} as they were.`);
      await queries.invalidateQueries({ queryKey: keys.facepieces });
    } catch (error) {
      setSaid(error instanceof Error ? error.message : "The file was not imported.");
    }
  };
  return (
    <>
      <label className="quiet">
        Import
        <input
          type="file"
          accept=".json,.csv"
          className="visually-hidden"
          onChange={(event) => {
            const file = event.currentTarget.files?.[0];
            if (file) void take(file);
            event.currentTarget.value = "";
          }}
        />
      </label>
      {said && <span role="status">{said}</span>}
    </>
  );
}
