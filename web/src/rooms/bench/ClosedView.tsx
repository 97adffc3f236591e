import { Link, useNavigate } from "react-router";
import type { BenchView, Body, Schemas } from "@/shared/client";
import { KEY, useKeys } from "@/shared/keys";
import { useSession } from "@/shared/session";
import { Key } from "@/design/Key";
import { OutcomeMark } from "@/design/Marks";
import { Correct } from "@/rooms/bench/Correct";
import { WithdrawPass } from "@/rooms/bench/WithdrawPass";
import { Foot } from "@/rooms/bench/Foot";
import { Papers } from "@/rooms/common/Papers";
import { SignCard } from "@/rooms/bench/SignCard";

interface Props {
  view: BenchView;
  put: (view: BenchView) => void;
  propose: (body: Body) => void;
}

/** A finished visit: its result, its tries, the report, and how to correct it. */
export function ClosedView({ view, put, propose }: Props) {
  const { visit } = view;
  const go = useNavigate();
  const roles = useSession().data?.roles ?? [];
  const canTest = roles.includes("tester");
  const seesHealth = canTest || roles.includes("administrator");
  const next = () => void go("/?next=1");
  useKeys({ [KEY.fine]: canTest ? next : undefined });
  const last = visit.tries.at(-1);
  const unsigned = !visit.is_signed && visit.tries.length > 0;
  const role = visit.signatures.some((one) => one.role === "wearer") ? "sign_tester" : "sign_wearer";
  return (
    <section className="card closed" data-item="closed">
      <p className="mode">
        {{ turned_away: "Turned away", mistaken: "Opened by mistake" }[visit.closed] ?? "Released"}
        <i />
        revision {visit.revision}
      </p>
      <h1 className="question">
        {last ? <OutcomeMark outcome={visit.is_signed ? last.outcome : "unfinished"} /> : "Not tested"}
        {last?.overall && visit.is_signed ? `, overall ${last.overall}` : ""}
      </h1>
      {visit.turned_away && <p className="reading">{visit.turned_away}</p>}
      {visit.under_question.length > 0 && (
        <div className="note rust" role="alert">
          <h2>Under question: nobody wears on the strength of it</h2>
          {visit.under_question.map((one) => (
            <p key={one.sentence}>{one.sentence}</p>
          ))}
          <p>A tester settles it below, with a reason; then both sign again.</p>
        </div>
      )}
      {unsigned && <p className="note">This revision is not signed; its result cannot be used until it is.</p>}
      {unsigned && (
        <SignCard
          key={role}
          view={view}
          put={put}
          card={{ id: role, act: role, say: "I have read this revision." } as Parameters<typeof SignCard>[0]["card"]}
        />
      )}
      {visit.is_signed && (
        <Papers
          visitId={view.visit_id}
          passed={last?.outcome === "pass" && !visit.under_question.length}
          isReal={!visit.is_practice}
        />
      )}
      {visit.tries.length > 0 && (
        <p>
          For other programs:{" "}
          {seesHealth && (
            <>
              <a href={`/api/visits/${view.visit_id}/record.json`}>open record</a> ·{" "}
            </>
          )}
          <a href={`/api/visits/${view.visit_id}/readings.csv`}>readings</a> ·{" "}
          <a href={`/api/visits/${view.visit_id}/results.csv`}>results</a>
        </p>
      )}
      {visit.tries.map((one) => (
        <div key={one.no} className="try">
          <h2>
            Try {one.no}: <OutcomeMark outcome={one.outcome} /> {one.facepiece} {one.size}
            {one.overall ? ` · overall ${one.overall}` : ""}
            {one.is_marginal ? " · marginal" : ""}
          </h2>
          {one.exercises.length > 0 && (
            <table className="plain">
              <thead>
                <tr>
                  <th>Exercise</th>
                  <th className="num">
                    {one.unit === "ml/min" ? "Flow" : "Outside"}, {one.unit}
                  </th>
                  <th className="num">{one.unit === "ml/min" ? "Leak" : "Inside"}</th>
                  <th className="num">Fit factor</th>
                  <th className="num">Lower bound</th>
                </tr>
              </thead>
              <tbody>
                {one.exercises.map((row) => (
                  <tr key={row.name}>
                    <td>{row.name}</td>
                    <td className="num">{row.outside}</td>
                    <td className="num">{row.inside}</td>
                    <td className="num">{row.factor}</td>
                    <td className="num">{row.bound}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {one.hidden && (
            <p className="note heath">
              Practice hid: <b>{one.hidden}</b>. Did you find it?
            </p>
          )}
          {one.senses && <Sensed senses={one.senses} />}
          <ul>
            {one.reasons.map((reason) => (
              <li key={reason.code}>
                {reason.sentence} <span className="dim">{reason.rule}</span>
              </li>
            ))}
          </ul>
        </div>
      ))}
      <Correct view={view} propose={propose} />
      <WithdrawPass view={view} />
      <p>
        <Link to={`/people/${view.person_id}`}>{view.person}</Link> · <Link to="/">Today</Link>
      </p>
      {canTest && (
        <Foot>
          <Key cap="Space" label="next person" tone="tarn" onPress={next} />
        </Foot>
      )}
    </section>
  );
}

/** What a qualitative try was made with and came to: pass or fail, never a number. */
function Sensed({ senses }: { senses: Schemas["SensesView"] }) {
  const rows: [string, string][] = [
    ["Test", `${senses.title}: pass or fail, no number`],
    ["Threshold", senses.threshold ? `tasted within ${senses.threshold} squeezes` : ""],
    ["Doses", senses.doses.join(", ")],
    ["Sensed", senses.detection ? `${senses.detection}, pressed by the ${senses.detected_by}` : "no"],
    ["Proof", senses.proof],
    ["Made with", [senses.nebuliser, ...senses.lots].filter(Boolean).join("; ")],
  ];
  return (
    <table className="plain">
      <tbody>
        {rows
          .filter(([, words]) => words)
          .map(([name, words]) => (
            <tr key={name}>
              <th scope="row">{name}</th>
              <td>{words}</td>
            </tr>
          ))}
      </tbody>
    </table>
  );
}
