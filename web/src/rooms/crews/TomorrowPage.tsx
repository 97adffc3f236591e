import { NativeSelect, Textarea } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { Problem, Text } from "@/design/Fields";
import { Mark } from "@/design/Marks";
import { Empty, Failed, Loading } from "@/design/States";
import { useChange } from "@/shared/attempt";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { JobProgress } from "@/shared/JobProgress";
import { useDay } from "@/shared/useDay";
import { dateTime } from "@/shared/clock";
import { Board } from "@/rooms/crews/Board";
import { useSite } from "@/rooms/common/useSite";
import "@/rooms/common/crew.css";

type View = Schemas["CrewView"];
type Line = Schemas["CrewLine"];

/** Who of a crew may wear what tomorrow: a no first, with every reason and who settles it. */
export function TomorrowPage() {
  const [params, setParams] = useSearchParams();
  const { sites, site, remember } = useSite();
  const period = useDay(keys.tomorrows);
  const [isBoard, setBoard] = useState(false);
  const asked = {
    site,
    day: params.get("day") ?? "",
    task: params.get("task") ?? "",
    crew: params.get("crew") ?? "",
    numbers: params.get("numbers") ?? "",
  };
  const found = useQuery({
    queryKey: keys.tomorrow(asked),
    queryFn: () => unwrap(api.GET("/api/tomorrow", { params: { query: asked } })),
    enabled: site !== "",
    placeholderData: (old) => old,
    refetchInterval: period,
  });
  const ask = (change: Partial<typeof asked>) => {
    if (change.site) remember(change.site);
    const next = { ...asked, ...change };
    setParams(Object.fromEntries(Object.entries(next).filter(([, value]) => value !== "")), { replace: true });
  };
  if (sites.isPending) return <Loading what="The sites" />;
  if (sites.isError) return <Failed error={sites.error} again={() => void sites.refetch()} />;
  if (!site) return <Empty>No site is entered yet.</Empty>;
  return (
    <main className="page tomorrow">
      {found.data && <Answer view={found.data} />}
      <Asked asked={asked} sites={sites.data} view={found.data} ask={ask} />
      {found.isError && <Failed inside error={found.error} again={() => void found.refetch()} />}
      {found.isPending && <Loading inside what="The crew" />}
      <p className="field-row no-print">
        <button type="button" className="quiet" aria-pressed={isBoard} onClick={() => setBoard(!isBoard)}>
          {isBoard ? "Person by person" : "Against set-ups"}
        </button>
        <Gate asked={asked} />
      </p>
      {isBoard ? <Board asked={asked} period={period} /> : found.data && <Crew view={found.data} asked={asked} />}
    </main>
  );
}

interface AskedProps {
  asked: Record<"site" | "day" | "task" | "crew" | "numbers", string>;
  sites: Schemas["SiteView"][];
  view: View | undefined;
  ask: (change: Partial<AskedProps["asked"]>) => void;
}

