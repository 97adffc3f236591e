import { Textarea } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Problem, Text } from "@/design/Fields";
import { Pager } from "@/design/States";
import { useChange } from "@/shared/attempt";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { JobProgress } from "@/shared/JobProgress";

/** What is shown of these, wherever. */
const SHOWN = [["siteWords"], ["erasures"], ["people"]];

/** What a site says for itself: terms, how early a test is due, how long leavers' personal data are kept. */
export function SiteWords({ site, done }: { site: string; done: () => void }) {
  const words = useQuery({
    queryKey: keys.siteWords(site),
    queryFn: () => unwrap(api.GET("/api/sites/{site_id}/words", { params: { path: { site_id: site } } })),
  }).data;
  if (!words) return null;
  return (
    <>
      <WordsForm site={site} words={words} done={done} />
      {words.keep_months !== null && <NoLongerKept site={site} />}
    </>
  );
}

interface FormProps {
  site: string;
  words: Schemas["SiteWordsView"];
  done: () => void;
}

const months = (text: string) => (text.trim() ? Number(text) : null);

function WordsForm({ site, words, done }: FormProps) {
  const [terms, setTerms] = useState(words.terms);
  const [notice, setNotice] = useState(words.notice_days === null ? "" : String(words.notice_days));
  const [keep, setKeep] = useState(words.keep_months === null ? "" : String(words.keep_months));
  const { problem, change } = useChange(SHOWN);
  const save = () =>
    change(async () => {
      const body = { terms, notice_days: months(notice), keep_months: months(keep) };
      await unwrap(api.PUT("/api/sites/{site_id}/words", { params: { path: { site_id: site } }, body }));
      done();
    });
  return (
    <form
      className="note tarn stack"
      aria-label="Terms and periods"
      onSubmit={(event) => {
        event.preventDefault();
        void save();
      }}
    >
      <Textarea
        label="Terms that worker and tester sign under"
        description={
          words.terms_no ? `Version ${words.terms_no}. Empty: the usual ones.` : `Empty: “${words.usual_terms}”`
        }
        value={terms}
        onChange={(event) => setTerms(event.currentTarget.value)}
        maxLength={4000}
        autosize
        minRows={3}
        data-autofocus
      />
      <div className="field-row">
        <Text
          label="A test is due, days before it ends"
          placeholder={String(words.usual_notice)}
          type="number"
          value={notice}
          set={setNotice}
          w={280}
        />
        <Text
          label="Leavers’ personal data are kept, months"
          placeholder="for good"
          type="number"
          value={keep}
          set={setKeep}
          w={320}
        />
        <button type="submit" className="act">
          Change it
        </button>
        <button type="button" className="quiet" onClick={done}>
          Leave it
        </button>
      </div>
      <p className="dim">A visit that is open keeps the terms it began with.</p>
      <Problem words={problem} />
    </form>
  );
}

function NoLongerKept({ site }: { site: string }) {
  const [page, setPage] = useState(1);
  const [job, setJob] = useState("");
  const path = { site_id: site };
  const { problem, change } = useChange(SHOWN);
  const due = useQuery({
    queryKey: keys.erasures(site, page),
    queryFn: () => unwrap(api.GET("/api/sites/{site_id}/erasures", { params: { path, query: { page } } })),
  }).data;
  if (!due) return null;
  if (job) return <JobProgress id={job} what="Erasing" cancelling="Stop; who is erased stays erased" />;
  if (due.total === 0) return <p className="note">Nobody who left is past that time.</p>;
  const start = () =>
    change(async () => {
      setJob((await unwrap(api.POST("/api/sites/{site_id}/erasures", { params: { path } }))).id);
    });
  return (
    <section className="note" aria-label="No longer kept">
      <h3>{due.total === 1 ? "One person is" : `${due.total} people are`} past that time</h3>
      <ul className="rows">
        {due.rows.map((one) => (
          <li key={one.id}>
            {one.name} {one.number}, left on {one.left_on}, kept until {one.kept_until}
          </li>
        ))}
      </ul>
      <Pager page={due.page} pages={due.pages} go={setPage} />
      <button type="button" className="act" onClick={() => void start()}>
        Erase {due.total === 1 ? "this person’s" : "these people’s"} personal data for good
      </button>
      <Problem words={problem} />
    </section>
  );
}
