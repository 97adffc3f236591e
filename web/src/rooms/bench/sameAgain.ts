import type { Body, Schemas } from "@/shared/client";

/** What was passed last, set-up and all; with its method, and its task where none is chosen yet. */
export function sameAgain(same: Schemas["SameAgain"], withTask: boolean): Body {
  return {
    kind: "choose_facepiece",
    version_id: same.version_id,
    size: same.size,
    suspension: same.suspension,
    clip: same.clip,
    filter_class: same.filter_class,
    is_own: same.is_own,
    ppe: same.ppe,
    task_id: withTask ? same.task_id : null,
    method: same.method === "" ? null : (same.method as Schemas["ChooseMethod"]["method"]),
  };
}
