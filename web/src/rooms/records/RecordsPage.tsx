import { NativeSelect } from "@mantine/core";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { seesHealth, useSession } from "@/shared/session";
import { dateTime } from "@/shared/clock";
import { Text } from "@/design/Fields";
import { OutcomeMark } from "@/design/Marks";
import { Empty, Failed, Loading } from "@/design/States";
import { Search } from "@/rooms/records/Search";
import { type Asked, useAsked } from "@/rooms/records/useAsked";
import { Wearers } from "@/rooms/records/Wearers";
import "@/rooms/records/records.css";

const OUTCOMES = ["pass", "fail", "void"];

/** Records: what is known of a test finds it, whoever asks. What is looked at stands in the address. */
export function RecordsPage() {
  const { asked, ask, said, words } = useAsked();
  const isWearers = asked.view === "wearers" && asked.model !== "";
  return (
    <main className="page records">
      <h1>{isWearers ? `Who wears ${words}` : words ? `Tests: ${words}` : "Every test, the latest first"}</h1>
      <Search ask={ask} />
      <Chips asked={asked} ask={ask} />
      <div className="field-row">
        <Text label="Since" type="date" value={asked.since} set={(since) => ask({ since })} />
        <Text label="until" type="date" value={asked.until} set={(until) => ask({ until })} />
        <NativeSelect
          label="Outcome"
          data={[{ value: "", label: "any" }, ...OUTCOMES.map((one) => ({ value: one, label: one }))]}
          value={asked.outcome}
          onChange={(event) => ask({ outcome: event.currentTarget.value })}
        />
        {asked.model !== "" && (
          <>
            <Text label="Size" value={asked.size} set={(size) => ask({ size })} w={90} />
            <button
              type="button"
              className={isWearers ? "act" : "quiet"}
              aria-pressed={isWearers}
              onClick={() => ask({ view: isWearers ? "" : "wearers" })}
            >
              Who wears it on a test that counts
            </button>
          </>
        )}
      </div>
      {isWearers ? <Wearers asked={said} /> : <Tests asked={said} />}
    </main>
  );
}

interface Asking {
  asked: Asked;
  ask: (change: Partial<Asked>) => void;
}

/** What is asked for beside days and outcome, each with a key that takes it away. */
function Chips({ asked, ask }: Asking) {
  const given = (["person", "model", "kit", "tester", "site"] as const).filter((one) => asked[one]);
  if (!given.length) return null;
  return (
    <p className="chips" aria-label="What is asked for">
      {given.map((one) => (
        <button key={one} type="button" className="quiet" onClick={() => ask({ [one]: "", [`${one}Words`]: "" })}>
          {asked[`${one}Words`] || one} <span aria-hidden="true">×</span>
          <span className="visually-hidden"> take it away</span>
        </button>
      ))}
    </p>
  );
}

function Tests({ asked }: { asked: Record<string, string> }) {
  const session = useSession().data;
  const mayManage = session?.roles.includes("administrator") ?? false;
  const found = useInfiniteQuery({
    queryKey: keys.records(asked),
    queryFn: ({ pageParam }) =>
      unwrap(api.GET("/api/records", { params: { query: { ...asked, after: pageParam } as never } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.after || undefined,
  });
  if (found.isPending) return <Loading inside what="The tests" />;
  if (found.isError) return <Failed inside error={found.error} again={() => void found.refetch()} />;
  const rows = found.data.pages.flatMap((one) => one.rows);
  if (!rows.length) return <Empty>No test is found by this.</Empty>;
  const query = new URLSearchParams(asked).toString();
  return (
    <>
      <table className="plain">
        <thead>
          <tr>
            <th>Who</th>
            <th>In what</th>
            <th>How it went</th>
            <th>Under which rule</th>
            <th>By whom, when</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((one) => (
            <Test key={`${one.visit_id}-${one.no}`} one={one} />
          ))}
        </tbody>
      </table>
      {found.hasNextPage && (
        <p>
          <button type="button" className="act" onClick={() => void found.fetchNextPage()}>
            {found.isFetchingNextPage ? "One moment…" : "Further back"}
          </button>
        </p>
      )}
      <p className="field-row">
        <a className="quiet" href={`/api/records/file?kind=csv&${query}`} download>
          All of them as CSV
        </a>
        <a className="quiet" href={`/api/records/file?kind=xlsx&${query}`} download>
          As a workbook
        </a>
        <a className="quiet" href={`/api/records/file?kind=json&${query}`} download>
          As JSON
        </a>
        {seesHealth(session) && (
          <a className="quiet" href={`/api/records.zip?${query}`} download>
            Whole, for an inspector
          </a>
        )}
      </p>
      {seesHealth(session) && <ForAnInspector />}
      {mayManage && (
        <p>
          <Link to="/history">Take over results of before</Link>, as history.
        </p>
      )}
    </>
  );
}

function Test({ one }: { one: Schemas["RecordRow"] }) {
  return (
    <tr>
      <td>
        <Link to={`/people/${one.person_id}`}>
          <b>{one.person || "erased"}</b>
        </Link>{" "}
        {one.number}
        <small>
          {one.employer}, {one.site}
        </small>
      </td>
      <td>
        <b>
          {one.model} {one.size}
        </b>
        <small>{one.method}</small>
      </td>
      <td>
        <Link to={`/visit/${one.visit_id}`} aria-label={`${one.outcome}: open the record`}>
          <OutcomeMark outcome={one.outcome} />
        </Link>{" "}
        {one.overall}
        <small>
          {one.level && `needed ${one.level}`}
          {!one.is_signed && <b className="rust"> not signed</b>}
        </small>
      </td>
      <td>
        {one.rule_book}
        <small>{one.protocol}</small>
      </td>
      <td>
        {one.tester}
        <small>{dateTime(one.tested_at)}</small>
      </td>
    </tr>
  );
}

/** What lies in the archive, and the key to compare it with: both are told here, where nobody has changed them. */
function ForAnInspector() {
  const key = useQuery({
    queryKey: ["card-key"],
    queryFn: () => unwrap(api.GET("/api/card-key")),
    staleTime: Infinity,
  });
  return (
    <div className="dim for-an-inspector">
      <p>
        For an inspector: every record with its readings, the papers as issued, the rules, an index and one signed
        digest of all. It is checked without this server by{" "}
        <a href="/api/verify.py" download>
          verify.py
        </a>
        , a program of one file.
      </p>
      {key.data?.fingerprint && (
        <p>
          Signed with the key <code>{key.data.fingerprint}</code>. Give them this by another way than the archive.
        </p>
      )}
    </div>
  );
}
