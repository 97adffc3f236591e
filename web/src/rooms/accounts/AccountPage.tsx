import { NativeSelect, PasswordInput } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { dateTime } from "@/shared/clock";
import { Problem, Text } from "@/design/Fields";
import { Failed, Loading } from "@/design/States";

/** One's own account: the password, the second factor, and where one is signed in. */
export function AccountPage() {
  const own = useQuery({ queryKey: keys.account, queryFn: () => unwrap(api.GET("/api/account")) });
  if (own.isPending) return <Loading what="Your account" />;
  if (own.isError) return <Failed error={own.error} again={() => void own.refetch()} />;
  return (
    <main className="page">
      <h1>{own.data.name}</h1>
      <p className="dim">You sign in as {own.data.login}.</p>
      <Told own={own.data} />
      <OwnPassword />
      <SecondFactor own={own.data} />
      <h2>Where you are signed in</h2>
      <Sessions sessions={own.data.sessions} />
      <Program />
    </main>
  );
}

/** What program this is, and where its API is written down. */
function Program() {
  const version = useQuery({ queryKey: keys.health, queryFn: () => unwrap(api.GET("/api/health")) }).data?.version;
  return (
    <p className="small-print">
      Moorfog {version}, AGPL-3.0-or-later: whoever uses it may have <a href="/api/source.zip">its source</a>. What
      ships with it: licences of <a href="/licences.md">the page</a> and of <a href="/api/licences.txt">the program</a>.{" "}
      <a href="/docs/">The API</a>
    </p>
  );
}

function Secret({
  label,
  value,
  set,
  fresh,
}: {
  label: string;
  value: string;
  set: (text: string) => void;
  fresh?: boolean;
}) {
  return (
    <PasswordInput
      label={label}
      value={value}
      onChange={(event) => set(event.currentTarget.value)}
      autoComplete={fresh ? "new-password" : "current-password"}
      maxLength={190}
      required
      w={300}
    />
  );
}

const OFTEN = [
  { value: "", label: "never" },
  { value: "weekly", label: "once a week" },
  { value: "daily", label: "every morning" },
];

/** Where one is written to, and how often one is told who is due. */
function Told({ own }: { own: Schemas["Own"] }) {
  const [address, setAddress] = useState(own.address);
  const [often, setOften] = useState(own.due_notice);
  const [said, setSaid] = useState("");
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("Nothing was changed.");
  const change = () =>
    attempt(async () => {
      setSaid("");
      await unwrap(api.PUT("/api/account/notice", { body: { address, often } }));
      setSaid(often ? "You are told by e-mail, in the morning." : "You are not told by e-mail.");
      await queries.invalidateQueries({ queryKey: keys.account });
    });
  return (
    <section aria-label="E-mail">
      <h2>Who is due, by e-mail</h2>
      <form
        className="field-row"
        onSubmit={(event) => {
          event.preventDefault();
          void change();
        }}
      >
        <Text label="Your address" value={address} set={setAddress} type="email" maxLength={190} w={300} />
        <NativeSelect
          label="Tell me who is due"
          data={OFTEN}
          value={often}
          onChange={(event) => setOften(event.currentTarget.value as typeof often)}
        />
        <button type="submit" className="act">
          Keep it
        </button>
      </form>
      {said && <p role="status">{said}</p>}
      <Problem words={problem} />
    </section>
  );
}

function OwnPassword() {
  const [old, setOld] = useState("");
  const [fresh, setFresh] = useState("");
  const [said, setSaid] = useState("");
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("The password stays as it was.");
  const change = () =>
    attempt(async () => {
      setSaid("");
      await unwrap(api.POST("/api/account/password", { body: { old, new: fresh } }));
      setOld("");
      setFresh("");
      setSaid("Changed. Wherever else you were signed in, you are not any more.");
      await queries.invalidateQueries({ queryKey: keys.account });
    });
  return (
    <section aria-label="Password">
      <h2>Password</h2>
      <form
        className="field-row"
        onSubmit={(event) => {
          event.preventDefault();
          void change();
        }}
      >
        <Secret label="The one you have" value={old} set={setOld} />
        <Secret label="The new one" value={fresh} set={setFresh} fresh />
        <button type="submit" className="act">
          Change it
        </button>
      </form>
      {said && <p role="status">{said}</p>}
      <Problem words={problem} />
    </section>
  );
}

