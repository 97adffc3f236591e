import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, keys, type Schemas, unwrap, type BenchView } from "@/shared/client";
import { KEY, useKeys } from "@/shared/keys";
import { useNine } from "@/shared/nine";
import { useSession } from "@/shared/session";
import { Key } from "@/design/Key";
import { More } from "@/design/More";
import type { ActProps } from "@/rooms/bench/card";
import { Foot } from "@/rooms/bench/Foot";
import { sameAgain } from "@/rooms/bench/sameAgain";

/** What the bench is advised for a visit; fetched anew when the visit moves on. */
export function useAdvice(view: BenchView) {
  return useQuery({
    queryKey: keys.advice(view.visit_id, view.visit.seq),
    queryFn: () => unwrap(api.GET("/api/visits/{visit_id}/advice", { params: { path: { visit_id: view.visit_id } } })),
    placeholderData: (old) => old,
  });
}

/** Which task it is for: the usual one by Space, another by its digit. The tester picks a task, not chemistry. */
export function TaskCard({ card, view, propose, back }: ActProps) {
  const advice = useAdvice(view).data;
  const session = useSession();
  const tasks = advice?.tasks ?? [];
  const usual = tasks.find((one) => one.id === advice?.usual_task && one.stops.length === 0);
  const take = (task: Schemas["TaskLine"]) => propose({ kind: "choose_task", task_id: task.id });
  const nine = useNine(tasks);
  const same = advice?.same_again?.task_id ? advice.same_again : null;
  const again = same ? () => propose(sameAgain(same, true)) : undefined;
  useKeys({
    ...Object.fromEntries(nine.rows.map((one, i) => [String(i + 1), () => take(one)])),
    [KEY.more]: nine.more,
    [KEY.fine]: again ?? (usual ? () => take(usual) : undefined),
  });
  return (
    <section className="card" data-item={card.id}>
      <p className="mode">
        Ask
        <i />
        it decides how much protection is needed
      </p>
      <h1 className="question">{same ? "All as last time?" : card.title}</h1>
      <p className="say">“{same ? "Is it still for the same work, and the same mask?" : card.say}”</p>
      {same && <AsLastTime same={same} />}
      {advice && tasks.length === 0 && (
        <div className="note rust" role="alert">
          <h2>No task is entered for this site</h2>
          <p>
            An unknown hazard is never air-purifying.{" "}
            {session.data?.roles.includes("administrator") ? (
              <Link to="/rules">Enter the site’s tasks</Link>
            ) : (
              "Ask the administrator to enter the site’s tasks under Rules."
            )}
          </p>
        </div>
      )}
      <ul className="options">
        {nine.rows.map((one, i) => (
          <li key={one.id}>
            <button type="button" onClick={() => take(one)}>
              <kbd>{i + 1}</kbd>
              <span>
                <b>{one.name}</b>
              </span>
              <span className="dim">
                {one.stops[0] ??
                  `${one.required} times the limit (${one.worst}) · ${enough(one)}${one.work_filters ? ` · work filters ${one.work_filters}` : ""}`}
              </span>
            </button>
          </li>
        ))}
      </ul>
      <Foot>
        {again ? (
          <Key cap="Space" label="all as last time" tone="tarn" onPress={again} />
        ) : (
          usual && <Key cap="Space" label={`${usual.name}, as usual`} tone="tarn" onPress={() => take(usual)} />
        )}
        <More {...nine} />
        {back && <Key cap="U" label="back" onPress={back} />}
      </Foot>
    </section>
  );
}

/** What one key takes: task, facepiece with its set-up, and how it is tested; said in full before it is pressed. */
function AsLastTime({ same }: { same: Schemas["SameAgain"] }) {
  return (
    <section className="as-last-time" aria-label="As last time">
      <p>
        <b>{same.label}</b>
        <span>{same.setup}</span>
      </p>
      <p>
        {same.task}
        {same.method ? ` · ${same.method_words}` : ""} · passed {same.passed_on}
      </p>
      {same.without && (
        <p className="gorse">
          {same.method_words} not today: {same.without}. Another method is asked for next.
        </p>
      )}
    </section>
  );
}

function enough(task: Schemas["TaskLine"]): string {
  const half = task.kinds.find((one) => one.kind === "half")?.suffices;
  const full = task.kinds.find((one) => one.kind === "full")?.suffices;
  if (half === "yes") return "a half facepiece is enough";
  if (full === "yes") return "at least a full facepiece";
  if (half === "not stated" || full === "not stated") return "the rule book states no APF here";
  return "more than an air-purifying full facepiece";
}
