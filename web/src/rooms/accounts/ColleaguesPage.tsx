import { NativeSelect } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useChange } from "@/shared/attempt";
import { dateTime } from "@/shared/clock";
import { useEmployers } from "@/rooms/common/useEmployers";
import { Problem, Text } from "@/design/Fields";
import { Failed, Loading, Pager } from "@/design/States";
import { Competence } from "@/rooms/accounts/Competence";

type Grant = Schemas["GrantEntry"];
type Account = Schemas["AccountView"];
const ROLES: Grant["role"][] = ["tester", "administrator", "supervisor"];
const ROLE_WORDS = {
  tester: "tester: tests and signs",
  administrator: "administrator: people, kit, accounts",
  supervisor: "supervisor: reads who may wear what",
};

/** Who works with this installation: invited, with which roles, switched off. */
export function ColleaguesPage() {
  const [params, setParams] = useSearchParams();
  const page = Number(params.get("page") ?? "1") || 1;
  const [inviting, setInviting] = useState(false);
  const [made, setMade] = useState<Schemas["Invited"] | null>(null);
  const accounts = useQuery({
    queryKey: keys.accounts(page),
    queryFn: () => unwrap(api.GET("/api/accounts", { params: { query: { page } } })),
  });
  if (accounts.isPending) return <Loading what="Your colleagues" />;
  if (accounts.isError) return <Failed error={accounts.error} again={() => void accounts.refetch()} />;
  const { rows, pages } = accounts.data;
  return (
    <>
      <div className="page-head">
        <div>
          <h1>Colleagues</h1>
          <p className="dim">An account is switched off, never deleted: records name who tested and signed.</p>
        </div>
        <button type="button" className="act" onClick={() => setInviting(!inviting)}>
          Invite a colleague
        </button>
      </div>
      {inviting && (
        <AccountForm
          invited={(one) => {
            setMade(one);
            setInviting(false);
          }}
          close={() => setInviting(false)}
        />
      )}
      {made && <OnceOnly made={made} close={() => setMade(null)} />}
      <ul className="rows">
        {rows.map((one) => (
          <li key={one.id}>
            <Line one={one} made={setMade} />
          </li>
        ))}
      </ul>
      <Pager page={accounts.data.page} pages={pages} go={(to) => setParams({ page: String(to) })} />
    </>
  );
}

/** A one-time address, to be handed over by whatever way is safe. */
function OnceOnly({ made, close }: { made: Schemas["Invited"]; close: () => void }) {
  return (
    <div className="note heath" role="status">
      <h3>Give them this address. It opens once, until {dateTime(made.until)}, and is shown only now</h3>
      <p className="once">{window.location.origin + made.address}</p>
      <button type="button" className="act" onClick={close}>
        I have it
      </button>
    </div>
  );
}

/** What is shown of these, wherever. */
const SHOWN = [["accounts"], keys.missing, keys.session];

const STATE = { active: "", invited: "has not chosen a password yet", off: "switched off" };

function Line({ one, made }: { one: Account; made: (invited: Schemas["Invited"]) => void }) {
  const [open, setOpen] = useState<"" | "form" | "sessions" | "methods">("");
  const { problem, change } = useChange(SHOWN);
  const path = { account_id: one.id };
  const isOff = one.state === "off";
  return (
    <section aria-label={one.name}>
      <div className="row-line">
        <span>
          <span className="big">{one.name}</span> <span className="dim">{one.login}</span>{" "}
          {STATE[one.state] && <b className="gorse">{STATE[one.state]}</b>}
          <br />
          <span className="dim">
            {one.grants.map((each) => `${each.role} at ${each.employer || "all employers"}`).join(" · ") || "no role"}
            {one.has_second ? " · second factor" : ""}
            {one.last_active ? ` · last active ${dateTime(one.last_active)}` : ""}
          </span>
        </span>
        {one.may_change && (
          <span>
            <button type="button" className="quiet" onClick={() => setOpen(open === "form" ? "" : "form")}>
              Change
            </button>
            <button type="button" className="quiet" onClick={() => setOpen(open === "sessions" ? "" : "sessions")}>
              Sessions
            </button>
            {one.grants.some((each) => each.role === "tester") && (
              <button type="button" className="quiet" onClick={() => setOpen(open === "methods" ? "" : "methods")}>
                Methods
              </button>
            )}
            {!isOff && (
              <button
                type="button"
                className="quiet"
                onClick={() =>
                  void change(async () =>
                    made(await unwrap(api.POST("/api/accounts/{account_id}/reset", { params: { path } }))),
                  )
                }
              >
                {one.state === "invited" ? "New address" : "New password"}
              </button>
            )}
            {one.has_second && (
              <button
                type="button"
                className="quiet"
                onClick={() =>
                  void change(() => unwrap(api.POST("/api/accounts/{account_id}/lost-second", { params: { path } })))
                }
              >
                Telephone lost
              </button>
            )}
            <button
              type="button"
              className="quiet"
              onClick={() =>
                void change(() =>
                  isOff
                    ? unwrap(api.POST("/api/accounts/{account_id}/on", { params: { path } }))
                    : unwrap(api.POST("/api/accounts/{account_id}/off", { params: { path } })),
                )
              }
            >
              {isOff ? "Switch on" : "Switch off"}
            </button>
          </span>
        )}
      </div>
      <Problem words={problem} />
      {open === "form" && <AccountForm account={one} invited={made} close={() => setOpen("")} />}
      {open === "methods" && <Competence account={one} />}
      {open === "sessions" && <Sessions account={one} />}
    </section>
  );
}

