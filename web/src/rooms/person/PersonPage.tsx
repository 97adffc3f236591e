import { useQuery } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { dateTime } from "@/shared/clock";
import { Mark, OutcomeMark } from "@/design/Marks";
import { Papers } from "@/rooms/common/Papers";
import { Changed } from "@/rooms/person/Changed";
import { Entry } from "@/rooms/person/Entry";
import { OnFile } from "@/rooms/person/OnFile";
import { Empty, Failed, Loading, Pager } from "@/design/States";
import { closedWords } from "@/shared/words";

/** A person: what they may wear and until when, their visits, every try. */
export function PersonPage() {
  const { personId = "" } = useParams();
  const [params, setParams] = useSearchParams();
  const page = Number(params.get("page") ?? "1") || 1;
  const person = useQuery({
    queryKey: keys.person(personId, page),
    queryFn: () =>
      unwrap(api.GET("/api/people/{person_id}", { params: { path: { person_id: personId }, query: { page } } })),
  });
  if (person.isPending) return <Loading what="This person" />;
  if (person.isError) return <Failed error={person.error} again={() => void person.refetch()} />;
  const { person: who, permissions, visits, tries, face_length, face_width, visits_total, next_up } = person.data;
  return (
    <main className="page">
      <h1>{who.name}</h1>
      <p className="dim">
        {who.number} · {who.job}, {who.task} · {who.employer}, {who.site} ·{" "}
        {face_length ? `face ${face_length} × ${face_width ?? "?"} mm` : "face not measured"}
      </p>
      <p className="reading">
        {next_up.until ? (
          <>
            May wear a tight-fitting facepiece until <b className="day">{next_up.until}</b>; then {next_up.ends_by} runs
            out.
          </>
        ) : (
          <b className="rust">May wear no tight-fitting facepiece now.</b>
        )}
      </p>
      <Entry view={person.data} />
      <h2>May wear</h2>
      <p className="dim">
        {permissions.day}
        {permissions.task ? `, for ${permissions.task}` : ""}
      </p>
      {permissions.rows.length === 0 && (
        <Empty>
          Nothing. <Against reasons={permissions.without} />
        </Empty>
      )}
      <ul className="rows">
        {permissions.rows.map((one) => (
          <li key={`${one.visit_id}${one.model}${one.size}${one.setup}`}>
            {one.visit_id ? (
              <Link to={`/visit/${one.visit_id}`} className="row of-five">
                <SetUp one={one} />
              </Link>
            ) : (
              <div className="row of-five">
                <SetUp one={one} />
              </div>
            )}
            {one.may && one.visit_id && <Papers visitId={one.visit_id} passed isReal />}
          </li>
        ))}
      </ul>
      <Changed view={person.data} />
      <OnFile view={person.data} />
      <Measures rows={person.data.measures} />
      <History rows={person.data.history} />
      <h2>Tries</h2>
      {tries.length === 0 ? (
        <Empty>No fit test yet.</Empty>
      ) : (
        <table className="plain">
          <thead>
            <tr>
              <th>When</th>
              <th>Facepiece</th>
              <th>Size</th>
              <th>Method</th>
              <th>Outcome</th>
              <th className="num">Overall</th>
              <th className="num">Level</th>
            </tr>
          </thead>
          <tbody>
            {tries.map((one) => (
              <tr key={`${one.visit_id}${one.no}`}>
                <td>
                  {dateTime(one.tested_at)}
                  {one.is_practice && <b className="heath"> PRACTICE</b>}
                </td>
                <td>
                  <Link to={`/visit/${one.visit_id}`}>{one.model}</Link>
                </td>
                <td>{one.size}</td>
                <td>{one.method}</td>
                <td>
                  <OutcomeMark outcome={one.outcome} />
                  {!one.is_signed && <span className="dim"> not signed</span>}
                </td>
                <td className="num">{one.overall}</td>
                <td className="num">{one.level}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <h2>Visits</h2>
      {visits.length === 0 ? (
        <Empty>No visit yet.</Empty>
      ) : (
        <table className="plain">
          <thead>
            <tr>
              <th>Opened</th>
              <th>Bench</th>
              <th>Ended</th>
              <th>Tries</th>
            </tr>
          </thead>
          <tbody>
            {visits.map((one) => (
              <tr key={one.visit_id}>
                <td>
                  <Link to={`/visit/${one.visit_id}`}>{dateTime(one.opened_at)}</Link>
                  {one.is_practice && <b className="heath"> PRACTICE</b>}
                </td>
                <td>{one.bench}</td>
                <td>{one.closed ? closedWords(one.closed) : one.doing}</td>
                <td>{one.tries}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Pager page={page} pages={Math.ceil(visits_total / 25)} go={(to) => setParams({ page: String(to) })} />
    </main>
  );
}

/** The face as it was measured over the years: a change is a reason to test again. */
function Measures({ rows }: { rows: Schemas["MeasureLine"][] }) {
  if (!rows.length) return null;
  return (
    <>
      <h2>Face, as measured</h2>
      <table className="plain">
        <thead>
          <tr>
            <th>On</th>
            <th className="num">Length, mm</th>
            <th className="num">Width, mm</th>
            <th className="num">Lips, mm</th>
            <th className="num">Panel cell, a hint</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((one, i) => (
            <tr key={`${one.on}${i}`}>
              <td>{one.on}</td>
              <td className="num">{one.length}</td>
              <td className="num">{one.width}</td>
              <td className="num">{one.lip}</td>
              <td className="num">{one.cell ?? ""}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** Results of before, as they were written then. */
function History({ rows }: { rows: Schemas["HistoryLine"][] }) {
  if (!rows.length) return null;
  return (
    <>
      <h2>History, not judged here</h2>
      <table className="plain">
        <thead>
          <tr>
            <th>Tested on</th>
            <th>In what</th>
            <th>How it was written down</th>
            <th>From</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((one, i) => (
            <tr key={`${one.on}${one.model}${i}`}>
              <td>{one.on}</td>
              <td>
                {one.model} {one.size}
              </td>
              <td>
                {one.result} {one.factor} <span className="dim">{one.method}</span>
              </td>
              <td>
                {one.tester} <span className="dim">{one.source}</span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** A set-up they passed in: what was reached, its limits, and until when it may be worn or why not. */
function SetUp({ one }: { one: Schemas["PermissionRow"] }) {
  return (
    <>
      <Mark name={one.may ? "cairn" : "wall"} size={28} />
      <span className="big">
        {one.model} {one.size}
      </span>
      <span className="dim">{one.setup}</span>
      <span>
        {one.overall ? <b className="mono">{one.overall}</b> : one.method}
        {one.limits.map((limit) => (
          <small key={limit} className="line">
            {limit}
          </small>
        ))}
      </span>
      <span>
        {one.may ? (
          <>
            may be worn until <b className="day">{one.until}</b>
          </>
        ) : (
          <>
            <b className="rust">Not to be worn</b>
            <Against reasons={one.reasons} />
          </>
        )}
      </span>
    </>
  );
}

/** Every reason against wearing it, with who settles it. */
function Against({ reasons }: { reasons: Schemas["WhyView"][] }) {
  return reasons.map((why) => (
    <small key={why.code + why.sentence} className="line rust">
      {why.sentence} Settled by the {why.settled_by}.
    </small>
  ));
}
