import { NativeSelect } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Problem, Text } from "@/design/Fields";
import { Failed, Loading, Pager } from "@/design/States";
import { useChange } from "@/shared/attempt";
import { api, type Schemas, unwrap } from "@/shared/client";
import { useSession } from "@/shared/session";
import { TakeBack } from "@/rooms/common/TakeBack";

type Earlier = Schemas["EarlierLine"];
type Option = Schemas["FacepieceOption"];
const SHOWN = [["history"], ["person"], ["tomorrow"], ["due"]];

/** Which results of before count as passes, because the site says so in writing. */
export function InWriting({ site }: { site: string }) {
  const [page, setPage] = useState(1);
  const [chosen, setChosen] = useState<Earlier | null>(null);
  const list = useQuery({
    queryKey: ["history", site, page],
    queryFn: () =>
      unwrap(api.GET("/api/sites/{site_id}/history", { params: { path: { site_id: site }, query: { page } } })),
    placeholderData: keepPreviousData,
  });
  if (list.isPending) return <Loading what="What is on file" />;
  if (list.isError) return <Failed error={list.error} again={() => void list.refetch()} />;
  const { rows, words, pages, total } = list.data;
  if (total === 0 && words.length === 0) return null;
  return (
    <section aria-label="What the site says of them">
      <h2>What is on file from before at {list.data.site}</h2>
      <table className="plain">
        <thead>
          <tr>
            <th>Facepiece, as written then</th>
            <th>Size</th>
            <th className="num">Results</th>
            <th className="num">People</th>
            <th>Last tested</th>
            <th className="num">Still in time</th>
            <th>Do they count</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((one) => (
            <tr key={`${one.model} ${one.size}`}>
              <td>{one.model}</td>
              <td>{one.size || <span className="dim">not written</span>}</td>
              <td className="num">{one.results}</td>
              <td className="num">{one.people}</td>
              <td>{one.last_on}</td>
              <td className="num">{one.in_time}</td>
              <td>
                {one.said ? (
                  "yes, see below"
                ) : one.size && one.in_time > 0 ? (
                  <button type="button" className="quiet" onClick={() => setChosen(one)}>
                    Let them count
                  </button>
                ) : (
                  <span className="dim">no</span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Pager page={page} pages={pages} go={setPage} />
      {chosen && <SayIt key={`${chosen.model} ${chosen.size}`} site={site} of={chosen} close={() => setChosen(null)} />}
      {words.length > 0 && (
        <>
          <h2>What the site says in writing</h2>
          <ul className="rows">
            {words.map((one) => (
              <Said key={one.id} one={one} />
            ))}
          </ul>
        </>
      )}
    </section>
  );
}

/** One facepiece and size of before: which it is in the catalogue, how it is worn, why it counts, and one's own name. */
function SayIt({ site, of, close }: { site: string; of: Earlier; close: () => void }) {
  const [q, setQ] = useState(of.model);
  const [version, setVersion] = useState("");
  const [size, setSize] = useState("");
  const [worn, setWorn] = useState({ suspension: "", clip: "", filter_class: "" });
  const [why, setWhy] = useState("");
  const [name, setName] = useState("");
  const { problem, change } = useChange(SHOWN);
  const me = useSession().data?.name ?? "";
  const found = useQuery({
    queryKey: ["facepieces", q, 1],
    queryFn: () => unwrap(api.GET("/api/facepieces", { params: { query: { q, page: 1 } } })),
    placeholderData: keepPreviousData,
  });
  const options = found.data?.rows ?? [];
  const option = options.find((one) => one.version_id === version);
  const say = () =>
    change(async () => {
      const { model, size: written } = of;
      const body = { model, size: written, version_id: version, piece_size: size, why, typed_name: name, ...worn };
      await unwrap(api.POST("/api/sites/{site_id}/history", { params: { path: { site_id: site } }, body }));
      close();
    });
  return (
    <form
      className="note heath"
      aria-label="Let them count"
      onSubmit={(event) => {
        event.preventDefault();
        void say();
      }}
    >
      <h3>
        {of.model} {of.size}: {of.in_time === 1 ? "one person" : `${of.in_time} people`} passed and would still be in
        time
      </h3>
      <div className="field-row">
        <Text label="Find it in the catalogue" value={q} set={setQ} w={220} autoFocus />
        <NativeSelect
          label="Which facepiece it was"
          data={[
            { value: "", label: "choose" },
            ...options.map((one) => ({ value: one.version_id, label: named(one) })),
          ]}
          value={version}
          onChange={(event) => {
            setVersion(event.currentTarget.value);
            setSize("");
            setWorn({ suspension: "", clip: "", filter_class: "" });
          }}
          w={280}
        />
        {option && <Choice label="Size" values={option.sizes.map((one) => one.name)} value={size} set={setSize} />}
        {option && option.suspensions.length > 0 && (
          <Choice
            label="Harness"
            values={option.suspensions}
            value={worn.suspension}
            set={(suspension) => setWorn({ ...worn, suspension })}
          />
        )}
        {option && option.clips.length > 0 && (
          <Choice label="Clip" values={option.clips} value={worn.clip} set={(clip) => setWorn({ ...worn, clip })} />
        )}
        {option && option.filter_classes.length > 0 && (
          <Choice
            label="Filters"
            values={option.filter_classes}
            value={worn.filter_class}
            set={(filter_class) => setWorn({ ...worn, filter_class })}
          />
        )}
      </div>
      <div className="field-row">
        <Text
          label="Why they count: which papers were seen, and who keeps them"
          value={why}
          set={setWhy}
          required
          maxLength={400}
          w={560}
        />
        <Text label={`${me}, type your name to put it in writing`} value={name} set={setName} required w={400} />
      </div>
      <p>
        It reaches those who work at this site and whose pass is on file now, worn with nothing else, until its time is
        over. Without a fit factor it counts as a test by taste. A fail, a report, a clearance that ended: all of it
        still stops them. They get no card from here.
      </p>
      <Problem words={problem} />
      <p className="acts">
        <button type="submit" className="act" disabled={!version || !size}>
          Let them count
        </button>
        <button type="button" className="quiet" onClick={close}>
          Leave it history
        </button>
      </p>
    </form>
  );
}

function named(one: Option): string {
  return `${one.maker} ${one.model}, ${one.kind_words}`;
}

interface ChoiceProps {
  label: string;
  values: readonly string[];
  value: string;
  set: (value: string) => void;
}

function Choice({ label, values, value, set }: ChoiceProps) {
  return (
    <NativeSelect
      label={label}
      data={[{ value: "", label: "choose" }, ...values]}
      value={value}
      onChange={(event) => set(event.currentTarget.value)}
      w={150}
    />
  );
}

/** A word of the site: what counts as what, why, who said so; it can be taken back. */
function Said({ one }: { one: Schemas["WordLine"] }) {
  const { problem, change } = useChange(SHOWN);
  const path = { word_id: one.id };
  const take = (why: string) =>
    change(() => unwrap(api.POST("/api/history-words/{word_id}/withdrawal", { params: { path }, body: { why } })));
  return (
    <li>
      <div className="row-line">
        <span className={one.withdrawn ? "dim" : undefined}>
          <b>
            {one.model} {one.size} counts as {one.counts_as}
          </b>
          , said by {one.said_by} on {one.said_on}: {one.why}
          {one.withdrawn && <small className="line">{one.withdrawn}</small>}
        </span>
        {!one.withdrawn && (
          <TakeBack label="It counts no more" ask="Why it counts no more" problem={problem} take={take} />
        )}
      </div>
    </li>
  );
}
