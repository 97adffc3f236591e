import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { dateTime } from "@/shared/clock";
import { Problem } from "@/design/Fields";

/** Protocols a site has added from files: read strictly, tried out on the simulator, then usable. */
export function SiteProtocols({ site, isAdmin }: { site: string; isAdmin: boolean }) {
  const queries = useQueryClient();
  const [text, setText] = useState("");
  const [trial, setTrial] = useState<Schemas["ProtocolTrial"] | null>(null);
  const [problem, setProblem] = useState("");
  const path = { site_id: site };
  const added = useQuery({
    queryKey: keys.siteProtocols(site),
    queryFn: () => unwrap(api.GET("/api/sites/{site_id}/protocols", { params: { path } })),
    enabled: site !== "",
  }).data;
  const send = async (store: boolean) => {
    setProblem("");
    setTrial(null);
    try {
      const given = { params: { path }, body: { text } };
      const call = store
        ? api.POST("/api/sites/{site_id}/protocols", given)
        : api.POST("/api/sites/{site_id}/protocols/try", given);
      setTrial(await unwrap(call));
      if (store) {
        setText("");
        await queries.invalidateQueries({ queryKey: keys.siteProtocols(site) });
      }
    } catch (error) {
      setProblem(error instanceof Error ? error.message : "It was not read.");
    }
  };
  const withdraw = async (id: string) => {
    setProblem("");
    try {
      const where = { params: { path: { ...path, protocol_id: id } } };
      await unwrap(api.POST("/api/sites/{site_id}/protocols/{protocol_id}/withdraw", where));
    } catch (error) {
      setProblem(error instanceof Error ? error.message : "It was not withdrawn.");
    }
    await queries.invalidateQueries({ queryKey: keys.siteProtocols(site) });
  };
  if (!isAdmin && !added?.length) return null;
  return (
    <>
      <h2>Protocols of this site</h2>
      {added?.length ? (
        <ul className="rows">
          {added.map((one) => (
            <li key={one.id} className="row-line">
              <div>
                <b>{one.title}</b> <span className="dim">{one.id}</span>
                <div className="dim">
                  {one.seconds} s · {one.source} ({one.standing}) · added by {one.by_name}, {dateTime(one.entered_at)}
                </div>
              </div>
              {isAdmin && (
                <button type="button" className="quiet" onClick={() => void withdraw(one.id)}>
                  Withdraw
                </button>
              )}
            </li>
          ))}
        </ul>
      ) : (
        <p className="dim">None. A protocol of your own is a file; the format is in docs/rules.md.</p>
      )}
      {isAdmin && (
        <>
          <textarea
            className="protocol-text"
            aria-label="Protocol file"
            placeholder="Paste a protocol file here, or bring one"
            rows={6}
            value={text}
            onChange={(event) => setText(event.currentTarget.value)}
          />
          <div className="field-row">
            <label className="quiet">
              Bring a file
              <input
                className="visually-hidden"
                type="file"
                accept=".toml,text/plain"
                aria-label="File of a protocol"
                onChange={(event) => void event.currentTarget.files?.[0]?.text().then(setText)}
              />
            </label>
            <button type="button" className="act" disabled={!text} onClick={() => void send(false)}>
              Try it on the simulator
            </button>
            <button
              type="button"
              className="act"
              disabled={!text || !trial || trial.problems.length > 0}
              onClick={() => void send(true)}
            >
              Add it to this site
            </button>
          </div>
          <Problem words={problem} />
          {trial && <Tried trial={trial} />}
        </>
      )}
    </>
  );
}

function Tried({ trial }: { trial: Schemas["ProtocolTrial"] }) {
  const isGood = trial.problems.length === 0;
  return (
    <div className={`note ${isGood ? "tarn" : "rust"}`} role="status">
      <h3>
        {trial.is_stored ? `${trial.title}: added` : isGood ? `${trial.title}: nothing wrong with it` : "Not yet"}
      </h3>
      <p>
        {trial.n} values in {trial.seconds} s.
        {trial.good ? ` On the simulator a good seal: ${trial.good}; a bad one: ${trial.bad}.` : ""}
      </p>
      {!isGood && (
        <ul>
          {trial.problems.map((one) => (
            <li key={one}>{one}</li>
          ))}
        </ul>
      )}
    </div>
  );
}
