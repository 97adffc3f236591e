import { NativeSelect } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useChange } from "@/shared/attempt";
import { dayIn } from "@/shared/clock";
import { useSession } from "@/shared/session";
import { Problem, Text } from "@/design/Fields";
import { Erase } from "@/rooms/person/Erase";

type View = Schemas["PersonView"];

/** What is shown of these, wherever. */
const SHOWN = [["person"], ["people"]];

/** A person's entry: corrected, moved, left, back, or found to be the same person as another entry. */
export function Entry({ view }: { view: View }) {
  const [open, setOpen] = useState<"" | "form" | "left" | "twins" | "erase">("");
  const roles = useSession().data?.roles ?? [];
  const { problem, change } = useChange(SHOWN);
  const path = { person_id: view.person.id };
  const toggle = (what: typeof open) => () => setOpen(open === what ? "" : what);
  if (view.erased_on)
    return <p className="note">Their personal data were erased on {view.erased_on}. The logs stay, without a name.</p>;
  if (view.merged_into)
    return (
      <div className="note">
        This is another entry of one person. Everything of theirs stands{" "}
        <Link to={`/people/${view.merged_into}`}>here</Link>.
      </div>
    );
  if (!roles.some((one) => one !== "supervisor"))
    return view.left_on ? <p className="gorse">Left on {view.left_on}.</p> : null;
  return (
    <>
      {view.left_on ? (
        <p className="row-line">
          <b className="gorse">Left on {view.left_on}. What they passed is kept.</b>
          <button
            type="button"
            className="act"
            onClick={() => void change(() => unwrap(api.POST("/api/people/{person_id}/back", { params: { path } })))}
          >
            They are back
          </button>
          {roles.includes("administrator") && (
            <span>
              <a className="quiet" href={`/api/people/${view.person.id}/file.zip`} download>
                Their whole file
              </a>
              <button type="button" className="quiet" onClick={toggle("erase")}>
                Erase their personal data
              </button>
            </span>
          )}
        </p>
      ) : (
        <p>
          <button type="button" className="quiet" onClick={toggle("form")}>
            Correct or move
          </button>
          <button type="button" className="quiet" onClick={toggle("left")}>
            Has left
          </button>
          {roles.includes("administrator") && (
            <>
              <button type="button" className="quiet" onClick={toggle("twins")}>
                Entered twice?
              </button>
              <a className="quiet" href={`/api/people/${view.person.id}/file.zip`} download>
                Their whole file
              </a>
            </>
          )}
        </p>
      )}
      <Problem words={problem} />
      {open === "form" && <EntryForm view={view} close={() => setOpen("")} />}
      {open === "left" && <LeftForm view={view} close={() => setOpen("")} />}
      {open === "twins" && <Twins view={view} />}
      {open === "erase" && <Erase person={view.person.id} />}
    </>
  );
}

function EntryForm({ view, close }: { view: View; close: () => void }) {
  const who = view.person;
  const [given, setGiven] = useState({
    name: who.name,
    number: who.number,
    site_id: who.site_id,
    job: who.job,
    task: who.task,
    contact: view.contact,
  });
  const { problem, change } = useChange(SHOWN);
  const sites = (
    useQuery({ queryKey: keys.sites, queryFn: () => unwrap(api.GET("/api/sites")), staleTime: 60_000 }).data ?? []
  ).filter((one) => one.employer === who.employer);
  const tasks =
    useQuery({
      queryKey: keys.tasks(given.site_id),
      queryFn: () => unwrap(api.GET("/api/sites/{site_id}/tasks", { params: { path: { site_id: given.site_id } } })),
    }).data ?? [];
  const names = tasks.map((one) => one.name);
  const isNone = given.task !== "" && !names.includes(given.task);
  const set = (name: keyof typeof given) => (text: string) => setGiven((old) => ({ ...old, [name]: text }));
  const save = () =>
    change(async () => {
      await unwrap(api.PUT("/api/people/{person_id}", { params: { path: { person_id: who.id } }, body: given }));
      close();
    });
  return (
    <form
      className="note tarn"
      aria-label="Correct or move"
      onSubmit={(event) => {
        event.preventDefault();
        void save();
      }}
    >
      <div className="field-row">
        <Text label="Full name" value={given.name} set={set("name")} required maxLength={190} w={260} autoFocus />
        <Text label="Number" value={given.number} set={set("number")} required maxLength={40} w={130} />
        <NativeSelect
          label="Site"
          data={sites.map((one) => ({ value: one.id, label: one.name }))}
          value={given.site_id}
          onChange={(event) => set("site_id")(event.currentTarget.value)}
        />
        <Text label="Job" value={given.job} set={set("job")} maxLength={190} />
        <NativeSelect
          label="Task they do"
          data={[
            { value: "", label: "none chosen: may wear nothing" },
            ...(isNone ? [{ value: given.task, label: `${given.task}: no task here, choose one` }] : []),
            ...names,
          ]}
          value={given.task}
          onChange={(event) => set("task")(event.currentTarget.value)}
        />
        <Text label="Contact" value={given.contact} set={set("contact")} maxLength={190} />
        <button type="submit" className="act">
          Change it
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}

function LeftForm({ view, close }: { view: View; close: () => void }) {
  const [day, setDay] = useState(() => dayIn(view.zone));
  const { problem, change } = useChange(SHOWN);
  const path = { person_id: view.person.id };
  const leave = () =>
    change(async () => {
      await unwrap(api.POST("/api/people/{person_id}/left", { params: { path }, body: { left_on: day } }));
      close();
    });
  return (
    <form
      className="note"
      aria-label="Has left"
      onSubmit={(event) => {
        event.preventDefault();
        void leave();
      }}
    >
      <div className="field-row">
        <Text label="Left on" type="date" value={day} set={setDay} required />
        <button type="submit" className="act">
          Note it
        </button>
      </div>
      <p className="dim">Nothing is deleted. Nobody tests them until they are back.</p>
      <Problem words={problem} />
    </form>
  );
}

function Twins({ view }: { view: View }) {
  const [why, setWhy] = useState("");
  const path = { person_id: view.person.id };
  const { problem, change } = useChange(SHOWN);
  const twins = useQuery({
    queryKey: keys.twins(view.person.id),
    queryFn: () => unwrap(api.GET("/api/people/{person_id}/twins", { params: { path } })),
  }).data;
  if (!twins) return null;
  if (twins.length === 0) return <p className="note">No other entry here has a name like {view.person.name}.</p>;
  const merge = (other: string) =>
    change(() =>
      unwrap(api.POST("/api/people/{person_id}/merge", { params: { path }, body: { other_id: other, why } })),
    );
  return (
    <div className="note">
      <h3>Is one of these the same person?</h3>
      <p>Both histories become one, and a fail in either ends the passes of both. It is not undone.</p>
      <Text label="How you know" value={why} set={setWhy} w={420} maxLength={400} />
      {twins.map((one) => (
        <p key={one.id} className="row-line">
          <span>
            <b>{one.name}</b> {one.number}, {one.job}, {one.site}
            {one.left_on && `, left on ${one.left_on}`}
          </span>
          <button type="button" className="act" disabled={!why.trim()} onClick={() => void merge(one.id)}>
            The same person
          </button>
        </p>
      ))}
      <Problem words={problem} />
    </div>
  );
}
