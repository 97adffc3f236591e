import { NativeSelect } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { Empty, Failed, Loading, Pager } from "@/design/States";

/** Pass results by mask model and size: stones for people, so that a few look like a few. */
export function ResultsPage() {
  const [params, setParams] = useSearchParams();
  const page = Number(params.get("page") ?? "1") || 1;
  const site = params.get("site") ?? "";
  const results = useQuery({
    queryKey: keys.results(page, site),
    queryFn: () => unwrap(api.GET("/api/results", { params: { query: { page, site } } })),
    placeholderData: (old) => old,
  });
  const sites =
    useQuery({ queryKey: keys.sites, queryFn: () => unwrap(api.GET("/api/sites")), staleTime: 300_000 }).data ?? [];
  if (results.isPending) return <Loading what="Pass results" />;
  if (results.isError) return <Failed error={results.error} again={() => void results.refetch()} />;
  const { rows, pages } = results.data;
  return (
    <main className="page">
      <div className="page-head">
        <div>
          <h1>Pass results by mask model and size</h1>
          <p className="dim">
            One person, model, size and visit counts once; void and unfinished tries and practice are left out; only
            signed records. By the senses: taste, smell or irritation, pass or fail without a number.
          </p>
        </div>
        <NativeSelect
          label="Site"
          data={[
            { value: "", label: "all sites" },
            ...sites.map((one) => ({ value: one.id, label: `${one.employer}, ${one.name}` })),
          ]}
          value={site}
          onChange={(event) => setParams(event.currentTarget.value ? { site: event.currentTarget.value } : {})}
          w={330}
        />
      </div>
      {rows.length === 0 ? (
        <Empty>No signed result yet.</Empty>
      ) : (
        <table className="plain results">
          <thead>
            <tr>
              <th>Model</th>
              <th>Size</th>
              <th className="num">Tested</th>
              <th className="num">Passed</th>
              <th className="num">First time</th>
              <th className="num">By the senses</th>
              <th>Each stone a person</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((one, i) => (
              <tr key={one.model + one.size}>
                <td>{rows[i - 1]?.model === one.model ? "" : <b>{one.model}</b>}</td>
                <td>{one.size}</td>
                <td className="num">{one.tested}</td>
                <td className="num">
                  {one.passed} <small>{rate(one.passed, one.tested)}</small>
                </td>
                <td className="num">
                  {one.passed_first} <small>{rate(one.passed_first, one.tested)}</small>
                </td>
                <td className="num">{one.sensed || ""}</td>
                <td>
                  <Stones one={one} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <p className="dim legend">
        <Stone kind="first" /> passed first time <Stone kind="passed" /> passed after a refit <Stone kind="failed" />{" "}
        did not pass. Under ten people a rate says little.
      </p>
      <Pager page={page} pages={pages} go={(to) => setParams({ ...(site ? { site } : {}), page: String(to) })} />
    </main>
  );
}

function rate(part: number, whole: number): string {
  return whole ? `${Math.floor((100 * part) / whole)} %` : "";
}

function Stone({ kind }: { kind: "first" | "passed" | "failed" }) {
  return (
    <svg width="22" height="20" viewBox="0 0 22 20" aria-hidden="true" className={`stone ${kind}`}>
      <path d="M2 17 5 6l6-4 7 3 3 8-2 4z" />
      {kind === "failed" && <path d="M4 4 18 18" className="crack" />}
      {kind === "passed" && <path d="M7 12h8" className="crack" />}
    </svg>
  );
}

function Stones({ one }: { one: Schemas["ResultRow"] }) {
  const most = 24;
  const later = Math.max(0, one.passed - one.passed_first);
  const kinds = [
    ...Array<"first">(Math.min(one.passed_first, one.passed)).fill("first"),
    ...Array<"passed">(later).fill("passed"),
    ...Array<"failed">(one.tested - one.passed).fill("failed"),
  ];
  return (
    <span role="img" aria-label={`${one.tested} tested, ${one.passed} passed, ${one.passed_first} first time`}>
      {kinds.slice(0, most).map((kind, i) => (
        <Stone key={i} kind={kind} />
      ))}
      {kinds.length > most && ` and ${kinds.length - most}`}
    </span>
  );
}
