import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { dayIn } from "@/shared/clock";
import { Problem, Text } from "@/design/Fields";

/** What a tester has shown that they can do, method by method. */
export function Competence({ account }: { account: Schemas["AccountView"] }) {
  const [opened, setOpened] = useState("");
  const path = { account_id: account.id };
  const list = useQuery({
    queryKey: keys.competence(account.id),
    queryFn: () => unwrap(api.GET("/api/accounts/{account_id}/competence", { params: { path } })),
  });
  return (
    <ul className="rows">
      {list.data?.map((one) => (
        <li key={one.method}>
          <div className="row-line">
            <span>
              <b>{one.words}</b>{" "}
              <span className={one.state === "on file" ? "" : "dim"}>
                {one.state === "on file"
                  ? `from ${one.begins}${one.ends ? ` until ${one.ends}` : ""}, seen by ${one.shown_by}`
                  : one.state}
              </span>
            </span>
            <button
              type="button"
              className="quiet"
              aria-label={`File ${one.words}`}
              onClick={() => setOpened(opened === one.method ? "" : one.method)}
            >
              File
            </button>
          </div>
          {opened === one.method && (
            <FileIt
              account={account.id}
              one={one}
              done={async () => {
                setOpened("");
                await list.refetch();
              }}
            />
          )}
        </li>
      ))}
    </ul>
  );
}

interface Props {
  account: string;
  one: Schemas["CompetenceView"];
  done: () => Promise<void>;
}

function FileIt({ account, one, done }: Props) {
  const [begins, setBegins] = useState(() => dayIn());
  const [ends, setEnds] = useState("");
  const [by, setBy] = useState("");
  const { problem, attempt } = useAttempt("It was not filed.");
  const file = (is_withdrawn: boolean) =>
    attempt(async () => {
      await unwrap(
        api.POST("/api/accounts/{account_id}/competence", {
          params: { path: { account_id: account } },
          body: {
            method: one.method as Schemas["CompetenceEntry"]["method"],
            begins,
            ends,
            shown_by: by,
            is_withdrawn,
          },
        }),
      );
      await done();
    });
  return (
    <form
      className="note tarn"
      aria-label={one.words}
      onSubmit={(event) => {
        event.preventDefault();
        void file(false);
      }}
    >
      <div className="field-row">
        <Text label="From" type="date" value={begins} set={setBegins} required />
        <Text label="Until, may be empty" type="date" value={ends} set={setEnds} />
        <Text label="Who saw them do it" value={by} set={setBy} required maxLength={190} />
        <button type="submit" className="act">
          Put on file
        </button>
        {one.state === "on file" && (
          <button type="button" className="quiet" onClick={() => void file(true)}>
            Take it back
          </button>
        )}
      </div>
      <Problem words={problem} />
    </form>
  );
}