function Sessions({ account }: { account: Account }) {
  const path = { account_id: account.id };
  const sessions = useQuery({
    queryKey: keys.sessionsOf(account.id),
    queryFn: () => unwrap(api.GET("/api/accounts/{account_id}/sessions", { params: { path } })),
  });
  const { problem, change } = useChange(SHOWN);
  const end = () =>
    change(async () => {
      await unwrap(api.DELETE("/api/accounts/{account_id}/sessions", { params: { path } }));
      await sessions.refetch();
    });
  if (!sessions.data?.length) return <p className="dim">Signed in nowhere.</p>;
  return (
    <>
      <ul className="why-list">
        {sessions.data.map((one) => (
          <li key={one.id}>
            {one.address}, since {dateTime(one.since)}, last active {dateTime(one.last_active)}{" "}
            <span className="dim">{one.agent}</span>
          </li>
        ))}
      </ul>
      <button type="button" className="quiet" onClick={() => void end()}>
        End all of them
      </button>
      <Problem words={problem} />
    </>
  );
}

interface FormProps {
  account?: Account;
  invited: (made: Schemas["Invited"]) => void;
  close: () => void;
}

/** Name, sign-in and roles, one line a role. */
function AccountForm({ account, invited, close }: FormProps) {
  const [name, setName] = useState(account?.name ?? "");
  const [login, setLogin] = useState(account?.login ?? "");
  const [grants, setGrants] = useState<Grant[]>(
    account?.grants.map(({ role, employer_id }) => ({ role: role as Grant["role"], employer_id })) ?? [
      { role: "tester", employer_id: null },
    ],
  );
  const { problem, change } = useChange(SHOWN);
  const employers = useEmployers();
  const everywhere = employers?.may_add ?? false;
  const places = [
    ...(everywhere ? [{ value: "", label: "at all employers" }] : []),
    ...(employers?.rows ?? []).map((one) => ({ value: one.id, label: `at ${one.name}` })),
  ];
  const first = everywhere ? null : (employers?.rows[0]?.id ?? null);
  const set = (at: number, change: Partial<Grant>) =>
    setGrants((all) => all.map((one, i) => (i === at ? { ...one, ...change } : one)));
  const shown = grants.map((one) => ({ ...one, employer_id: one.employer_id ?? first }));
  const save = () =>
    change(async () => {
      const body = { name, login, grants: shown };
      if (account)
        await unwrap(api.PUT("/api/accounts/{account_id}", { params: { path: { account_id: account.id } }, body }));
      else invited(await unwrap(api.POST("/api/accounts", { body })));
      close();
    });
  return (
    <form
      className="note tarn"
      aria-label={account ? `Change ${account.name}` : "Invite a colleague"}
      onSubmit={(event) => {
        event.preventDefault();
        void save();
      }}
    >
      <div className="field-row">
        <Text label="Their name" value={name} set={setName} required maxLength={190} w={280} autoFocus />
        <Text label="Name they sign in with" value={login} set={setLogin} required maxLength={190} w={220} />
      </div>
      <fieldset>
        <legend>Roles</legend>
        {shown.map((one, i) => (
          <div key={i} className="grant">
            <NativeSelect
              aria-label={`Role ${i + 1}`}
              data={ROLES.map((role) => ({ value: role, label: ROLE_WORDS[role] }))}
              value={one.role}
              onChange={(event) => set(i, { role: event.currentTarget.value as Grant["role"] })}
              w={320}
            />
            <NativeSelect
              aria-label={`Where, role ${i + 1}`}
              data={places}
              value={one.employer_id ?? ""}
              onChange={(event) => set(i, { employer_id: event.currentTarget.value || null })}
              w={280}
            />
            {grants.length > 1 && (
              <button type="button" className="quiet" onClick={() => setGrants(grants.filter((_, j) => j !== i))}>
                Take away
              </button>
            )}
          </div>
        ))}
        <button
          type="button"
          className="quiet"
          onClick={() => setGrants([...grants, { role: "supervisor", employer_id: first }])}
        >
          One more role
        </button>
      </fieldset>
      <div className="field-row">
        <button type="submit" className="act">
          {account ? "Change it" : "Make the invitation"}
        </button>
        <button type="button" className="quiet" onClick={close}>
          Leave it
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}
