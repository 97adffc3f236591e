import { Link } from "react-router";
import type { Body, Schemas, BenchView } from "@/shared/client";
import { clockTime, minutes, serverNow, useNow } from "@/shared/clock";
import { useKeys } from "@/shared/keys";
import { Key } from "@/design/Key";
import { Mark, type MarkName, OutcomeMark } from "@/design/Marks";
import { PassInHand } from "@/rooms/bench/PassInHand";

const MARK: Record<string, MarkName> = {
  stop: "wall",
  put_right: "gate",
  waiting: "clock",
  unanswered: "gate-unknown",
  note: "gate-unknown",
};
const WORD: Record<string, string> = {
  stop: "stop",
  put_right: "put right first",
  waiting: "the clock runs",
  unanswered: "",
  note: "",
};

/** Always there: who this is, what stands between them and a pass, what must be put back before they go. */
export function Aside({ view, propose }: { view: BenchView; propose: (body: Body) => void }) {
  const { visit } = view;
  const worn = visit.worn_since !== null && !visit.run && !visit.closed && !visit.verdict;
  const isPutBack = visit.step === "back";
  const adjust = () => propose({ kind: "adjusted", what: "strap" });
  const off = () => propose({ kind: "doffed", why: "refit" });
  useKeys({ x: worn ? adjust : undefined, r: worn ? off : undefined });
  return (
    // eslint-disable-next-line jsx-a11y-x/no-noninteractive-tabindex -- it scrolls: the keys must reach it
    <aside className="aside" tabIndex={0} aria-label={`About ${view.first_name}`}>
      <h2 className="who">{view.person}</h2>
      <p className="dim">
        {view.number} · {view.task}
        {visit.facepiece ? (
          <>
            {" "}
            · <b>{visit.facepiece.label}</b>
          </>
        ) : (
          ""
        )}
      </p>
      {!visit.facepiece && <p className="dim">{view.last_result}</p>}
      {visit.method && visit.facepiece && (
        <p className="dim">
          {visit.method_words}
          {!visit.run && !visit.verdict && !visit.closed && (
            <span className="hint">
              {" "}
              · <kbd>V</kbd> another method
            </span>
          )}
        </p>
      )}
      <PassInHand view={view} propose={propose} />
      {visit.worn_since && !visit.verdict && !visit.run && visit.queue.length > 0 && (
        <WearClock ready={visit.wear_ready_at ?? null} />
      )}
      {visit.task && !isPutBack && (
        <p className="dim">
          {visit.task.name}: {visit.task.required} times the limit
          {visit.task.limits.map((one) => (
            <span key={one} className="line">
              {one}
            </span>
          ))}
        </p>
      )}
      {isPutBack && <Alterations alterations={visit.alterations} name={view.first_name} />}
      {visit.closed ? null : <Between view={view} />}
      {!isPutBack && <Alterations alterations={visit.alterations} name={view.first_name} />}
      {view.meanwhile.length > 0 && <Meanwhile view={view} />}
      {visit.tries.length > 0 && (
        <section aria-label="Tries">
          <h3>Tries</h3>
          <ul className="lines">
            {visit.tries.map((one) => (
              <li key={one.no}>
                <div>
                  <b>{one.no}</b> · {one.size} · <OutcomeMark outcome={one.outcome} />
                </div>
                <small>
                  {one.overall
                    ? `overall ${one.overall}, level ${one.level}${one.is_marginal ? ", marginal" : ""}`
                    : one.reasons[0]?.sentence}
                </small>
              </li>
            ))}
          </ul>
        </section>
      )}
      {view.late_entries > 0 && <p className="dim">{view.late_entries} entries were recorded late.</p>}
      {!visit.run && !visit.closed && !visit.distress && (
        <div className="aside-keys">
          <Key cap="E" label="unwell" tone="rust" onPress={() => propose({ kind: "distress" })} />
          {worn && <Key cap="X" label="adjusted" onPress={adjust} />}
          {worn && <Key cap="R" label="off" onPress={off} />}
        </div>
      )}
    </aside>
  );
}

function Between({ view }: { view: BenchView }) {
  const { between, not_asked, alterations } = view.visit;
  const shown = alterations.length ? 3 : 5; // what must be put back stays in sight too
  // how long it has been worn has its own clock above
  const firm = between.filter((one) => one.gravity !== "unanswered" && one.code !== "wear");
  const soft = between.filter((one) => one.gravity === "unanswered");
  return (
    <section aria-label={`Between ${view.first_name} and a pass`}>
      <h3>Between {view.first_name} and a pass</h3>
      <ul className="lines">
        {[...firm, ...soft].slice(0, shown).map((one) => (
          <Line key={`${one.code}${one.sentence}`} one={one} />
        ))}
        {firm.length + soft.length > shown && (
          <li>
            <small>and {firm.length + soft.length - shown} more</small>
          </li>
        )}
        {not_asked > 0 && (
          <li>
            <Mark name="gate-unknown" />
            <div>Not asked yet: {not_asked}</div>
          </li>
        )}
        {between.length === 0 && not_asked === 0 && (
          <li>
            <Mark name="cairn" />
            <div>Nothing</div>
          </li>
        )}
      </ul>
    </section>
  );
}

function Meanwhile({ view }: { view: BenchView }) {
  return (
    <section aria-label="Could go first meanwhile">
      <h3>Can start at {view.visit.starts_at ? clockTime(view.visit.starts_at) : ""}; could go first meanwhile</h3>
      <ul className="lines">
        {view.meanwhile.map((one) => (
          <li key={one.visit_id}>
            <Mark name="lantern" />
            <div>
              <Link to={`/visit/${one.visit_id}`}>{one.person}</Link>
              <small>{one.doing}</small>
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Line({ one }: { one: Schemas["Between"] }) {
  const now = useNow(1000);
  const left = one.until ? (Date.parse(one.until) - now) / 1000 : 0;
  const detail = one.until
    ? left > 0
      ? `${minutes(left)} more, until ${clockTime(one.until)}`
      : "over"
    : WORD[one.gravity] || one.detail;
  return (
    <li className={one.gravity}>
      <Mark name={MARK[one.gravity] ?? "gate-unknown"} />
      <div>
        <b>{one.sentence}</b>
        {detail && <small>{detail}</small>}
      </div>
    </li>
  );
}

function Alterations({ alterations, name }: { alterations: Schemas["AlterationView"][]; name: string }) {
  if (!alterations.length) return null;
  return (
    <section aria-label={`To be put back before ${name} goes`}>
      <h3>To be put back before {name} goes</h3>
      <ul className="lines">
        {alterations.map((one) => (
          <li key={one.id}>
            <Mark name="ring" />
            <div>
              {one.opened} <small>since {clockTime(one.since)}</small>
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}

function WearClock({ ready }: { ready: string | null }) {
  useNow(500);
  const left = ready ? (Date.parse(ready) - serverNow()) / 1000 : 0;
  return (
    <p className="wear" role="timer">
      <Mark name="clock" size={28} />
      {left > 0 ? (
        <>
          <b className="mono">{minutes(left)}</b> of wear to go
        </>
      ) : (
        <>
          <b>Worn long enough</b>
        </>
      )}
    </p>
  );
}
