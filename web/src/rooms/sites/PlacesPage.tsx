import { NativeSelect } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useChange } from "@/shared/attempt";
import { parts } from "@/shared/words";
import { Problem, Text } from "@/design/Fields";
import { Empty, Failed, Loading, Pager } from "@/design/States";
import { SiteWords } from "@/rooms/sites/SiteWords";

type Page = Schemas["PlacesPage"];
type Place = Schemas["PlaceView"];
const ZONES = Intl.supportedValuesOf("timeZone");
const here = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** Employers and their sites: entered, changed, put away. */
export function PlacesPage() {
  const [params, setParams] = useSearchParams();
  const page = Number(params.get("page") ?? "1") || 1;
  const places = useQuery({
    queryKey: keys.places(page),
    queryFn: () => unwrap(api.GET("/api/places", { params: { query: { page } } })),
  });
  if (places.isPending) return <Loading what="The employers" />;
  if (places.isError) return <Failed error={places.error} again={() => void places.refetch()} />;
  const { rows, books, may_add, pages } = places.data;
  return (
    <>
      <h1>Employers and sites</h1>
      <p className="dim">Nothing is deleted, since records name it. What is over is put away.</p>
      {rows.length === 0 && <Empty>No employer is entered yet. Begin with whose workers you test.</Empty>}
      {rows.map((one) => (
        <Employer key={one.id} one={one} books={books} />
      ))}
      {may_add && <NewEmployer />}
      <Pager page={places.data.page} pages={pages} go={(to) => setParams({ page: String(to) })} />
    </>
  );
}

/** What is shown of these, wherever. */
const SHOWN = [["places"], keys.sites, keys.missing];

function NewEmployer() {
  const [name, setName] = useState("");
  const { problem, change } = useChange(SHOWN);
  return (
    <form
      className="note tarn"
      aria-label="New employer"
      onSubmit={(event) => {
        event.preventDefault();
        void change(async () => {
          await unwrap(api.POST("/api/employers", { body: { name } }));
          setName("");
        });
      }}
    >
      <div className="field-row">
        <Text label="Another employer" value={name} set={setName} required maxLength={190} w={340} />
        <button type="submit" className="act">
          Enter it
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}

function Employer({ one, books }: { one: Schemas["EmployerView"]; books: Page["books"] }) {
  const [adding, setAdding] = useState(false);
  const [name, setName] = useState<string | null>(null);
  const { problem, change } = useChange(SHOWN);
  const path = { employer_id: one.id };
  const rename = () =>
    change(async () => {
      await unwrap(api.PUT("/api/employers/{employer_id}", { params: { path }, body: { name: name ?? "" } }));
      setName(null);
    });
  const archive = () =>
    change(() =>
      unwrap(
        api.PUT("/api/employers/{employer_id}/archived", { params: { path }, body: { archived: !one.is_archived } }),
      ),
    );
  return (
    <section aria-label={one.name}>
      <div className="page-head">
        <h2>
          {one.name}
          {one.is_archived && <span className="dim">, put away</span>}
        </h2>
        <div>
          {!one.is_archived && (
            <button type="button" className="quiet" onClick={() => setAdding(!adding)}>
              Add a site
            </button>
          )}
          <button type="button" className="quiet" onClick={() => setName(name === null ? one.name : null)}>
            Rename
          </button>
          <button type="button" className="quiet" onClick={() => void archive()}>
            {one.is_archived ? "Take out again" : "Put away"}
          </button>
        </div>
      </div>
      {name !== null && (
        <form
          className="field-row"
          onSubmit={(event) => {
            event.preventDefault();
            void rename();
          }}
        >
          <Text label="New name" value={name} set={setName} required maxLength={190} w={340} autoFocus />
          <button type="submit" className="act">
            Rename
          </button>
        </form>
      )}
      <Problem words={problem} />
      {one.sites.length === 0 && !adding && <Empty>No site yet: where are tests made?</Empty>}
      <ul className="rows">
        {one.sites.map((site) => (
          <li key={site.id}>
            <Site site={site} books={books} />
          </li>
        ))}
      </ul>
      {adding && <SiteForm books={books} employer={one.id} done={() => setAdding(false)} />}
    </section>
  );
}

function Site({ site, books }: { site: Place; books: Page["books"] }) {
  const [open, setOpen] = useState<"" | "site" | "words">("");
  const { problem, change } = useChange(SHOWN);
  const toggle = (what: typeof open) => () => setOpen(open === what ? "" : what);
  const book = books.find((one) => one.id === site.rule_book)?.title ?? site.rule_book;
  const archive = () =>
    change(() =>
      unwrap(
        api.PUT("/api/sites/{site_id}/archived", {
          params: { path: { site_id: site.id } },
          body: { archived: !site.is_archived },
        }),
      ),
    );
  return (
    <>
      <div className="row-line">
        <span>
          <span className="big">{site.name}</span> {site.is_archived && <span className="dim">put away</span>}
          <br />
          <span className="dim">
            {site.zone} · {book} · {site.benches.join(", ")} · {site.people} people
          </span>
        </span>
        <span>
          <button type="button" className="quiet" onClick={toggle("site")}>
            Change
          </button>
          <button type="button" className="quiet" onClick={toggle("words")}>
            Terms and periods
          </button>
          <button type="button" className="quiet" onClick={() => void archive()}>
            {site.is_archived ? "Take out again" : "Put away"}
          </button>
        </span>
      </div>
      <Problem words={problem} />
      {open === "site" && <SiteForm books={books} site={site} done={() => setOpen("")} />}
      {open === "words" && <SiteWords site={site.id} done={() => setOpen("")} />}
    </>
  );
}

interface FormProps {
  books: Page["books"];
  site?: Place;
  employer?: string;
  done: () => void;
}

function SiteForm({ books, site, employer = "", done }: FormProps) {
  const [name, setName] = useState(site?.name ?? "");
  const [zone, setZone] = useState(site?.zone ?? here);
  const [book, setBook] = useState(site?.rule_book ?? "");
  const [benches, setBenches] = useState((site?.benches ?? ["Bench 1"]).join(", "));
  const { problem, change } = useChange(SHOWN);
  const body = {
    name,
    zone,
    rule_book: book,
    benches: parts(benches),
  };
  const save = () =>
    change(async () => {
      if (site) await unwrap(api.PUT("/api/sites/{site_id}", { params: { path: { site_id: site.id } }, body }));
      else
        await unwrap(
          api.POST("/api/employers/{employer_id}/sites", { params: { path: { employer_id: employer } }, body }),
        );
      done();
    });
  return (
    <form
      className="note tarn"
      aria-label={site ? `Change ${site.name}` : "New site"}
      onSubmit={(event) => {
        event.preventDefault();
        void save();
      }}
    >
      <div className="field-row">
        <Text label="Name of the site" value={name} set={setName} required maxLength={190} w={240} autoFocus />
        <NativeSelect
          label="Time zone"
          data={ZONES.includes(zone) ? ZONES : [zone, ...ZONES]}
          value={zone}
          onChange={(event) => setZone(event.currentTarget.value)}
          w={220}
        />
        <NativeSelect
          label="Rule book"
          data={[{ value: "", label: "choose" }, ...books.map((one) => ({ value: one.id, label: one.title }))]}
          value={book}
          onChange={(event) => setBook(event.currentTarget.value)}
          required
          w={300}
        />
        <Text label="Benches, parted by commas" value={benches} set={setBenches} required w={240} />
        <button type="submit" className="act">
          {site ? "Change it" : "Enter it"}
        </button>
        <button type="button" className="quiet" onClick={done}>
          Leave it
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}
