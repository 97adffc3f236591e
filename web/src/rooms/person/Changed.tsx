import { NativeSelect } from "@mantine/core";
import { useState } from "react";
import { Problem, Text } from "@/design/Fields";
import { useChange } from "@/shared/attempt";
import { api, type Schemas, unwrap } from "@/shared/client";
import { dateTime, dayIn } from "@/shared/clock";
import { useSession } from "@/shared/session";
import { TakeBack } from "@/rooms/common/TakeBack";

type View = Schemas["PersonView"];
type Entry = Schemas["ReportEntry"];
const KINDS: { value: Entry["kind"]; label: string }[] = [
  { value: "fit", label: "It does not fit or seal any more" },
  { value: "face", label: "The face: scar, teeth, surgery, weight" },
  { value: "facepiece", label: "The facepiece: another one, or altered" },
  { value: "workplace", label: "The work or the workplace" },
  { value: "health", label: "Health; what it is stays with the clinician" },
];
const WHO: { value: Entry["said_by"]; label: string }[] = [
  { value: "wearer", label: "the wearer" },
  { value: "supervisor", label: "a supervisor" },
  { value: "clinician", label: "a clinician" },
  { value: "tester", label: "a tester" },
  { value: "other", label: "somebody else" },
];

/** What is shown of these, wherever. */
const SHOWN = [["person"], ["people"], ["tomorrow"], ["due"]];

/** What was said to have changed, and a line to say it: what was passed before ends at once. */
export function Changed({ view }: { view: View }) {
  const [isOpen, setOpen] = useState(false);
  return (
    <section aria-label="Changed since">
      <div className="page-head">
        <h2>Changed since</h2>
        <button type="button" className="act" onClick={() => setOpen(!isOpen)}>
          Something has changed
        </button>
      </div>
      {isOpen && <ReportForm view={view} close={() => setOpen(false)} />}
      {view.reports.length === 0 ? (
        <p className="dim">Nothing was reported.</p>
      ) : (
        <ul className="rows">
          {view.reports.map((one) => (
            <Reported key={one.id} one={one} />
          ))}
        </ul>
      )}
    </section>
  );
}

function ReportForm({ view, close }: { view: View; close: () => void }) {
  const [kind, setKind] = useState<Entry["kind"]>("fit");
  const [on, setOn] = useState(() => dayIn(view.zone));
  const [by, setBy] = useState<Entry["said_by"]>("wearer");
  const [words, setWords] = useState("");
  const [setup, setSetup] = useState("");
  const { problem, change } = useChange(SHOWN);
  const setups = new Map(view.permissions.rows.map((one) => [one.configuration, `${one.model} ${one.size}`]));
  const path = { person_id: view.person.id };
  const say = () =>
    change(async () => {
      const body = { kind, on, said_by: by, words, configuration: kind === "health" ? "" : setup };
      await unwrap(api.POST("/api/people/{person_id}/reports", { params: { path }, body }));
      close();
    });
  return (
    <form
      className="note heath"
      aria-label="Something has changed"
      onSubmit={(event) => {
        event.preventDefault();
        void say();
      }}
    >
      <div className="field-row">
        <NativeSelect
          label="What"
          data={KINDS}
          value={kind}
          onChange={(event) => setKind(event.currentTarget.value as Entry["kind"])}
          w={320}
          data-autofocus
        />
        {kind !== "health" && (
          <NativeSelect
            label="In which facepiece"
            data={[
              { value: "", label: "all they passed in" },
              ...[...setups].map(([value, label]) => ({ value, label })),
            ]}
            value={setup}
            onChange={(event) => setSetup(event.currentTarget.value)}
            w={280}
          />
        )}
        <Text label="Since" type="date" value={on} set={setOn} required />
        <NativeSelect
          label="Who says so"
          data={WHO}
          value={by}
          onChange={(event) => setBy(event.currentTarget.value as Entry["said_by"])}
        />
        <Text label="In a few words; never a diagnosis" value={words} set={setWords} maxLength={200} w={320} />
        <button type="submit" className="act">
          Report it
        </button>
      </div>
      <p>
        What they passed before ends at once.{" "}
        {kind === "health" ? "A clearance filed after this settles it." : "A new fit test settles it."}
      </p>
      <Problem words={problem} />
    </form>
  );
}

function Reported({ one }: { one: Schemas["ReportLine"] }) {
  const may = useSession().data?.roles.includes("administrator") ?? false;
  const { problem, change } = useChange(SHOWN);
  const path = { report_id: one.id };
  const withdraw = (why: string) =>
    change(() => unwrap(api.POST("/api/reports/{report_id}/withdrawal", { params: { path }, body: { why } })));
  return (
    <li>
      <div className="row-line">
        <span className={one.withdrawn ? "dim" : undefined}>
          <b>
            {one.title} on {one.on}
          </b>
          , by {one.said_by}
          {one.setup && `, ${one.setup}`}
          {one.words && `: ${one.words}`} <span className="dim">entered {dateTime(one.entered_at)}</span>
          {one.withdrawn && <small className="line">{one.withdrawn}</small>}
        </span>
        {may && !one.withdrawn && (
          <TakeBack label="It was wrong" ask="How you know" problem={problem} take={withdraw} />
        )}
      </div>
    </li>
  );
}