function Asked({ asked, sites, view, ask }: AskedProps) {
  const [numbers, setNumbers] = useState(asked.numbers);
  const [name, setName] = useState("");
  const [isOpen, setOpen] = useState(asked.numbers !== "");
  const [isShown, setShown] = useState(false);
  const tasks =
    useQuery({
      queryKey: keys.tasks(asked.site),
      queryFn: () => unwrap(api.GET("/api/sites/{site_id}/tasks", { params: { path: { site_id: asked.site } } })),
    }).data ?? [];
  const { problem, change } = useChange([["tomorrow"]]);
  const save = () =>
    change(async () => {
      const path = { site_id: asked.site };
      const { id } = await unwrap(
        api.POST("/api/sites/{site_id}/crews", { params: { path }, body: { name, numbers } }),
      );
      setOpen(false);
      ask({ crew: id, numbers: "" });
    });
  return (
    <div className={isShown ? "asked shown" : "asked"}>
      <button type="button" className="quiet on-phones" aria-expanded={isShown} onClick={() => setShown(!isShown)}>
        Another site, day, task or crew
      </button>
      <div className="field-row">
        <NativeSelect
          label="Site"
          data={sites.map((one) => ({ value: one.id, label: `${one.employer}, ${one.name}` }))}
          value={asked.site}
          onChange={(event) => ask({ site: event.currentTarget.value, task: "", crew: "", numbers: "" })}
        />
        <Text label="Day" type="date" value={asked.day || (view?.day ?? "")} set={(day) => ask({ day })} />
        <NativeSelect
          label="Task"
          data={[
            { value: "", label: "each at the work they do" },
            ...tasks.map((one) => ({ value: one.id, label: one.name })),
          ]}
          value={asked.task}
          onChange={(event) => ask({ task: event.currentTarget.value })}
        />
        <NativeSelect
          label="Crew"
          data={[
            {
              value: "",
              label: asked.numbers ? "the numbers below" : asked.task ? "who does this task" : "the whole site",
            },
            ...(view?.crews ?? []).map((one) => ({ value: one.id, label: `${one.name}, ${one.people}` })),
          ]}
          value={asked.crew}
          onChange={(event) => ask({ crew: event.currentTarget.value, numbers: "" })}
        />
        <button type="button" className="quiet" onClick={() => setOpen(!isOpen)}>
          Paste numbers
        </button>
      </div>
      {isOpen && (
        <form
          className="note"
          aria-label="A crew by numbers"
          onSubmit={(event) => {
            event.preventDefault();
            ask({ numbers: numbers.trim(), crew: "" });
          }}
        >
          <Textarea
            label="Their numbers, as the roster has them"
            value={numbers}
            onChange={(event) => setNumbers(event.currentTarget.value)}
            autosize
            minRows={2}
            maxLength={12_000}
            data-autofocus
          />
          <div className="field-row">
            <button type="submit" className="act">
              Show them
            </button>
            <Text label="Keep them as" placeholder="Blasting, early shift" value={name} set={setName} maxLength={190} />
            <button
              type="button"
              className="quiet"
              disabled={!name.trim() || !numbers.trim()}
              onClick={() => void save()}
            >
              Save this crew
            </button>
          </div>
          <Problem words={problem} />
        </form>
      )}
    </div>
  );
}

function Answer({ view }: { view: View }) {
  return (
    <h1>
      {view.may_not === 0 && view.may > 0 ? "All of them may" : `${view.may} may, ${view.may_not} may not`}
      <span className="dim on-day">
        {" "}
        {view.day}
        {view.task && `, ${view.task}`}, {view.site}
      </span>
    </h1>
  );
}

function Crew({ view, asked }: { view: View; asked: AskedProps["asked"] }) {
  const [only, setOnly] = useState("");
  const lacked = view.shortages.some((one) => one.id === only) ? only : "";
  const rows = view.rows.filter((one) => !lacked || one.short_of.some((way) => way === lacked));
  const query = new URLSearchParams(asked).toString();
  const people = view.may + view.may_not;
  return (
    <>
      {view.unknown.length > 0 && (
        <p className="note rust" role="alert">
          Nobody who works here has {view.unknown.length === 1 ? "the number" : "the numbers"} {view.unknown.join(", ")}
          .
        </p>
      )}
      {view.is_cut && <p className="note">Only the first {people} are shown. Choose a task or paste numbers.</p>}
      {people === 0 && <Empty>Nobody is in this crew.</Empty>}
      {view.shortages.length > 0 && (
        <p className="field-row shortages" aria-label="What they are short of, the shortest way out first">
          Short of
          {view.shortages.map((one) => (
            <button
              key={one.id}
              type="button"
              className="quiet"
              aria-pressed={one.id === lacked}
              onClick={() => setOnly(one.id === lacked ? "" : one.id)}
            >
              {one.words}: <b>{one.people}</b> <span className="settler">{one.settled_by}</span>
            </button>
          ))}
        </p>
      )}
      <ul className="rows crew">
        {rows.map((one) => (
          <Person key={one.person_id} one={one} />
        ))}
      </ul>
      <p className="field-row no-print">
        <button type="button" className="quiet" onClick={() => window.print()}>
          Print
        </button>
        <a className="quiet" href={`/api/tomorrow.xlsx?${query}`} download>
          As a workbook
        </a>
        <a className="quiet" href={`/api/tomorrow.csv?${query}`} download>
          As CSV
        </a>
      </p>
      <Papers asked={asked} may={view.may} />
    </>
  );
}

