import { NativeSelect } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { useSearchParams } from "react-router";
import { api, ApiError, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { useSession } from "@/shared/session";
import { Failed, Loading } from "@/design/States";
import { SiteProtocols } from "@/rooms/sites/SiteProtocols";
import { Tasks } from "@/rooms/sites/Tasks";
import { Problem, Text } from "@/design/Fields";

type Book = Schemas["BookView"];

/** Rules of a site: its tasks, its rule book with value, unit, source and standing, and what it lays over it. */
export function RulesPage() {
  const [params, setParams] = useSearchParams();
  const sites = useQuery({ queryKey: keys.sites, queryFn: () => unwrap(api.GET("/api/sites")), staleTime: 60_000 });
  const site = params.get("site") ?? sites.data?.[0]?.id ?? "";
  const wanted = params.get("book") ?? "";
  const book = useQuery({
    queryKey: keys.rules(site, wanted),
    enabled: site !== "",
    queryFn: () =>
      unwrap(api.GET("/api/sites/{site_id}/rules", { params: { path: { site_id: site }, query: { book: wanted } } })),
    placeholderData: (old) => old,
  });
  const session = useSession();
  const isAdmin = session.data?.roles.includes("administrator") ?? false;
  if (sites.isError) return <Failed error={sites.error} again={() => void sites.refetch()} />;
  if (book.isError) return <Failed error={book.error} again={() => void book.refetch()} />;
  if (!book.data) return <Loading what="The rules" />;
  return (
    <main className="page">
      <div className="page-head">
        <div>
          <h1>Rules</h1>
          <p className="dim">
            Most values are recalled from memory of the text: check them against your own copy. A site may be stricter;
            looser only with a written reason, which stands on every record.
          </p>
        </div>
        <NativeSelect
          label="Site"
          data={(sites.data ?? []).map((one) => ({ value: one.id, label: `${one.employer}, ${one.name}` }))}
          value={site}
          onChange={(event) => setParams({ site: event.currentTarget.value })}
          w={330}
        />
      </div>
      <Tasks site={site} isAdmin={isAdmin} />
      <BookHead book={book.data} isAdmin={isAdmin} show={(id) => setParams({ site, book: id })} />
      <Blanks book={book.data} isAdmin={isAdmin} />
      <Protocols book={book.data} isAdmin={isAdmin} />
      <SiteProtocols site={site} isAdmin={isAdmin} />
      <Values book={book.data} isAdmin={isAdmin} />
    </main>
  );
}

/** Something is changed, and whom that stops is said first: it is done once that is confirmed. */
function useAskedFirst(book: Book) {
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("It was not entered.");
  const [asked, setAsked] = useState<{ words: string; again: () => void } | null>(null);
  const change = async (call: (stops: number | null) => Promise<unknown>, stops: number | null, done?: () => void) => {
    setAsked(null);
    const isDone = await attempt(async () => {
      try {
        await call(stops);
      } catch (error) {
        if (!(error instanceof ApiError) || error.code !== "would_stop") throw error;
        const count = Number(error.detail.stops);
        setAsked({ words: error.message, again: () => void change(call, count, done) });
        return;
      }
      await queries.invalidateQueries({ queryKey: ["rules"] });
      await queries.invalidateQueries({ queryKey: keys.tasks(book.site_id) });
      done?.();
    });
    return isDone;
  };
  const question = (
    <>
      {asked && (
        <div className="note rust" role="alert" ref={(box) => box?.scrollIntoView({ block: "nearest" })}>
          <p>{asked.words}</p>
          <button type="button" className="act" onClick={asked.again}>
            It is meant: change it
          </button>{" "}
          <button type="button" className="quiet" onClick={() => setAsked(null)}>
            Leave it as it is
          </button>
        </div>
      )}
      <Problem words={problem} />
    </>
  );
  return { change, question };
}

interface Entered {
  value: string | number | boolean | string[] | null;
  reason?: string;
  edition?: string;
  begins?: string;
}

function useEnter(book: Book) {
  const { change, question } = useAskedFirst(book);
  const enter = (key: string, one: Entered, done?: () => void) =>
    change(
      (stops) =>
        unwrap(
          api.POST("/api/sites/{site_id}/rules", {
            params: { path: { site_id: book.site_id } },
            body: { book: book.id, key, reason: "", edition: "", begins: "", ...one, stops },
          }),
        ),
      null,
      done,
    );
  return { enter, question };
}

function BookHead({ book, isAdmin, show }: { book: Book; isAdmin: boolean; show: (id: string) => void }) {
  const { change, question } = useAskedFirst(book);
  const choose = () =>
    change(
      (stops) =>
        unwrap(
          api.POST("/api/sites/{site_id}/rule-book", {
            params: { path: { site_id: book.site_id } },
            body: { book: book.id, stops },
          }),
        ),
      null,
    );
  return (
    <>
      <h2>Rule book</h2>
      <div className="field-row">
        <NativeSelect
          label="Show"
          data={book.books.map((one) => ({ value: one.id, label: one.title }))}
          value={book.id}
          onChange={(event) => show(event.currentTarget.value)}
          w={330}
        />
        {book.is_in_use ? (
          <p className="in-use">
            <b>{book.site} uses this book.</b> {book.edition}
          </p>
        ) : isAdmin ? (
          <button type="button" className="act" onClick={() => void choose()}>
            Use it at {book.site} from now on
          </button>
        ) : (
          <p className="in-use dim">not in use at {book.site}</p>
        )}
      </div>
      {question}
      {book.unsettled.length > 0 && (
        <p className="note rust" role="alert">
          An entry of this site cannot be read: <b>{book.unsettled.join(", ")}</b>. Nobody is tested, and nobody may
          wear anything, until it is entered anew below.
        </p>
      )}
    </>
  );
}

function Blanks({ book, isAdmin }: { book: Book; isAdmin: boolean }) {
  if (!book.blanks.length) return null;
  return (
    <>
      <h2>Blank: tests that need these are not permitted</h2>
      <ul className="rows">
        {book.blanks.map((one) => (
          <Blank key={one.key} book={book} one={one} isAdmin={isAdmin} />
        ))}
      </ul>
    </>
  );
}

function Blank({ book, one, isAdmin }: { book: Book; one: Schemas["BlankView"]; isAdmin: boolean }) {
  const [value, setValue] = useState("");
  const [edition, setEdition] = useState("");
  const { enter, question } = useEnter(book);
  return (
    <li>
      <form
        className="rule-row"
        onSubmit={(event) => {
          event.preventDefault();
          void enter(one.key, { value, edition });
        }}
      >
        <div>
          <b>{one.key}</b> <span className="dim">{one.unit}</span>
          <div className="dim">{one.why}</div>
          {question}
        </div>
        {isAdmin && (
          <div className="field-row">
            <Text aria-label={`${one.key}, value`} placeholder="value" value={value} set={setValue} w={110} />
            <Text
              aria-label={`${one.key}, edition of your copy`}
              placeholder="edition of your copy"
              value={edition}
              set={setEdition}
              w={210}
            />
            <button type="submit" className="act" disabled={!value || !edition}>
              Enter
            </button>
          </div>
        )}
      </form>
    </li>
  );
}

function Protocols({ book, isAdmin }: { book: Book; isAdmin: boolean }) {
  const { enter, question } = useEnter(book);
  const [edition, setEdition] = useState("");
  const waits = book.protocols.some((one) => one.waits);
  return (
    <>
      <h2>Protocols</h2>
      <ul className="rows">
        {book.protocols.map((one) => (
          <li key={one.id} className="rule-row">
            <div>
              <b>{one.title}</b>
              <div className="dim">
                {one.source} · {one.standing}
              </div>
            </div>
            <div className="field-row">
              <span>{one.state}</span>
              {isAdmin && one.waits && (
                <button
                  type="button"
                  className="quiet"
                  disabled={!edition}
                  onClick={() => void enter(`protocols.${one.id}`, { value: true, edition })}
                >
                  Our copy allows it
                </button>
              )}
            </div>
          </li>
        ))}
      </ul>
      {isAdmin && waits && (
        <Text label="Edition of your copy that allows it" value={edition} set={setEdition} w={330} mt={10} />
      )}
      {question}
    </>
  );
}

function Values({ book, isAdmin }: { book: Book; isAdmin: boolean }) {
  const [open, setOpen] = useState("");
  return (
    <>
      <h2>Values</h2>
      <div className="wide">
        <table className="plain">
          <thead>
            <tr>
              <th>Value</th>
              <th className="num">Here</th>
              <th>Source</th>
              <th>Standing</th>
              <th>Checked against our copy</th>
              {isAdmin && <th>Change</th>}
            </tr>
          </thead>
          <tbody>
            {book.values.map((one) => (
              <Fragment key={one.key}>
                <tr>
                  <td>
                    <b>{one.key}</b>
                    {one.note && <div className="dim">{one.note}</div>}
                    {one.changed && <div className="heath">{one.changed}</div>}
                  </td>
                  <td className="num">
                    {one.value} <small>{one.unit}</small>
                  </td>
                  <td>{one.source}</td>
                  <td>{one.standing}</td>
                  <td>{one.checked || <span className="dim">not yet</span>}</td>
                  {isAdmin && (
                    <td>
                      <button
                        type="button"
                        className="quiet"
                        onClick={() => setOpen(open === one.key ? "" : one.key)}
                        aria-expanded={open === one.key}
                      >
                        {open === one.key ? "Close" : "Change or check"}
                      </button>
                    </td>
                  )}
                </tr>
                {open === one.key && (
                  <tr>
                    <td colSpan={6}>
                      <Change book={book} one={one} close={() => setOpen("")} />
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}

/** A typed text as the kind of value the book holds: a whole number stays one, yes and no are truth values. */
function typed(text: string, kind: Schemas["ValueView"]["kind"]): string | number | boolean | string[] {
  if (kind === "yes_no") return text === "yes";
  if (kind === "list") return text.split(",").map((one) => one.trim());
  return text;
}

function Change({ book, one, close }: { book: Book; one: Schemas["ValueView"]; close: () => void }) {
  const [value, setValue] = useState(one.value);
  const [reason, setReason] = useState("");
  const [edition, setEdition] = useState("");
  const [begins, setBegins] = useState("");
  const { enter, question } = useEnter(book);
  const done = (to: string | null) =>
    enter(one.key, { value: to === null ? null : typed(to, one.kind), reason, edition, begins }, close);
  return (
    <form
      className="note heath"
      onSubmit={(event) => {
        event.preventDefault();
        void done(value === one.value ? null : value);
      }}
    >
      <div className="field-row">
        {one.choices.length > 0 ? (
          <NativeSelect
            label={`${one.key}, at this site`}
            data={[...one.choices]}
            value={value}
            onChange={(event) => setValue(event.currentTarget.value)}
          />
        ) : (
          <Text label={`${one.key}, at this site`} value={value} set={setValue} w={200} />
        )}
        <Text label="Reason, if looser" value={reason} set={setReason} w={260} maxLength={400} />
        <Text label="Checked against: edition" value={edition} set={setEdition} w={220} />
        <Text label="From which day; empty: at once" type="date" value={begins} set={setBegins} />
        <button type="submit" className="act">
          {value === one.value ? "It says so: checked" : "Use here"}
        </button>
      </div>
      <p className="why">
        {one.choices.length > 0
          ? `Strictest is ${one.choices[0] ?? ""}.`
          : `Stricter is ${one.strict === "none" ? "not defined for this value: a change needs a reason" : one.strict}.`}
      </p>
      {question}
    </form>
  );
}
