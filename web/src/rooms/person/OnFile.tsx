import { NativeSelect } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { dayIn } from "@/shared/clock";
import { useSession } from "@/shared/session";
import { Problem, Text } from "@/design/Fields";
import { TakeBack } from "@/rooms/common/TakeBack";

/** What is on file: clearance with its limits and dates, training. Never a diagnosis. */
export function OnFile({ view }: { view: Schemas["PersonView"] }) {
  const [open, setOpen] = useState<"" | "clearance" | "training">("");
  const session = useSession();
  const may = session.data?.roles.some((role) => role !== "supervisor") ?? false;
  const { clearance } = view;
  return (
    <section>
      <h2>On file</h2>
      <ul className="rows">
        <li className="rule-row">
          <div>
            <b>Clearance</b>
            <div>
              {clearance
                ? `${clearance.status}${clearance.limits.length ? `, ${clearance.limits.join(", ")}` : ""}, from ${clearance.valid_from}${clearance.valid_until ? ` until ${clearance.valid_until}` : ", no end set"}${clearance.by ? `, by ${clearance.by}` : ""}`
                : "none on file"}
            </div>
          </div>
          {may && (
            <button type="button" className="quiet" onClick={() => setOpen(open === "clearance" ? "" : "clearance")}>
              Enter a clearance
            </button>
          )}
        </li>
        <li className="rule-row">
          <div>
            <b>Training</b>
            <div>{view.trained_on ? `last on ${view.trained_on}` : "none on file"}</div>
            {view.trainings.map((one) => (
              <TrainingRow key={one.id} view={view} one={one} />
            ))}
          </div>
          {may && (
            <button type="button" className="quiet" onClick={() => setOpen(open === "training" ? "" : "training")}>
              Enter a training
            </button>
          )}
        </li>
      </ul>
      {open === "clearance" && <ClearanceForm view={view} close={() => setOpen("")} />}
      {open === "training" && <TrainingForm view={view} close={() => setOpen("")} />}
    </section>
  );
}

/** A training on file; an administrator takes one back that was somebody else's, and says how they know. */
function TrainingRow({ view, one }: { view: Schemas["PersonView"]; one: Schemas["TrainingLine"] }) {
  const session = useSession();
  const { send, problem } = useSend();
  const withdraw = (why: string) =>
    send(() =>
      unwrap(
        api.POST("/api/people/{person_id}/trainings/{training_id}/withdraw", {
          params: { path: { person_id: view.person.id, training_id: one.id } },
          body: { why },
        }),
      ),
    );
  return (
    <div className="dim">
      {one.on}, {one.what}
      {one.withdrawn && <b className="heath"> · {one.withdrawn}</b>}{" "}
      {!one.withdrawn && session.data?.roles.includes("administrator") && (
        <TakeBack label="Not theirs" ask="How you know it was not theirs" problem={problem} take={withdraw} />
      )}
    </div>
  );
}

function useSend(close?: () => void) {
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("It was not entered.");
  const send = (call: () => Promise<unknown>) =>
    attempt(async () => {
      await call();
      await queries.invalidateQueries({ queryKey: ["person"] });
      close?.();
    });
  return { send, problem };
}

interface FormProps {
  view: Schemas["PersonView"];
  close: () => void;
}

function ClearanceForm({ view, close }: FormProps) {
  const [status, setStatus] = useState<Schemas["ClearanceEntry"]["status"]>("cleared");
  const [limit, setLimit] = useState("");
  const [from, setFrom] = useState(() => dayIn(view.zone));
  const [until, setUntil] = useState("");
  const [by, setBy] = useState("");
  const { send, problem } = useSend(close);
  const enter = () =>
    unwrap(
      api.POST("/api/people/{person_id}/clearance", {
        params: { path: { person_id: view.person.id } },
        body: { status, limits: limit ? [limit] : [], valid_from: from, valid_until: until, by_whom: by },
      }),
    );
  return (
    <form
      className="note heath"
      onSubmit={(event) => {
        event.preventDefault();
        void send(enter);
      }}
    >
      <div className="field-row">
        <NativeSelect
          label="Status"
          data={["cleared", "not cleared", "pending"]}
          value={status}
          onChange={(event) => setStatus(event.currentTarget.value as Schemas["ClearanceEntry"]["status"])}
        />
        <NativeSelect
          label="Limit"
          data={[{ value: "", label: "none" }, ...view.clearance_limits]}
          value={limit}
          onChange={(event) => setLimit(event.currentTarget.value)}
        />
        <Text label="From" type="date" value={from} set={setFrom} required />
        <Text label="Until, may be empty" type="date" value={until} set={setUntil} />
        <Text label="By whom; nothing medical" value={by} set={setBy} required />
        <button type="submit" className="act">
          Put on file
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}

function TrainingForm({ view, close }: FormProps) {
  const [on, setOn] = useState(() => dayIn(view.zone));
  const [what, setWhat] = useState("donning, seal check, care");
  const { send, problem } = useSend(close);
  const enter = () =>
    unwrap(
      api.POST("/api/people/{person_id}/training", {
        params: { path: { person_id: view.person.id } },
        body: { trained_on: on, what },
      }),
    );
  return (
    <form
      className="note heath"
      onSubmit={(event) => {
        event.preventDefault();
        void send(enter);
      }}
    >
      <div className="field-row">
        <Text label="On" type="date" value={on} set={setOn} required />
        <Text label="What" value={what} set={setWhat} required w={320} />
        <button type="submit" className="act">
          Put on file
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}