/** The address of a tablet at the gate, made at a press: it shows this crew for some hours, day by day. */
function Gate({ asked }: { asked: AskedProps["asked"] }) {
  const [made, setMade] = useState<Schemas["GateAddress"] | null>(null);
  const { problem, attempt } = useAttempt("No address was made.");
  const queries = useQueryClient();
  const [isOpen, setOpen] = useState(false);
  const open = () =>
    attempt(async () => {
      setMade(await unwrap(api.POST("/api/gate", { body: asked })));
      setOpen(true);
      await queries.invalidateQueries({ queryKey: ["gates", asked.site] });
    });
  return (
    <>
      <button type="button" className="quiet" onClick={() => void open()}>
        For a tablet at the gate
      </button>
      {made && (
        <span>
          Open there, until {dateTime(made.expires_at)}:{" "}
          <a href={made.path} target="_blank" rel="noreferrer">
            {window.location.origin}
            {made.path}
          </a>
        </span>
      )}
      {asked.site &&
        (isOpen ? (
          <Tablets site={asked.site} ended={() => setMade(null)} />
        ) : (
          <TabletsThere show={() => setOpen(true)} />
        ))}
      <Problem words={problem} />
    </>
  );
}

function TabletsThere({ show }: { show: () => void }) {
  return (
    <button type="button" className="quiet" onClick={show}>
      Tablets there are
    </button>
  );
}

/** The addresses that still show a crew at the gate, each with a key that ends it. */
function Tablets({ site, ended }: { site: string; ended: () => void }) {
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("It was not ended.");
  const found = useQuery({
    queryKey: ["gates", site],
    queryFn: () => unwrap(api.GET("/api/gates", { params: { query: { site } } })),
  });
  const end = (id: string) =>
    attempt(async () => {
      await unwrap(api.DELETE("/api/gates/{gate_id}", { params: { path: { gate_id: id } } }));
      ended();
      await queries.invalidateQueries({ queryKey: ["gates", site] });
    });
  if (!found.data) return null;
  return (
    <ul className="tablets" aria-label="Tablets at the gate">
      {found.data.rows.length === 0 && <li>No tablet shows this site.</li>}
      {found.data.rows.map((one) => (
        <li key={one.id}>
          A tablet, by {one.made_by}, until {dateTime(one.expires_at)}{" "}
          <button type="button" className="quiet" onClick={() => void end(one.id)}>
            End it
          </button>
        </li>
      ))}
      <Problem words={problem} />
    </ul>
  );
}

/** The crew's list, and everybody's cards, ten on a sheet with marks to cut along, drawn while one goes on. */
function Papers({ asked, may }: { asked: AskedProps["asked"]; may: number }) {
  const [job, setJob] = useState("");
  const { problem, attempt } = useAttempt("Nothing was drawn.");
  const draw = (layout: "sheet" | "card") =>
    attempt(async () => {
      const body = { crew: asked, layout };
      setJob((await unwrap(api.POST("/api/tomorrow/cards", { body }))).id);
    });
  const list = () =>
    attempt(async () => {
      setJob((await unwrap(api.POST("/api/tomorrow/paper", { body: asked }))).id);
    });
  return (
    <section className="no-print" aria-label="Papers">
      <p className="field-row">
        <button type="button" className="quiet" onClick={() => void list()}>
          This list on paper
        </button>
        {may > 0 && (
          <>
            <button type="button" className="quiet" onClick={() => void draw("sheet")}>
              Their cards, ten on a sheet
            </button>
            <button type="button" className="quiet" onClick={() => void draw("card")}>
              Their cards, one to a page
            </button>
          </>
        )}
      </p>
      {job && <JobProgress key={job} id={job} what="Papers" cancelling="Stop; nothing is kept" />}
      <Problem words={problem} />
    </section>
  );
}

function Person({ one }: { one: Line }) {
  return (
    <li className={one.may ? "may" : "may-not"}>
      <Mark name={one.may ? "cairn" : "wall"} size={30} />
      <div>
        <Link to={`/people/${one.person_id}`} className="big">
          {one.name}
        </Link>{" "}
        <span className="dim">
          {one.number}
          {one.task ? `, ${one.task}` : ", no task on file: not judged for any work"}
        </span>
        {one.may ? (
          one.set_ups.map((each) => (
            <p key={each.words}>
              <b>{each.words}</b>, until {each.until}
              {each.limits.map((limit) => (
                <small key={limit} className="line">
                  {limit}
                </small>
              ))}
            </p>
          ))
        ) : (
          <>
            <p>
              <b className="rust">Not to wear a tight-fitting facepiece</b>
              {one.nearest && <span className="dim"> · nearest: {one.nearest}</span>}
            </p>
            {one.reasons.map((why) => (
              <p key={why.code + why.sentence} className="why">
                {why.sentence} <span className="settler">{why.settled_by}</span>
              </p>
            ))}
          </>
        )}
      </div>
    </li>
  );
}
