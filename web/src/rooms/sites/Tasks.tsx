import { Checkbox, NativeSelect } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { Empty } from "@/design/States";
import { Problem, Text } from "@/design/Fields";

type Contaminant = Schemas["Contaminant"];
type Task = Schemas["TaskLine"];
const NOTHING: Contaminant = {
  name: "",
  form: "particles",
  concentration: "",
  limit: "",
  unit: "mg/m³",
  idlh: "",
  cartridge_limit: "",
  cartridge: "",
};
const FIGURES = [
  ["concentration", "Concentration"],
  ["limit", "Limit"],
  ["unit", "Unit"],
  ["idlh", "IDLH"],
  ["cartridge_limit", "Cartridge limit"],
  ["cartridge", "Cartridge it needs"],
] as const;

/** The tasks of a site with what each needs under its rule book: ratio, kinds that suffice, up to which concentration. */
export function Tasks({ site, isAdmin }: { site: string; isAdmin: boolean }) {
  const [adding, setAdding] = useState<"" | "new" | Task>("");
  const tasks = useQuery({
    queryKey: keys.tasks(site),
    enabled: site !== "",
    queryFn: () => unwrap(api.GET("/api/sites/{site_id}/tasks", { params: { path: { site_id: site } } })),
  }).data;
  return (
    <section>
      <h2>Tasks of this site</h2>
      {tasks?.length === 0 && (
        <Empty>No task yet. Without one nobody is tested here: an unknown hazard is never air-purifying.</Empty>
      )}
      <ul className="rows">
        {tasks?.map((one) => (
          <li key={one.id} className="rule-row">
            <div>
              <span className="big">{one.name}</span>{" "}
              {isAdmin && (
                <button type="button" className="quiet" onClick={() => setAdding(one)}>
                  Rename or change
                </button>
              )}
              <div className="dim">
                {one.contaminants
                  .map((each) => `${each.name} ${each.concentration || "?"} / ${each.limit || "?"} ${each.unit}`)
                  .join(" · ")}
                {one.work_filters && ` · work filters ${one.work_filters}`}
              </div>
              {one.stops.map((stop) => (
                <div key={stop} className="rust">
                  {stop}
                </div>
              ))}
            </div>
            <details>
              <summary>
                {one.required ? (
                  <>
                    <b className="mono">{one.required}</b> times the limit: APF of at least that
                  </>
                ) : (
                  "no ratio"
                )}
              </summary>
              <ul className="why-list">
                {one.kinds.map((kind) => (
                  <li key={kind.kind} className={kind.suffices === "yes" ? "" : "dim"}>
                    <b>{kind.words}</b>: {kind.suffices === "yes" ? "suffices" : kind.suffices}, {kind.why}
                    {kind.suffices === "yes" && kind.limits.length > 0 && <div>{kind.limits.join("; ")}</div>}
                  </li>
                ))}
              </ul>
            </details>
          </li>
        ))}
      </ul>
      {isAdmin && !adding && (
        <button type="button" className="act" onClick={() => setAdding("new")}>
          Enter a task
        </button>
      )}
      {adding && (
        <TaskForm
          key={adding === "new" ? "new" : adding.id}
          site={site}
          old={adding === "new" ? null : adding}
          close={() => setAdding("")}
        />
      )}
    </section>
  );
}

/** A new task, or one under another name or with other figures: whoever has it keeps it. */
function TaskForm({ site, old, close }: { site: string; old: Task | null; close: () => void }) {
  const [name, setName] = useState(old?.name ?? "");
  const [rows, setRows] = useState<Contaminant[]>(old ? [...old.contaminants] : [NOTHING]);
  const [oxygen, setOxygen] = useState(old?.oxygen_percent ?? "");
  const [idlh, setIdlh] = useState(old?.is_idlh ?? false);
  const [filter, setFilter] = useState(old?.work_filter ?? "");
  const [cartridge, setCartridge] = useState(old?.work_cartridge ?? "");
  const { problem, attempt } = useAttempt("The task was not entered.");
  const queries = useQueryClient();
  const change = (at: number, part: Partial<Contaminant>) =>
    setRows((all) => all.map((one, i) => (i === at ? { ...one, ...part } : one)));
  const send = () =>
    attempt(async () => {
      await unwrap(
        api.POST("/api/sites/{site_id}/tasks", {
          params: { path: { site_id: site } },
          body: {
            name,
            contaminants: rows.filter((one) => one.name),
            oxygen_percent: oxygen,
            is_idlh: idlh,
            is_unknown: old?.is_unknown ?? false,
            replaces: old?.id ?? "",
            work_filter: filter,
            work_cartridge: cartridge,
          },
        }),
      );
      await queries.invalidateQueries({ queryKey: keys.tasks(site) });
      close();
    });
  return (
    <form
      className="note heath"
      onSubmit={(event) => {
        event.preventDefault();
        void send();
      }}
    >
      <h3>
        {old ? `${old.name}: whoever does it keeps it` : "Enter a task; what is not known stays empty, and means no"}
      </h3>
      <div className="field-row">
        <Text label="Name the tester picks it by" value={name} set={setName} required w={260} autoFocus />
        <Text label="Work filter class" value={filter} set={setFilter} w={150} />
        <Text label="Work cartridge" value={cartridge} set={setCartridge} w={170} />
        <Text label="Oxygen, %" value={oxygen} set={setOxygen} w={110} />
        <Checkbox label="IDLH" checked={idlh} onChange={(event) => setIdlh(event.currentTarget.checked)} mb={8} />
      </div>
      {rows.map((row, at) => (
        <div key={at} className="field-row">
          <Text label="Contaminant" value={row.name} set={(text) => change(at, { name: text })} w={200} />
          <NativeSelect
            label="Form"
            data={["particles", "gas or vapour", "both"]}
            value={row.form}
            onChange={(event) => change(at, { form: event.currentTarget.value as Contaminant["form"] })}
          />
          {FIGURES.map(([key, label]) => (
            <Text
              key={key}
              label={label}
              value={row[key] ?? ""}
              set={(text) => change(at, { [key]: text.trim() })}
              w={120}
            />
          ))}
        </div>
      ))}
      <div className="field-row">
        <button type="submit" className="act">
          Enter it
        </button>
        <button type="button" className="quiet" onClick={() => setRows((all) => [...all, NOTHING])}>
          One more contaminant
        </button>
        <button type="button" className="quiet" onClick={close}>
          Leave it
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}
