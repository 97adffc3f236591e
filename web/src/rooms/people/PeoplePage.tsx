import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, keys, unwrap } from "@/shared/client";
import { useSession } from "@/shared/session";
import { Empty, Failed, Pager } from "@/design/States";
import { Text } from "@/design/Fields";

/** Everybody within the grants, by the beginning of any name word or number; the address holds search and page. */
export function PeoplePage() {
  const [params, setParams] = useSearchParams();
  const q = params.get("q") ?? "";
  const page = Number(params.get("page") ?? "1") || 1;
  const people = useQuery({
    queryKey: keys.people(q, page),
    queryFn: () => unwrap(api.GET("/api/people", { params: { query: { q, page } } })),
    placeholderData: (old) => old,
  });
  const isAdmin = useSession().data?.roles.includes("administrator") ?? false;
  const go = (next: Record<string, string>) => setParams(next, { replace: true });
  if (people.isError) return <Failed error={people.error} again={() => void people.refetch()} />;
  return (
    <main className="page">
      <div className="page-head">
        <h1>People</h1>
        {isAdmin && (
          <Link to="/import" className="quiet">
            Import a roster
          </Link>
        )}
      </div>
      <Text
        label="Beginning of a name, or the number"
        value={q}
        set={(text) => go({ q: text })}
        w={420}
        size="lg"
        autoFocus
      />
      <h2>{people.data ? `${people.data.total} found` : "…"}</h2>
      {people.data?.rows.length === 0 && <Empty>Nobody of that name or number within your employers.</Empty>}
      <ul className="rows">
        {people.data?.rows.map((one) => (
          <li key={one.id}>
            <Link to={`/people/${one.id}`} className="row of-three">
              <span>
                <span className="big">{one.name}</span> <span className="dim">{one.number}</span>
                {one.left_on && <b className="gorse"> left on {one.left_on}</b>}
              </span>
              <span>
                {one.job}, {one.task}
              </span>
              <span className="dim">
                {one.employer}, {one.site}
              </span>
            </Link>
          </li>
        ))}
      </ul>
      {people.data && (
        <Pager page={people.data.page} pages={people.data.pages} go={(to) => go({ q, page: String(to) })} />
      )}
    </main>
  );
}
