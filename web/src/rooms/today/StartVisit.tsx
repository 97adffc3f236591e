import { NativeSelect } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { v7 as uuid } from "uuid";
import { api, ApiError, keys, type Schemas, unwrap } from "@/shared/client";
import { useEscape } from "@/shared/keys";
import { Empty } from "@/design/States";
import { Problem, Text } from "@/design/Fields";
import { NewPerson } from "@/rooms/today/NewPerson";

const SPEEDS = [
  { value: "1", label: "as it is" },
  { value: "5", label: "5 times" },
  { value: "10", label: "10 times" },
  { value: "20", label: "20 times" },
  { value: "60", label: "60 times" },
];

/** Someone walks up: find them by name or number, Enter takes the first. */
export function StartVisit({ close }: { close: () => void }) {
  const [q, setQ] = useState("");
  const [practice, setPractice] = useState(false);
  const [speed, setSpeed] = useState("1");
  const [bench, setBench] = useState("");
  const [problem, setProblem] = useState("");
  const [isNew, setNew] = useState(false);
  const go = useNavigate();
  useEscape(close);
  const found = useQuery({
    queryKey: keys.people(q, 1),
    queryFn: () => unwrap(api.GET("/api/people", { params: { query: { q, page: 1 } } })),
  });
  const sites =
    useQuery({ queryKey: keys.sites, queryFn: () => unwrap(api.GET("/api/sites")), staleTime: 300_000 }).data ?? [];
  const rows = found.data?.rows ?? [];
  const open = async (person: { id: string; site_id: string }) => {
    setProblem("");
    const visitId = uuid();
    const place = bench || (sites.find((one) => one.id === person.site_id)?.benches[0] ?? "Bench");
    try {
      await unwrap(
        api.POST("/api/visits", {
          body: {
            visit_id: visitId,
            event_id: uuid(),
            person_id: person.id,
            bench: place,
            is_practice: practice,
            speed: practice ? Number(speed) : 1,
          },
        }),
      );
      await go(`/visit/${visitId}`);
    } catch (error) {
      if (error instanceof ApiError && error.code === "already_here") {
        await go(`/visit/${String(error.detail.visit_id)}`);
        return;
      }
      setProblem(error instanceof Error ? error.message : "The visit was not opened.");
    }
  };
  return (
    <main className="page">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          const first = rows[0];
          if (!q.trim() || found.isFetching) return;
          if (first) void open(first);
          else setNew(true);
        }}
      >
        <div className="page-head">
          <div>
            <h1>Who walks up?</h1>
            <p className="dim">Name or number; Enter takes the first, Escape goes back.</p>
          </div>
          <button type="button" className="quiet" onClick={close}>
            Back to Today
          </button>
        </div>
        <div className="field-row">
          <Text
            label="Beginning of a name, or the number"
            value={q}
            set={(text) => {
              setQ(text);
              setNew(false);
            }}
            autoFocus
            size="lg"
            w={420}
          />
          <NativeSelect
            label="Bench"
            data={[{ value: "", label: "the site's first" }, ...new Set(sites.flatMap((one) => one.benches))]}
            value={bench}
            onChange={(event) => setBench(event.currentTarget.value)}
            w={190}
          />
          <button type="button" className="quiet" aria-pressed={practice} onClick={() => setPractice(!practice)}>
            {practice ? "Practice: counts nowhere" : "Practice instead"}
          </button>
          {practice && (
            <NativeSelect
              label="Time runs"
              data={SPEEDS}
              value={speed}
              onChange={(event) => setSpeed(event.currentTarget.value)}
              w={150}
            />
          )}
        </div>
        <Problem words={problem} />
      </form>
      <h2>{found.data ? foundWords(found.data) : "…"}</h2>
      {rows.length === 0 && found.data ? (
        <Empty>Nobody of that name or number within your employers.</Empty>
      ) : (
        <ul className="rows">
          {rows.map((one) => (
            <li key={one.id}>
              <button type="button" className="row of-three" onClick={() => void open(one)}>
                <span>
                  <span className="big">{one.name}</span> <span className="dim">{one.number}</span>
                  {one.left_on && <b className="gorse"> left on {one.left_on}</b>}
                  <br />
                  <span className="dim">
                    {one.task || one.job}, {one.site}
                  </span>
                </span>
                <span>
                  {one.passed_in ? (
                    <>
                      <b>{one.passed_in}</b>
                      <br />
                      <span className="dim">passed, to {one.until}</span>
                    </>
                  ) : (
                    "no pass on record"
                  )}
                </span>
                <span className={one.clearance === "cleared" ? "dim" : "gorse"}>
                  {one.clearance === "cleared" ? "cleared" : `clearance: ${one.clearance}`}
                </span>
              </button>
            </li>
          ))}
        </ul>
      )}
      {found.data &&
        q.trim() !== "" &&
        sites.length > 0 &&
        (isNew ? (
          <NewPerson searched={q.trim()} sites={sites} entered={(one) => void open(one)} />
        ) : (
          <button type="button" className="quiet" onClick={() => setNew(true)}>
            {rows.length === 0 ? "Enter: a new person" : "None of these: a new person"}
          </button>
        ))}
      {found.data && found.data.pages > 1 && <p className="dim">More than these; type more of the name.</p>}
    </main>
  );
}

function foundWords(page: Schemas["PeoplePage"]): string {
  return page.pages > 1
    ? `${page.total} found, the first ${page.rows.length}: type more letters`
    : `${page.total} found`;
}
