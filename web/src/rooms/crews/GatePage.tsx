import { TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { useTitle } from "@/shared/title";
import { Mark } from "@/design/Marks";
import { Loading } from "@/design/States";
import "@/rooms/crews/gate.css";

const AGAIN_MS = 10_000;

/** The tablet at the gate: a number is typed or a name looked for, and it says yes or no, never why. */
export function GatePage() {
  const { secret = "" } = useParams();
  const [text, setText] = useState("");
  const found = useQuery({
    queryKey: keys.gate(secret),
    queryFn: () => unwrap(api.GET("/api/gate/{secret}", { params: { path: { secret } } })),
    refetchInterval: AGAIN_MS,
    retry: false,
  });
  useTitle("Gate");
  if (found.isPending) return <Loading what="The gate" />;
  if (!found.data)
    return (
      <main className="page at-gate">
        <h1>This address has ended</h1>
        <p>Whoever keeps the crew’s page makes a new one there. Until then nobody is let through by this tablet.</p>
      </main>
    );
  const view = found.data;
  const wanted = text.trim().toLocaleLowerCase();
  const shown = view.rows.filter(
    (one) => !wanted || one.number.toLocaleLowerCase().startsWith(wanted) || words(one.name).includes(wanted),
  );
  return (
    <main className="page at-gate">
      <h1>
        {view.may} of {view.rows.length} may
        <span className="dim">
          {" "}
          {view.site}, {view.day}
          {view.task && `, ${view.task}`}
        </span>
      </h1>
      {found.isError && (
        <p className="note rust" role="alert">
          The server is away: this is how it was. Ask by telephone before anybody is let through.
        </p>
      )}
      <TextInput
        label="Number or name"
        size="xl"
        value={text}
        onChange={(event) => setText(event.currentTarget.value)}
        data-autofocus
        maxLength={60}
      />
      {shown.length === 0 && <p className="note rust">Nobody here has that number. They do not go through.</p>}
      <ul className="rows">
        {shown.map((one) => (
          <Line key={one.number} one={one} />
        ))}
      </ul>
    </main>
  );
}

function words(name: string): string {
  return name.toLocaleLowerCase();
}

function Line({ one }: { one: Schemas["GateLine"] }) {
  return (
    <li className={one.may ? "may" : "may-not"}>
      <Mark name={one.may ? "cairn" : "wall"} size={56} />
      <div>
        <p className="big">
          {one.name} <span className="dim">{one.number}</span>
        </p>
        {one.may ? (
          one.set_ups.map((each) => <p key={each}>{each}</p>)
        ) : (
          <p className="rust">May wear nothing today. Ask the supervisor.</p>
        )}
      </div>
    </li>
  );
}
