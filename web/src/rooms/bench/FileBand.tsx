import { useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type BenchView, keys, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { dayIn } from "@/shared/clock";
import { useKeys } from "@/shared/keys";
import { Problem } from "@/design/Fields";

const ON_FILE = ["no_training", "no_clearance", "clearance", "clearance_limit"];

/** What the person's file lacks, said from arrival on and not after five minutes' wear; training given now is filed. */
export function FileBand({ view }: { view: BenchView }) {
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("It was not put on file.");
  const lacking =
    view.visit.run || view.visit.closed ? [] : view.visit.between.filter((one) => ON_FILE.includes(one.code));
  const mayTrain = lacking.some((one) => one.code === "no_training");
  const train = () =>
    void attempt(async () => {
      await unwrap(
        api.POST("/api/people/{person_id}/training", {
          params: { path: { person_id: view.person_id } },
          body: { trained_on: dayIn(view.zone), what: "given at the bench" },
        }),
      );
      await queries.invalidateQueries({ queryKey: keys.visit(view.visit_id) });
    });
  useKeys({ j: mayTrain ? train : undefined });
  if (!lacking.length) return null;
  return (
    <div className="away-band" role="status">
      {lacking.map((one) => (
        <span key={one.code}>{one.sentence}. </span>
      ))}
      {mayTrain && (
        <button type="button" className="act" aria-keyshortcuts="J" onClick={train}>
          J: trained now, put it on file
        </button>
      )}{" "}
      {lacking.some((one) => one.code !== "no_training") && (
        <Link to={`/people/${view.person_id}`}>Open {view.first_name}’s file</Link>
      )}
      <Problem words={problem} />
    </div>
  );
}
