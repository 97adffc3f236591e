import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, keys, unwrap } from "@/shared/client";
import { dateTime } from "@/shared/clock";
import { Text } from "@/design/Fields";
import { Empty, Failed, Loading } from "@/design/States";

/** Who did what to what, the newest first; the address holds what was asked for. */
export function JournalPage() {
  const [params, setParams] = useSearchParams();
  const asked = {
    before: Number(params.get("before") ?? "0") || 0,
    day: params.get("day") ?? "",
    account: params.get("account") ?? "",
    subject: params.get("subject") ?? "",
  };
  const journal = useQuery({
    queryKey: keys.journal(asked),
    queryFn: () => unwrap(api.GET("/api/journal", { params: { query: asked } })),
    placeholderData: (old) => old,
  });
  if (journal.isPending) return <Loading what="The journal" />;
  if (journal.isError) return <Failed error={journal.error} again={() => void journal.refetch()} />;
  const { rows, before } = journal.data;
  const go = (change: Record<string, string>) =>
    setParams(
      Object.fromEntries(
        Object.entries({ day: asked.day, subject: asked.subject, ...change }).filter(([, text]) => text),
      ),
    );
  return (
    <>
      <div className="page-head">
        <div>
          <h1>Journal</h1>
          <p className="dim">Who did what. Written once and never changed; presses at the bench are in the records.</p>
        </div>
        <a
          className="quiet"
          href={`/api/journal.csv?${new URLSearchParams({ day: asked.day, subject: asked.subject })}`}
          download="journal.csv"
        >
          Export CSV
        </a>
      </div>
      <div className="field-row">
        <Text label="Of one day" type="date" value={asked.day} set={(day) => go({ day })} />
        {(asked.day || asked.subject || asked.before > 0) && (
          <button type="button" className="quiet" onClick={() => setParams({})}>
            Show everything
          </button>
        )}
      </div>
      {rows.length === 0 && <Empty>Nothing was written then.</Empty>}
      <div className="wide">
        <table className="plain">
          <thead>
            <tr>
              <th>When</th>
              <th>Who</th>
              <th>What</th>
              <th>From what to what, and why</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((one) => (
              <tr key={one.no}>
                <td>{dateTime(one.at)}</td>
                <td>{one.who}</td>
                <td>
                  {one.deed}
                  {one.subject_id.length === 36 && (
                    <>
                      :{" "}
                      <button
                        type="button"
                        className="plain-button"
                        onClick={() => go({ subject: one.subject_id, before: "" })}
                      >
                        {one.subject === one.subject_id ? "this one" : one.subject}
                      </button>
                    </>
                  )}
                </td>
                <td>
                  {one.changes.map((words) => (
                    <div key={words}>{words}</div>
                  ))}
                  {one.why && <i>{one.why}</i>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {before > 0 && (
        <button type="button" className="quiet" onClick={() => go({ before: String(before) })}>
          Earlier ones
        </button>
      )}
    </>
  );
}
