import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Checkbox, NativeSelect } from "@mantine/core";
import { useState } from "react";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { dateTime } from "@/shared/clock";
import { useSession } from "@/shared/session";
import { Problem, Text } from "@/design/Fields";
import { Pager } from "@/design/States";
import { useOwner } from "@/rooms/kit/useOwner";
import { Lending } from "@/rooms/kit/Lending";

const KINDS: Schemas["PartEntry"]["kind"][] = ["probe", "adapter", "probed cartridge", "manifold"];

/** Probes, adapters, probed cartridges and manifolds: which models they fit, and whether they are clean. */
export function Parts() {
  const [page, setPage] = useState(1);
  const { problem, attempt } = useAttempt("It was not noted.");
  const queries = useQueryClient();
  const session = useSession();
  const may = session.data?.roles.some((role) => role !== "supervisor") ?? false;
  const parts = useQuery({
    queryKey: keys.parts(page),
    queryFn: () => unwrap(api.GET("/api/parts", { params: { query: { page } } })),
  }).data;
  const act = (call: () => Promise<unknown>) =>
    attempt(async () => {
      await call();
      await queries.invalidateQueries({ queryKey: ["parts"] });
    });
  const note = (id: string, name: Schemas["PartDone"]["name"]) =>
    act(() => unwrap(api.POST("/api/parts/{part_id}/acts", { params: { path: { part_id: id } }, body: { name } })));
  return (
    <section className="counter" data-kind="parts">
      <h2>Probes and adapters</h2>
      <ul className="acts">
        {parts?.rows.map((one) => (
          <li key={one.id}>
            <div>
              <b>{one.name}</b> <span className="dim">{one.kind}</span>
              <div className="dim">
                {one.fits}
                {one.once_only ? " · used once only" : ""}
              </div>
              <Lending kit={one.id} name={one.name} />
            </div>
            <span className={one.blocked_by.length ? "rust" : "tarn"}>
              {one.blocked_by.join("; ") || (one.cleaned_at ? `cleaned ${dateTime(one.cleaned_at)}` : "ready, sealed")}
            </span>
            {may && (
              <span className="field-row">
                <button type="button" className="act" onClick={() => void note(one.id, "used")}>
                  Used
                </button>
                {one.once_only ? (
                  <button type="button" className="quiet" onClick={() => void note(one.id, "away")}>
                    Put away
                  </button>
                ) : (
                  <button type="button" className="act" onClick={() => void note(one.id, "cleaned")}>
                    Cleaned, inspected
                  </button>
                )}
              </span>
            )}
          </li>
        ))}
      </ul>
      {parts && <Pager page={parts.page} pages={parts.pages} go={setPage} />}
      <Problem words={problem} />
      {may && <NewPart add={(body) => act(() => unwrap(api.POST("/api/parts", { body })))} />}
    </section>
  );
}

function NewPart({ add }: { add: (body: Schemas["PartEntry"]) => Promise<boolean> }) {
  const [name, setName] = useState("");
  const [fits, setFits] = useState("");
  const [kind, setKind] = useState<Schemas["PartEntry"]["kind"]>("probe");
  const [once, setOnce] = useState(false);
  const owner = useOwner();
  return (
    <form
      className="field-row"
      onSubmit={(event) => {
        event.preventDefault();
        void add({ employer_id: owner.employer_id, name, kind, fits, once_only: once }).then((isEntered) => {
          if (isEntered) setName("");
        });
      }}
    >
      <Text label="New part" placeholder="name" value={name} set={setName} w={170} size="md" />
      <NativeSelect
        label="Kind"
        data={KINDS}
        value={kind}
        onChange={(event) => setKind(KINDS.find((one) => one === event.currentTarget.value) ?? "probe")}
        w={170}
      />
      <Text label="Fits" placeholder="models" value={fits} set={setFits} w={260} size="md" />
      <Checkbox
        label="Used once only"
        checked={once}
        onChange={(event) => setOnce(event.currentTarget.checked)}
        pb={10}
      />
      {owner.field}
      <button type="submit" className="act" disabled={!name.trim()}>
        Enter it
      </button>
    </form>
  );
}
