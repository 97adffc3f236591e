import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { useChange } from "@/shared/attempt";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { dateTime } from "@/shared/clock";
import { Problem } from "@/design/Fields";
import { Mark } from "@/design/Marks";
import { Empty, Failed, Loading, Pager } from "@/design/States";

const AGAIN_MS = 5000;
const MARKS = { sent: "cairn", waiting: "clock", failed: "wall" } as const;

/** The outbox: what waits, what was sent, what could not be and why. */
export function OutboxPage() {
  const [params, setParams] = useSearchParams();
  const page = Number(params.get("page") ?? "1") || 1;
  const found = useQuery({
    queryKey: keys.mails(page),
    queryFn: () => unwrap(api.GET("/api/mails", { params: { query: { page } } })),
    refetchInterval: AGAIN_MS,
  });
  if (found.isPending) return <Loading what="The outbox" />;
  if (found.isError) return <Failed error={found.error} again={() => void found.refetch()} />;
  const { rows, pages, is_on } = found.data;
  const failed = rows.filter((one) => one.state === "failed").length;
  return (
    <main className="page">
      <h1>{failed ? `${failed} of these could not be sent` : "Outbox"}</h1>
      {!is_on && <p className="note">No mail server is set here, so nothing is sent. Papers are printed instead.</p>}
      {rows.length === 0 && <Empty>Nothing was sent yet.</Empty>}
      <ul className="rows">
        {rows.map((one) => (
          <Letter key={one.id} one={one} />
        ))}
      </ul>
      <Pager page={page} pages={pages} go={(to) => setParams({ page: String(to) })} />
    </main>
  );
}

function Letter({ one }: { one: Schemas["MailLine"] }) {
  const { problem, change } = useChange([["mails"]]);
  const again = () =>
    change(() => unwrap(api.POST("/api/mails/{mail_id}/again", { params: { path: { mail_id: one.id } } })));
  return (
    <li className="rule-row">
      <div>
        <Mark name={MARKS[one.state as keyof typeof MARKS] ?? "clock"} size={22} /> <b>{one.subject}</b> to{" "}
        {one.person_id ? <Link to={`/people/${one.person_id}`}>{one.person}</Link> : one.person}{" "}
        <span className="dim">{one.to_address}</span>
        <div className={one.state === "failed" ? "rust" : "dim"}>
          {one.state === "sent" ? `sent ${dateTime(one.sent_at)}` : `${one.state}, since ${dateTime(one.made_at)}`}
          {one.problem && `: ${one.problem}`}
        </div>
        <Problem words={problem} />
      </div>
      {one.state === "failed" && (
        <button type="button" className="quiet" onClick={() => void again()}>
          Try again
        </button>
      )}
    </li>
  );
}
