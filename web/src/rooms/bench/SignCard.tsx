import { PasswordInput } from "@mantine/core";
import { useState } from "react";
import { v7 as uuid } from "uuid";
import { api, ApiError, unwrap } from "@/shared/client";
import { useSession } from "@/shared/session";
import { OutcomeMark } from "@/design/Marks";
import type { ActProps } from "@/rooms/bench/card";
import { Problem, Text } from "@/design/Fields";

type Props = Pick<ActProps, "card" | "view" | "put">;

/** One signature: what is signed stands above the line; a typed name signs. */
export function SignCard({ card, view, put }: Props) {
  const session = useSession();
  const isWearer = card.act === "sign_wearer";
  const [name, setName] = useState("");
  const [password, setPassword] = useState<string | null>(null);
  const [problem, setProblem] = useState("");
  const { visit } = view;
  const last = visit.tries.at(-1);
  const sign = async () => {
    setProblem("");
    try {
      put(
        await unwrap(
          api.POST("/api/visits/{visit_id}/signatures", {
            params: { path: { visit_id: view.visit_id } },
            body: {
              id: uuid(),
              expects: visit.seq,
              role: isWearer ? "wearer" : "tester",
              typed_name: name,
              password,
            },
          }),
        ),
      );
    } catch (error) {
      if (error instanceof ApiError && error.code === "password_needed") setPassword("");
      setProblem(error instanceof Error ? error.message : "This was not accepted.");
    }
  };
  return (
    <form
      className="card"
      data-item={card.id}
      onSubmit={(event) => {
        event.preventDefault();
        void sign();
      }}
    >
      <p className="mode">
        Sign
        <i />
        {isWearer ? "the wearer" : "the tester"}
      </p>
      <h1 className="question smaller">“{card.say}”</h1>
      <div className="signed-text">
        {last && (
          <p className="verdict-line">
            <OutcomeMark outcome={last.outcome} />
            {last.overall ? ` overall ${last.overall}, level ${last.level}` : ""}
            {last.is_marginal ? ", marginal" : ""} · {last.facepiece} {last.size}
          </p>
        )}
        <ul>
          {visit.tries.map((one) => (
            <li key={one.no}>
              Try {one.no}, {one.facepiece} {one.size}: {one.outcome}
              {one.overall ? `, ${one.overall}, level ${one.level}` : ""}
            </li>
          ))}
        </ul>
        <ul>
          {visit.limits_of_use.map((one) => (
            <li key={one}>{one}</li>
          ))}
        </ul>
        <p>{visit.terms}</p>
        <p className="dim">{visit.signed_under.join(" ")}</p>
      </div>
      <div className="field-row">
        <Text
          label={`${isWearer ? view.person : (session.data?.name ?? "")}, type your name`}
          value={name}
          set={setName}
          autoFocus
          required
          maxLength={190}
          w={360}
          size="md"
          autoComplete="off"
        />
        {password !== null && (
          <PasswordInput
            label="Your password"
            value={password}
            onChange={(event) => setPassword(event.currentTarget.value)}
            w={260}
            size="md"
            autoFocus
          />
        )}
        <button className="act" type="submit">
          Sign
        </button>
      </div>
      <Problem words={problem} />
    </form>
  );
}
