import { NativeSelect } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { dateTime } from "@/shared/clock";
import { Text } from "@/design/Fields";
import { Empty, Failed, Loading, Pager } from "@/design/States";

/** Pass results by mask model and size: stones for people, so that a few look like a few. */
export function ResultsPage() {
  const [params, setParams] = useSearchParams();
  const page = Number(params.get("page") ?? "1") || 1;
  const asked = {
    site: params.get("site") ?? "",
    since: params.get("since") ?? "",
    until: params.get("until") ?? "",
    method: params.get("method") ?? "",
  };
  const [open, setOpen] = useState<Opened | null>(null);
  const results = useQuery({
    queryKey: keys.results({ page, ...asked }),
    queryFn: () => unwrap(api.GET("/api/results", { params: { query: { page, ...asked } } })),
    placeholderData: (old) => old,
  });
  const ask = (change: Record<string, string>) => {
    setOpen(null);
    setParams(Object.fromEntries(Object.entries({ ...asked, ...change }).filter(([, value]) => value)));
  };
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
      </div>
      <div className="field-row">
        <NativeSelect
          label="Site"
          data={[
            { value: "", label: "all sites" },
            ...sites.map((one) => ({ value: one.id, label: `${one.employer}, ${one.name}` })),
          ]}
          value={asked.site}
          onChange={(event) => ask({ site: event.currentTarget.value })}
          w={330}
        />
        <NativeSelect
          label="Method"
          data={[
            { value: "", label: "all methods" },
            ...Object.entries(METHODS).map(([value, label]) => ({ value, label })),
          ]}
          value={asked.method}
          onChange={(event) => ask({ method: event.currentTarget.value })}
        />
        <Text label="Tested since" type="date" value={asked.since} set={(since) => ask({ since })} />
        <Text label="until" type="date" value={asked.until} set={(until) => ask({ until })} />
        <a className="quiet" href={`/api/results.xlsx?${new URLSearchParams(asked).toString()}`} download>
          As a workbook
        </a>
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
                <td className="num">
                  <Figure one={one} whole="tested" count={one.tested} open={setOpen} />
                </td>
                <td className="num">
                  <Figure one={one} whole="passed" count={one.passed} open={setOpen} />
                  <Between share={one.passed_share} />
                </td>
                <td className="num">
                  <Figure one={one} whole="first" count={one.passed_first} open={setOpen} />
                  <Between share={one.first_share} />
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
        did not pass. Beside a count: between which per cents the share lies, as sure as 95 in 100.
      </p>
      <Pager page={page} pages={pages} go={(to) => ask({ page: String(to) })} />
      {open && <Counted key={open.one.model_id + open.one.size + open.whole} open={open} asked={asked} />}
    </main>
  );
}

type Whole = "tested" | "passed" | "first" | "failed";
interface Opened {
  one: Schemas["ResultRow"];
  whole: Whole;
}
const WHOLES: Record<Whole, string> = {
  tested: "tested",
  passed: "passed at last",
  first: "passed the first time",
  failed: "did not pass",
};
const METHODS = {
  ambient_count: "ambient count",
  aerosol: "generated aerosol",
  negative_pressure: "negative pressure",
  sweet: "sweet",
  bitter: "bitter",
  odour: "odour",
  smoke: "smoke",
};

interface FigureProps extends Opened {
  count: number;
  open: (what: Opened) => void;
}

/** A count that opens the people it counts. */
function Figure({ one, whole, count, open }: FigureProps) {
  if (!count) return <>0</>;
  return (
    <button
      type="button"
      className="figure"
      aria-label={`${count} ${WHOLES[whole]}, ${one.model} ${one.size}: show them`}
      onClick={() => open({ one, whole })}
    >
      {count}
    </button>
  );
}

function Between({ share }: { share: Schemas["Share"] | null }) {
  return <small> {share ? `${share.low} to ${share.high} %` : "too few to tell"}</small>;
}

/** Whom a figure counts. */
function Counted({ open, asked }: { open: Opened; asked: Record<"site" | "since" | "until" | "method", string> }) {
  const [page, setPage] = useState(1);
  const query = { ...asked, model_id: open.one.model_id, size: open.one.size, whole: open.whole, page };
  const people = useQuery({
    queryKey: keys.counted(query),
    queryFn: () => unwrap(api.GET("/api/results/people", { params: { query } })),
    placeholderData: (old) => old,
  }).data;
  if (!people) return null;
  return (
    <section aria-label="People counted">
      <h2>
        {people.total} {WHOLES[open.whole]} in {open.one.model} {open.one.size}
      </h2>
      <ul className="rows">
        {people.rows.map((one) => (
          <li key={one.visit_id} className="row-line">
            <Link to={`/people/${one.person_id}`}>
              {one.person} <span className="dim">{one.number}</span>
            </Link>
            <Link to={`/visit/${one.visit_id}`}>
              {one.outcome}
              {one.overall && `, ${one.overall}`}, {dateTime(one.tested_at)}
            </Link>
          </li>
        ))}
      </ul>
      <Pager page={people.page} pages={people.pages} go={setPage} />
      <ByPart open={open} asked={asked} />
    </section>
  );
}

const PARTS = { cell: "face cell", task: "task", tester: "tester" } as const;

/** The same people by the cell of their face, their task or their tester. */
function ByPart({ open, asked }: { open: Opened; asked: Record<"site" | "since" | "until" | "method", string> }) {
  const [by, setBy] = useState<keyof typeof PARTS | "">("");
  const query = { ...asked, model_id: open.one.model_id, size: open.one.size };
  const rows = useQuery({
    queryKey: keys.counted({ ...query, by }),
    queryFn: () => unwrap(api.GET("/api/results/parts", { params: { query: { ...query, by: by || "cell" } } })),
    enabled: by !== "",
  }).data?.rows;
  return (
    <>
      <p className="field-row">
        {Object.entries(PARTS).map(([value, label]) => (
          <button
            key={value}
            type="button"
            className="quiet"
            aria-pressed={by === value}
            onClick={() => setBy(value as keyof typeof PARTS)}
          >
            By {label}
          </button>
        ))}
      </p>
      {by && rows && (
        <table className="plain">
          <thead>
            <tr>
              <th>{PARTS[by]}</th>
              <th className="num">Tested</th>
              <th className="num">Passed</th>
              <th className="num">First time</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((one) => (
              <tr key={one.part}>
                <td>{one.part}</td>
                <td className="num">{one.tested}</td>
                <td className="num">
                  {one.passed}
                  <Between share={one.passed_share} />
                </td>
                <td className="num">
                  {one.passed_first}
                  <Between share={one.first_share} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
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
