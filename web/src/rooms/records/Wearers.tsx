import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { Mark } from "@/design/Marks";
import { Empty, Failed, Loading } from "@/design/States";

/** Everyone in a model and size on a test that still counts, with rule and level; and whether they may wear it now. */
export function Wearers({ asked }: { asked: Record<string, string> }) {
  const named = ["model", "size", "site"].filter((one) => asked[one]);
  const given = Object.fromEntries(named.map((one) => [one, asked[one] ?? ""]));
  const found = useInfiniteQuery({
    queryKey: keys.wearers(given),
    queryFn: ({ pageParam }) =>
      unwrap(api.GET("/api/wearers", { params: { query: { ...given, after: pageParam } as never } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.after || undefined,
  });
  if (found.isPending) return <Loading inside what="Who wears it" />;
  if (found.isError) return <Failed inside error={found.error} again={() => void found.refetch()} />;
  const rows = found.data.pages.flatMap((one) => one.rows);
  if (!rows.length) return <Empty>Nobody has a test in it that still counts.</Empty>;
  return (
    <>
      <table className="plain">
        <thead>
          <tr>
            <th>
              <span className="visually-hidden">May or may not</span>
            </th>
            <th>Who</th>
            <th>Set-up</th>
            <th>Test counts until</th>
            <th>Under which rule, at which level</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((one) => (
            <Wearer key={one.visit_id + one.setup} one={one} />
          ))}
        </tbody>
      </table>
      {found.hasNextPage && (
        <p>
          <button type="button" className="act" onClick={() => void found.fetchNextPage()}>
            {found.isFetchingNextPage ? "One moment…" : "Those who come later"}
          </button>
        </p>
      )}
      <p className="field-row">
        <a className="quiet" href={`/api/wearers/file?${new URLSearchParams(given).toString()}`} download>
          All of them as CSV
        </a>
        <a className="quiet" href={`/api/wearers/file?kind=xlsx&${new URLSearchParams(given).toString()}`} download>
          As a workbook
        </a>
      </p>
    </>
  );
}

function Wearer({ one }: { one: Schemas["WearerRow"] }) {
  return (
    <tr>
      <td>
        <Mark name={one.may ? "cairn" : "wall"} size={26} />
      </td>
      <td>
        <Link to={`/people/${one.person_id}`}>
          <b>{one.person}</b>
        </Link>{" "}
        {one.number}
        <small>
          {one.site}, {one.task}
        </small>
      </td>
      <td>
        <b>{one.size}</b> {one.setup}
        {one.may ? (
          <small>may wear it until {one.until}</small>
        ) : (
          one.reasons.map((why) => (
            <small key={why.code} className="rust">
              {why.sentence}
            </small>
          ))
        )}
      </td>
      <td>
        {one.test_until}
        <small>
          <Link to={`/visit/${one.visit_id}`}>tested {one.tested_on}</Link>
        </small>
      </td>
      <td>
        {one.rule_book}
        <small>
          {one.protocol}
          {one.level && `, needed ${one.level}`}
          {one.overall && `, reached ${one.overall}`}
        </small>
      </td>
    </tr>
  );
}
