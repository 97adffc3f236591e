import { NativeSelect } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { Problem } from "@/design/Fields";
import { Mark } from "@/design/Marks";
import { Empty, Failed, Loading, Pager } from "@/design/States";
import { useAttempt } from "@/shared/attempt";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useSession } from "@/shared/session";
import { useDay } from "@/shared/useDay";
import { useSite } from "@/rooms/common/useSite";
import "@/rooms/common/crew.css";

const PERIODS = [30, 60, 90];

/** Who is due: who can wear nothing any more first, then by the day on which test, clearance or training ends. */
export function DuePage() {
  const [params, setParams] = useSearchParams();
  const { sites, site, remember } = useSite();
  const within = Number(params.get("within") ?? "0") || 0;
  const page = Number(params.get("page") ?? "1") || 1;
  const period = useDay(keys.dues);
  const asked = { site, within, page };
  const found = useQuery({
    queryKey: keys.due(asked),
    queryFn: () => unwrap(api.GET("/api/due", { params: { query: asked } })),
    enabled: site !== "",
    placeholderData: (old) => old,
    refetchInterval: (query) => (query.state.data?.pending ? 1000 : period),
  });
  const ask = (change: Record<string, string | number>) => {
    if (typeof change["site"] === "string") remember(change["site"]);
    const next = { ...asked, page: 1, ...change };
    const said = Object.entries(next).filter(([, value]) => Boolean(value));
    setParams(Object.fromEntries(said.map(([key, value]) => [key, String(value)])), { replace: true });
  };
  if (sites.isPending) return <Loading what="The sites" />;
  if (sites.isError) return <Failed error={sites.error} again={() => void sites.refetch()} />;
  if (!site) return <Empty>No site is entered yet.</Empty>;
  const view = found.data;
  return (
    <main className="page tomorrow">
      {view && <Answer view={view} />}
      <div className="asked field-row">
        <NativeSelect
          label="Site"
          data={sites.data.map((one) => ({ value: one.id, label: `${one.employer}, ${one.name}` }))}
          value={site}
          onChange={(event) => ask({ site: event.currentTarget.value })}
        />
        <NativeSelect
          label="Within"
          data={[
            { value: "0", label: view ? `the site’s ${view.notice} days` : "the site’s notice" },
            ...PERIODS.map((days) => ({ value: String(days), label: `${days} days` })),
          ]}
          value={String(within)}
          onChange={(event) => ask({ within: Number(event.currentTarget.value) })}
        />
      </div>
      {found.isError && <Failed inside error={found.error} again={() => void found.refetch()} />}
      {found.isPending && <Loading inside what="Who is due" />}
      {view && (
        <>
          {view.pending > 0 && (
            <p className="note">Still looking at {view.pending} people. Somebody may be missing here yet.</p>
          )}
          {view.total === 0 && <Empty>Who has never passed anything is not listed here; see Tomorrow.</Empty>}
          <ul className="rows crew">
            {view.rows.map((one) => (
              <Due key={one.person_id} one={one} />
            ))}
          </ul>
          <Pager page={view.page} pages={view.pages} go={(to) => ask({ page: to })} />
          <Invitations site={site} within={within} total={view.total} />
          <Takeaway site={site} query={`site=${site}&within=${within}`} />
        </>
      )}
    </main>
  );
}

function Answer({ view }: { view: Schemas["DuePage"] }) {
  return (
    <h1>
      {view.unable > 0 && `${view.unable} can wear nothing, `}
      {view.soon > 0 ? `${view.soon} due` : view.unable > 0 ? "nobody else due" : "Nobody is due"}
      <span className="dim on-day">
        {" "}
        within {view.within} days from {view.today}, {view.site}
      </span>
    </h1>
  );
}

function Due({ one }: { one: Schemas["DueLine"] }) {
  return (
    <li className={one.until ? "may" : "may-not"}>
      <Mark name={one.until ? "lantern" : "wall"} size={30} />
      <div>
        <Link to={`/people/${one.person_id}`} className="big">
          {one.name}
        </Link>{" "}
        <span className="dim">
          {one.number}, {one.task || "no task on file"}
          {one.contact && `, ${one.contact}`}
        </span>
        {one.until ? (
          <p>
            <b>
              {one.ends_by} ends on {one.until}
            </b>
            , {one.days === 0 ? "today" : one.days === 1 ? "tomorrow" : `in ${one.days} days`}; {one.set_up}
            {one.is_only && <b className="rust"> their only set-up</b>}
          </p>
        ) : (
          one.reasons.map((why) => (
            <p key={why.code + why.sentence}>
              {why.sentence} <span className="settler">{why.settled_by}</span>
            </p>
          ))
        )}
      </div>
    </li>
  );
}

/** Everybody who is due is written to, where a mail server is set; who has no address is named. */
function Invitations({ site, within, total }: { site: string; within: number; total: number }) {
  const hasMail = useSession().data?.has_mail ?? false;
  const [done, setDone] = useState<Schemas["DueInvited"] | null>(null);
  const { problem, attempt } = useAttempt("Nobody was invited.");
  if (!hasMail || total === 0) return null;
  const invite = () =>
    attempt(async () => {
      const params = { path: { site_id: site } };
      setDone(await unwrap(api.POST("/api/sites/{site_id}/invitations", { params, body: { within } })));
    });
  return (
    <section aria-label="Invitations">
      <p className="field-row">
        <button type="button" className="quiet" onClick={() => void invite()}>
          Invite them all by e-mail
        </button>
        <Link to="/outbox">Outbox</Link>
      </p>
      {done && (
        <p role="status">
          {done.invited} invited{done.again > 0 && `, ${done.again} had an invitation lately`}
          {done.no_address.length > 0 && `; no address on file: ${done.no_address.join(", ")}`}.
        </p>
      )}
      <Problem words={problem} />
    </section>
  );
}

function Takeaway({ site, query }: { site: string; query: string }) {
  const [path, setPath] = useState("");
  const { problem, attempt } = useAttempt("No address was made.");
  const renew = () =>
    attempt(async () => {
      const made = await unwrap(api.POST("/api/sites/{site_id}/calendar", { params: { path: { site_id: site } } }));
      setPath(window.location.origin + made.path);
    });
  return (
    <div className="no-print">
      <p className="field-row">
        <a className="quiet" href={`/api/due.xlsx?${query}`} download>
          As a workbook
        </a>
        <button type="button" className="quiet" onClick={() => void renew()}>
          An address for your calendar
        </button>
      </p>
      {path && (
        <p className="note">
          Subscribe to <b className="mono">{path}</b>. It is shown once; whoever has it reads it, and a new one ends it.
          It names people by initials and number.
        </p>
      )}
      <Problem words={problem} />
    </div>
  );
}
