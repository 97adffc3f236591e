import { NativeSelect } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { dateTime } from "@/shared/clock";
import { useEmployers } from "@/rooms/common/useEmployers";
import { Problem, Text } from "@/design/Fields";
import { Empty, Failed, Loading } from "@/design/States";

/** Tokens by which other programs read what an employer has here, or enter some of it. */
export function TokensPage() {
  const [given, setGiven] = useState({ name: "", employer_id: "", days: "90", may: "read" });
  const [made, setMade] = useState("");
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("Nothing was changed.");
  const tokens = useQuery({ queryKey: keys.tokens, queryFn: () => unwrap(api.GET("/api/tokens")) });
  const places = useEmployers();
  if (tokens.isPending) return <Loading what="The tokens" />;
  if (tokens.isError) return <Failed error={tokens.error} again={() => void tokens.refetch()} />;
  const employer = given.employer_id || (places?.rows[0]?.id ?? "");
  const again = () => queries.invalidateQueries({ queryKey: keys.tokens });
  const make = () =>
    attempt(async () => {
      const may = given.may === "write" ? ("write" as const) : ("read" as const);
      const body = { name: given.name, employer_id: employer, days: Number(given.days), may };
      setMade((await unwrap(api.POST("/api/tokens", { body }))).token);
      setGiven({ ...given, name: "", may: "read" });
      await again();
    });
  const end = (id: string) =>
    attempt(async () => {
      await unwrap(api.DELETE("/api/tokens/{token_id}", { params: { path: { token_id: id } } }));
      await again();
    });
  return (
    <>
      <h1>Tokens</h1>
      <p className="dim">
        With a token another program reads what a supervisor of that employer may read, and nothing of anybody&apos;s
        health. One that also writes can enter people, clearances, trainings and results of before, and nothing else.
      </p>
      <form
        className="note tarn"
        aria-label="New token"
        onSubmit={(event) => {
          event.preventDefault();
          void make();
        }}
      >
        <div className="field-row">
          <Text
            label="What it is for"
            value={given.name}
            set={(name) => setGiven({ ...given, name })}
            required
            maxLength={60}
          />
          <NativeSelect
            label="Employer"
            data={(places?.rows ?? []).map((one) => ({ value: one.id, label: one.name }))}
            value={employer}
            onChange={(event) => setGiven({ ...given, employer_id: event.currentTarget.value })}
          />
          <NativeSelect
            label="What it may"
            data={[
              { value: "read", label: "read" },
              { value: "write", label: "read and write" },
            ]}
            value={given.may}
            onChange={(event) => setGiven({ ...given, may: event.currentTarget.value })}
          />
          <Text
            label="For how many days"
            type="number"
            min={1}
            max={400}
            value={given.days}
            set={(days) => setGiven({ ...given, days })}
            required
            w={180}
          />
          <button type="submit" className="act" disabled={!employer}>
            Make it
          </button>
        </div>
        <Problem words={problem} />
      </form>
      {made && (
        <div className="note heath" role="status">
          <h3>The token, shown only now. It is used so:</h3>
          <p className="once">
            curl -H &quot;Authorization: Bearer {made}&quot; {window.location.origin}/api/people
          </p>
          <button type="button" className="act" onClick={() => setMade("")}>
            I have it
          </button>
        </div>
      )}
      {tokens.data.length === 0 && <Empty>No program reads here.</Empty>}
      <ul className="rows">
        {tokens.data.map((one) => (
          <li key={one.id} className="row-line">
            <span>
              <b>{one.name}</b>, {one.employer}
              {one.may === "write" && ", writes too"} {one.state !== "counts" && <b className="gorse">{one.state}</b>}
              <br />
              <span className="dim">
                until {dateTime(one.expires_at)} · {one.used_at ? `last used ${dateTime(one.used_at)}` : "never used"}
              </span>
            </span>
            {one.state === "counts" && (
              <button type="button" className="quiet" onClick={() => void end(one.id)}>
                End it
              </button>
            )}
          </li>
        ))}
      </ul>
    </>
  );
}
