import { NativeSelect } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { clockTime, dayIn } from "@/shared/clock";
import { useSession } from "@/shared/session";
import { Problem, Text } from "@/design/Fields";
import { Mark } from "@/design/Marks";
import { Empty, Pager } from "@/design/States";
import { useOwner } from "@/rooms/kit/useOwner";
import { Lending } from "@/rooms/kit/Lending";
import { WhoMustComeBack } from "@/rooms/common/Recall";

type Recipe = Schemas["RecipeView"];
type Nebuliser = Schemas["NebuliserView"];
export const AGENTS: Record<string, string> = {
  sweet: "sweet",
  bitter: "bitter",
  odour: "odour",
  smoke: "smoke",
};

/** The kit of the tests by taste, smell and irritation: nebulisers, lots, and how much goes into a solution. */
export function Solutions() {
  const session = useSession();
  const may = session.data?.roles.some((role) => role !== "supervisor") ?? false;
  return (
    <>
      <h2>Nebulisers</h2>
      <p className="dim">
        1 holds the threshold solution, 2 the fit-test solution; never swapped. Rinsed and refilled morning and
        afternoon, and by the time on its line; looked at while it sprays after every filling.
      </p>
      <Nebulisers may={may} />
      <h2>Lots</h2>
      <Lots may={may} />
      <details>
        <summary>
          <b>How much goes into it</b>
        </summary>
        <Calculator />
      </details>
    </>
  );
}

function Nebulisers({ may }: { may: boolean }) {
  const nebulisers = useQuery({
    queryKey: keys.nebulisers,
    queryFn: () => unwrap(api.GET("/api/nebulisers")),
    refetchInterval: 5000,
  });
  if (nebulisers.data?.length === 0) return <Empty>No nebuliser is entered.{may ? " Enter one below." : ""}</Empty>;
  return (
    <>
      {(nebulisers.data ?? []).map((one) => (
        <NebuliserRow key={one.id} one={one} may={may} />
      ))}
      {may && <NewNebuliser />}
    </>
  );
}

function NebuliserRow({ one, may }: { one: Nebuliser; may: boolean }) {
  const queries = useQueryClient();
  const rows = useQuery({
    queryKey: keys.lots(one.agent, 1),
    queryFn: () => unwrap(api.GET("/api/lots", { params: { query: { page: 1, agent: one.agent } } })),
  }).data?.rows;
  const lots = (rows ?? []).filter((each) => each.role === one.role);
  const [lot, setLot] = useState("");
  const { problem, attempt } = useAttempt("That was not recorded.");
  const [asks, setAsks] = useState(false);
  const [job, setJob] = useState("");
  const path = { nebuliser_id: one.id };
  const act = (call: () => Promise<unknown>) =>
    attempt(async () => {
      await call();
      await queries.invalidateQueries({ queryKey: keys.nebulisers });
    });
  const chosen = lot || (one.lot?.id ?? lots[0]?.id ?? "");
  const clogged = () =>
    act(async () => {
      const made = await unwrap(api.POST("/api/nebulisers/{nebuliser_id}/clogged", { params: { path } }));
      setAsks(false);
      setJob(made.id);
    });
  return (
    <section className="nebuliser" aria-label={one.name}>
      <b className="kit-number">{one.number}</b>
      <div>
        <b>{one.name}</b>
        <div className="dim">
          {one.lot ? `${AGENTS[one.agent] ?? ""}, lot ${one.lot.number}, use by ${one.lot.use_by}` : "empty"}
          {one.filled_at ? ` · filled ${clockTime(one.filled_at)}` : ""}
          {one.refill_at ? ` · refill by ${clockTime(one.refill_at)}` : ""}
          {one.checked_at ? ` · seen to spray ${clockTime(one.checked_at)}` : ""}
        </div>
        <div className={one.blocked_by.length ? "rust" : "tarn"}>
          <Mark name={one.blocked_by.length ? "wall" : "cairn"} size={20} />{" "}
          {one.blocked_by.length ? one.blocked_by.join(", ") : "ready"}
        </div>
        <Lending kit={one.id} name={one.name} />
        <Problem words={problem} />
      </div>
      {may && (
        <div className="field-row">
          <NativeSelect
            aria-label={`Lot for ${one.name}`}
            value={chosen}
            onChange={(event) => setLot(event.currentTarget.value)}
            data={lots.map((each) => ({
              value: each.id,
              label: `${each.agent} ${each.number}${each.is_expired ? ", out of date" : ""}`,
            }))}
            w={210}
          />
          <button
            type="button"
            className="act"
            disabled={!chosen}
            onClick={() =>
              void act(() =>
                unwrap(
                  api.POST("/api/nebulisers/{nebuliser_id}/fillings", { params: { path }, body: { lot_id: chosen } }),
                ),
              )
            }
          >
            Rinsed, filled
          </button>
          <button
            type="button"
            className="act"
            onClick={() =>
              void act(() => unwrap(api.POST("/api/nebulisers/{nebuliser_id}/checks", { params: { path } })))
            }
          >
            It sprays
          </button>
          <button type="button" className="quiet" onClick={() => setAsks(true)}>
            Clogged…
          </button>
        </div>
      )}
      {asks && (
        <div className="note rust wide" role="alertdialog" aria-label="Clogged">
          <h3>{one.name} is clogged: void every test with it since it was last seen to spray?</h3>
          <p>Those people come back. Closed records get a new revision and are signed again.</p>
          <div className="field-row">
            <button type="button" className="act" onClick={() => void clogged()}>
              Clogged: void them
            </button>
            <button type="button" className="quiet" onClick={() => setAsks(false)}>
              Not now
            </button>
          </div>
        </div>
      )}
      {job && <WhoMustComeBack id={one.id} job={job} people={undefined} go={() => undefined} />}
    </section>
  );
}

