import { Checkbox, NativeSelect } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { dayIn } from "@/shared/clock";
import { Problem, Text } from "@/design/Fields";

interface Props {
  /** What was searched for: a name, or a number. */
  searched: string;
  sites: Schemas["SiteView"][];
  /** Called with the person once entered, to open the visit. */
  entered: (person: { id: string; site_id: string }) => void;
}

/** Somebody nobody has entered yet: name, number, site, work, and whether a clearance was seen; then the visit opens. */
export function NewPerson({ searched, sites, entered }: Props) {
  const isNumber = /\d/.test(searched);
  const [full, setFull] = useState(isNumber ? "" : searched);
  const [number, setNumber] = useState(isNumber ? searched : "");
  const [site, setSite] = useState(sites[0]?.id ?? "");
  const [task, setTask] = useState("");
  const [isSeen, setSeen] = useState(false);
  const [by, setBy] = useState("");
  const [trained, setTrained] = useState("");
  const tasks =
    useQuery({
      queryKey: keys.tasks(site),
      queryFn: () => unwrap(api.GET("/api/sites/{site_id}/tasks", { params: { path: { site_id: site } } })),
      enabled: site !== "",
    }).data ?? [];
  const { problem, attempt } = useAttempt("The person was not entered.");
  const enter = () =>
    attempt(async () => {
      const clearance = isSeen
        ? {
            status: "cleared" as const,
            limits: [],
            valid_from: dayIn(sites.find((one) => one.id === site)?.zone),
            valid_until: "",
            by_whom: by,
          }
        : null;
      const training = trained ? { trained_on: trained, what: "as shown at the bench" } : null;
      const made = await unwrap(
        api.POST("/api/people", {
          body: { site_id: site, name: full, number, job: "", task, contact: "", clearance, training },
        }),
      );
      entered({ id: made.id, site_id: site });
    });
  const complete = full.trim() && number.trim() && site && (!isSeen || by.trim());
  return (
    <form
      className="note tarn new-person"
      aria-label="New person"
      onSubmit={(event) => {
        event.preventDefault();
        if (complete) void enter();
      }}
    >
      <h2>New person</h2>
      <div className="field-row">
        <Text
          label="Full name"
          value={full}
          set={setFull}
          maxLength={190}
          required
          autoFocus={isNumber}
          w={300}
          size="lg"
        />
        <Text
          label="Number"
          value={number}
          set={setNumber}
          maxLength={40}
          required
          autoFocus={!isNumber}
          w={150}
          size="lg"
        />
        {sites.length > 1 && (
          <NativeSelect
            label="Site"
            size="lg"
            data={sites.map((one) => ({ value: one.id, label: one.name }))}
            value={site}
            onChange={(event) => setSite(event.currentTarget.value)}
          />
        )}
        <NativeSelect
          label="Work they do"
          size="lg"
          data={[{ value: "", label: "asked at the bench" }, ...tasks.map((one) => one.name)]}
          value={task}
          onChange={(event) => setTask(event.currentTarget.value)}
        />
      </div>
      <div className="field-row">
        <Checkbox
          size="lg"
          label="I have seen a clearance for a respirator"
          checked={isSeen}
          onChange={(event) => setSeen(event.currentTarget.checked)}
          pb={10}
        />
        {isSeen && (
          <Text label="Cleared by (a name or a practice)" value={by} set={setBy} maxLength={190} w={300} size="lg" />
        )}
        <Text label="Trained on, if seen" type="date" value={trained} set={setTrained} size="lg" />
        <button className="act" type="submit" disabled={!complete}>
          Enter and begin
        </button>
      </div>
      {!(isSeen && trained) && (
        <p className="dim">What the rule book asks for and is not on file stops the run: clearance, training.</p>
      )}
      <Problem words={problem} />
    </form>
  );
}
