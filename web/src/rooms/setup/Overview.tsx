import { useState } from "react";
import { Checkbox, PasswordInput } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { dateTime } from "@/shared/clock";
import { Mark } from "@/design/Marks";
import { Problem } from "@/design/Fields";
import { Failed, Loading } from "@/design/States";

/** What a first test still needs, and how the backups stand. */
export function Overview() {
  const missing = useQuery({ queryKey: keys.missing, queryFn: () => unwrap(api.GET("/api/setup/missing")) });
  if (missing.isPending) return <Loading what="Your installation" />;
  if (missing.isError) return <Failed error={missing.error} again={() => void missing.refetch()} />;
  const todo = missing.data.steps.filter((one) => !one.is_done);
  const left = todo.length;
  return (
    <>
      <h1>{missing.data.organisation || "Your installation"}</h1>
      <p className="dim">
        {left === 0
          ? "Everything that a test needs is there."
          : `${left} ${left === 1 ? "thing is" : "things are"} still missing before the first test.`}
      </p>
      <details open={left > 0}>
        <summary>What a test needs</summary>
        <ol className="steps-left">
          {missing.data.steps.map((one) => (
            <li key={one.code} className={one.is_done ? "is-done" : ""}>
              <Mark name={one.is_done ? "cairn" : "cairn-open"} size={30} />
              <span>
                <span className="big">{one.title}</span>
                <span className="visually-hidden">{one.is_done ? ", is there" : ", is missing"}</span>
                {!one.is_done && <span className="dim"> {one.words}</span>}
              </span>
              <Link to={one.place} className={one === todo[0] ? "act" : "quiet"}>
                {one.is_done ? "Look" : "Go there"}
              </Link>
            </li>
          ))}
        </ol>
        <SensesOnly missing={missing.data} />
      </details>
      <Worker />
      <Backups />
    </>
  );
}

/** Said only where it is so: without a worker nothing goes wrong at once, and everything stands still. */
function Worker() {
  const health = useQuery({ queryKey: keys.health, queryFn: () => unwrap(api.GET("/api/health")) }).data;
  if (!health || health.worker === "at_work") return null;
  return (
    <div className="note rust" role="alert">
      <h2>No worker goes its rounds</h2>
      <p>
        Imports, letters and who is due stand still
        {health.worker_seen ? `; one was heard last ${dateTime(health.worker_seen)}` : ""}. Start one:{" "}
        <code>./moorfog worker</code>
      </p>
    </div>
  );
}

function SensesOnly({ missing }: { missing: Schemas["Missing"] }) {
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("It stays as it was.");
  const say = (by_senses_only: boolean) =>
    attempt(async () => {
      await unwrap(api.PUT("/api/organisation", { body: { name: missing.organisation || "Moorfog", by_senses_only } }));
      await queries.invalidateQueries({ queryKey: keys.missing });
    });
  return (
    <>
      <Checkbox
        label="There is no instrument here: we test by taste and smell only"
        checked={missing.by_senses_only}
        onChange={(event) => void say(event.currentTarget.checked)}
      />
      <Problem words={problem} />
    </>
  );
}

/** The key that opens the backups: made here, shown once, kept by whoever looks after the installation. */
function RecoveryKey({ backups }: { backups: Schemas["BackupsView"] }) {
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("No key was made.");
  const [password, setPassword] = useState("");
  const [made, setMade] = useState("");
  const [open, setOpen] = useState(false);
  if (!backups.may_make_key) return null;
  const make = () =>
    attempt(async () => {
      setMade((await unwrap(api.POST("/api/recovery-key", { body: { password } }))).key);
      setPassword("");
      setOpen(false);
      await queries.invalidateQueries({ queryKey: keys.backups });
    });
  if (made)
    return (
      <div className="note gorse" role="alert">
        <h3>Write this down now: it is shown only this once</h3>
        <p className="once">{made}</p>
        <p>
          It opens the backups from here on, and nobody can make it again. Keep it on paper, away from this machine.
        </p>
        <button type="button" className="act" onClick={() => setMade("")}>
          I have it on paper
        </button>
      </div>
    );
  return (
    <div className={`note ${backups.has_recovery_key ? "tarn" : "gorse"}`}>
      <p>
        {backups.has_recovery_key
          ? "Backups are sealed: the recovery key that somebody wrote down opens them."
          : "Backups are not sealed, and leave the keys of this installation out. Make a recovery key."}
      </p>
      {open ? (
        <form
          className="field-row"
          aria-label="Recovery key"
          onSubmit={(event) => {
            event.preventDefault();
            void make();
          }}
        >
          <PasswordInput
            label="Your password"
            value={password}
            onChange={(event) => setPassword(event.currentTarget.value)}
            autoComplete="current-password"
            w={280}
            required
          />
          <button type="submit" className="act">
            Make it
          </button>
        </form>
      ) : (
        <button type="button" className="quiet" onClick={() => setOpen(true)}>
          {backups.has_recovery_key ? "It was lost: make another" : "Make the recovery key"}
        </button>
      )}
      <Problem words={problem} />
    </div>
  );
}

function Backups() {
  const backups = useQuery({
    queryKey: keys.backups,
    queryFn: () => unwrap(api.GET("/api/backups")),
    refetchInterval: 60_000,
  }).data;
  if (!backups) return null;
  const isWrong = backups.is_late || backups.problem !== "" || backups.faults > 0;
  return (
    <section aria-label="Backups">
      <h2>Backups</h2>
      {!backups.made_here ? (
        <p className="note">
          This Moorfog makes no backups by itself, since its database is run by somebody else. Whoever runs it makes
          them: <span className="mono">./moorfog backup FILE</span>
        </p>
      ) : (
        <div className={`note ${isWrong ? "rust" : "tarn"}`} role={isWrong ? "alert" : undefined}>
          <h3>{backups.last_good ? `Last good one ${dateTime(backups.last_good)}` : "None has been made yet"}</h3>
          {backups.is_late && backups.last_good !== "" && <p>That is more than a night ago.</p>}
          {backups.problem && <p>The last try failed: {backups.problem}.</p>}
          {backups.faults > 0 && (
            <p>
              {backups.faults} stored things are not what was stored: <span className="mono">./moorfog verify</span>{" "}
              names them.
            </p>
          )}
          {backups.faults === 0 && <p>What is stored was checked with it, and everything held.</p>}
          <p className="dim">They lie in {backups.folder}. Copy them to another machine: a fire takes both.</p>
        </div>
      )}
      <RecoveryKey backups={backups} />
    </section>
  );
}