function SecondFactor({ own }: { own: Schemas["Own"] }) {
  const [password, setPassword] = useState("");
  const [start, setStart] = useState<Schemas["SecondStart"] | null>(null);
  const [code, setCode] = useState("");
  const [recovery, setRecovery] = useState<string[]>([]);
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("Nothing was changed.");
  const again = () => queries.invalidateQueries({ queryKey: keys.account });
  const act = () =>
    attempt(async () => {
      if (own.has_second) await unwrap(api.POST("/api/account/second/off", { body: { password } }));
      else setStart(await unwrap(api.POST("/api/account/second", { body: { password } })));
      setPassword("");
      await again();
    });
  const confirm = () =>
    attempt(async () => {
      setRecovery((await unwrap(api.POST("/api/account/second/confirm", { body: { code } }))).codes);
      setStart(null);
      setCode("");
      await again();
    });
  return (
    <section aria-label="Second factor">
      <h2>Second factor</h2>
      <p>
        {own.has_second
          ? `On. ${own.recovery_left} recovery codes are left.`
          : "Off. With it on, a code of your telephone is asked for besides the password."}
      </p>
      {recovery.length > 0 && (
        <div className="note heath">
          <h3>Write these down: each stands in once for a lost telephone</h3>
          <p className="mono codes">{recovery.join("   ")}</p>
          <button type="button" className="act" onClick={() => setRecovery([])}>
            I have written them down
          </button>
        </div>
      )}
      {start ? (
        <form
          className="field-row"
          onSubmit={(event) => {
            event.preventDefault();
            void confirm();
          }}
        >
          <Squares rows={start.squares} />
          <div>
            <p>
              Take this up with your authenticator, or type <b className="mono">{start.secret}</b> into it.
            </p>
            <Text label="Then the code it shows" value={code} set={setCode} required autoFocus w={200} />
          </div>
          <button type="submit" className="act">
            Switch it on
          </button>
        </form>
      ) : (
        <form
          className="field-row"
          onSubmit={(event) => {
            event.preventDefault();
            void act();
          }}
        >
          <Secret label="Your password" value={password} set={setPassword} />
          <button type="submit" className={own.has_second ? "quiet" : "act"}>
            {own.has_second ? "Switch it off" : "Set one up"}
          </button>
        </form>
      )}
      <Problem words={problem} />
    </section>
  );
}

/** A QR code: dark squares on white, in dark too, as a camera wants it. */
function Squares({ rows }: { rows: string[] }) {
  const path = rows.flatMap((row, y) => [...row].map((one, x) => (one === "1" ? `M${x} ${y}h1v1h-1z` : ""))).join("");
  return (
    <svg
      viewBox={`0 0 ${rows.length} ${rows.length}`}
      width={220}
      height={220}
      role="img"
      aria-label="The code to take up"
    >
      <rect width={rows.length} height={rows.length} fill="#ffffff" />
      <path d={path} fill="#000000" />
    </svg>
  );
}

function Sessions({ sessions }: { sessions: Schemas["SessionLine"][] }) {
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("It was not ended.");
  const end = (id: string) =>
    attempt(async () => {
      await unwrap(api.DELETE("/api/account/sessions/{session_id}", { params: { path: { session_id: id } } }));
      await queries.invalidateQueries({ queryKey: keys.account });
    });
  return (
    <>
      <ul className="rows">
        {sessions.map((one) => (
          <li key={one.id} className="row-line">
            <span>
              <b>{one.is_this ? "Here" : one.address}</b> <span className="dim">since {dateTime(one.since)}</span>
              <br />
              <span className="dim">{one.agent}</span>
            </span>
            {!one.is_this && (
              <button type="button" className="quiet" onClick={() => void end(one.id)}>
                End it
              </button>
            )}
          </li>
        ))}
      </ul>
      <Problem words={problem} />
    </>
  );
}