function NewNebuliser() {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [role, setRole] = useState<"threshold" | "fit">("threshold");
  const owner = useOwner();
  const { problem, attempt } = useAttempt("It was not entered.");
  const add = () =>
    attempt(async () => {
      await unwrap(api.POST("/api/nebulisers", { body: { employer_id: owner.employer_id, name, role } }));
      setName("");
      await queries.invalidateQueries({ queryKey: keys.nebulisers });
    });
  return (
    <form
      className="field-row"
      onSubmit={(event) => {
        event.preventDefault();
        void add();
      }}
    >
      <Text label="Another nebuliser" placeholder="the name on it" value={name} set={setName} w={230} />
      <NativeSelect
        label="For"
        value={role}
        onChange={(event) => setRole(event.currentTarget.value as "threshold" | "fit")}
        data={[
          { value: "threshold", label: "1, threshold solution" },
          { value: "fit", label: "2, fit-test solution" },
        ]}
      />
      {owner.field}
      <button className="act" type="submit" disabled={!name.trim()}>
        Enter it
      </button>
      <Problem words={problem} />
    </form>
  );
}

function Lots({ may }: { may: boolean }) {
  const [page, setPage] = useState(1);
  const [isFolded, setFolded] = useState(true);
  const lots = useQuery({
    queryKey: [...keys.lots("", page), isFolded],
    queryFn: () => unwrap(api.GET("/api/lots", { params: { query: { page, agent: "", only_good: isFolded } } })),
    placeholderData: (old) => old,
  });
  const rows = lots.data?.rows ?? [];
  return (
    <>
      {may && <NewLot />}
      {lots.isSuccess && rows.length === 0 && (
        <Empty>{isFolded ? "No lot that is in date." : "No lot is entered."}</Empty>
      )}
      {rows.length > 0 && (
        <table className="plain">
          <thead>
            <tr>
              <th>Lot</th>
              <th>What</th>
              <th>Made</th>
              <th>Use by</th>
              <th>Label</th>
              <th>Use</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((one) => (
              <tr key={one.id}>
                <td>
                  <b className="mono">{one.number}</b>
                </td>
                <td>
                  {one.agent}, {one.role.replaceAll("_", " ")}
                </td>
                <td>
                  {one.made_on}, {one.made_by}
                </td>
                <td className={one.is_expired ? "rust" : ""}>
                  {one.use_by}
                  {one.is_expired ? " out of date" : ""}
                </td>
                <td>
                  <a href={`/api/lots/${one.id}/label`} target="_blank" rel="noreferrer">
                    print
                  </a>
                </td>
                <td>
                  <Lending kit={one.id} name={`lot ${one.number}`} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Pager page={page} pages={lots.data?.pages ?? 1} go={setPage} />
      <button
        type="button"
        className="quiet"
        onClick={() => {
          setFolded(!isFolded);
          setPage(1);
        }}
      >
        {isFolded ? "Show those out of date, too" : "Only those in date"}
      </button>
    </>
  );
}

function useRecipes(ml: string) {
  return useQuery({
    queryKey: keys.recipes(ml),
    queryFn: () => unwrap(api.GET("/api/recipes", { params: { query: { ml } } })),
    staleTime: 300_000,
    placeholderData: (old) => old,
    retry: false,
  });
}

function NewLot() {
  const queries = useQueryClient();
  const session = useSession();
  const recipes = useRecipes("").data ?? [];
  const today = dayIn();
  const [what, setWhat] = useState("");
  const [number, setNumber] = useState("");
  const [made, setMade] = useState(today);
  const [until, setUntil] = useState("");
  const owner = useOwner();
  const { problem, attempt } = useAttempt("It was not entered.");
  const [isOpen, setOpen] = useState(false);
  const recipe = recipes.find((one) => `${one.agent} ${one.role}` === what) ?? recipes[0];
  const add = () =>
    attempt(async () => {
      if (!recipe) return;
      const body = {
        employer_id: owner.employer_id,
        agent: recipe.agent as Schemas["LotEntry"]["agent"],
        role: recipe.role,
        number,
        made_on: made,
        use_by: until,
        made_by: session.data?.name ?? "",
      };
      await unwrap(api.POST("/api/lots", { body }));
      setNumber("");
      setOpen(false);
      await queries.invalidateQueries({ queryKey: ["lots"] });
    });
  if (!isOpen)
    return (
      <p>
        <button type="button" className="act" onClick={() => setOpen(true)}>
          Enter a lot
        </button>
      </p>
    );
  return (
    <form
      className="field-row"
      onSubmit={(event) => {
        event.preventDefault();
        void add();
      }}
    >
      <NativeSelect
        label="What"
        value={what}
        onChange={(event) => setWhat(event.currentTarget.value)}
        data={recipes.map((one) => ({ value: `${one.agent} ${one.role}`, label: `${one.agent}: ${one.title}` }))}
        w={320}
      />
      <Text label="Number on the label" value={number} set={setNumber} w={180} required />
      <Text label="Made on" type="date" value={made} set={setMade} required />
      <Text label="Use by" type="date" value={until} set={setUntil} required />
      {owner.field}
      <button className="act" type="submit" disabled={!number.trim() || !until}>
        Enter it
      </button>
      <button className="quiet" type="button" onClick={() => setOpen(false)}>
        Close
      </button>
      <Problem words={problem} />
    </form>
  );
}

function Calculator() {
  const [ml, setMl] = useState("100");
  const recipes = useRecipes(ml.trim());
  const made = (recipes.data ?? []).filter((one) => one.role !== "tube" && one.role !== "pure");
  return (
    <>
      <Text label="Millilitres wanted" inputMode="decimal" value={ml} set={setMl} w={180} />
      {recipes.isError && <Problem words={recipes.error.message} />}
      {!recipes.isError && (
        <table className="plain">
          <tbody>
            {made.map((one) => (
              <RecipeRow key={one.agent + one.role} one={one} />
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

function RecipeRow({ one }: { one: Recipe }) {
  return (
    <tr>
      <th scope="row">
        {one.agent}: {one.title}
      </th>
      <td>
        <b>{one.ingredients.join(" + ")}</b> for {one.ml} ml
        <div className="dim">
          {one.how} {one.source}, {one.standing}.
        </div>
      </td>
    </tr>
  );
}
