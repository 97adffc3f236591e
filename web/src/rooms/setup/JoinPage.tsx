import { PasswordInput } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, ApiError, keys, setToken, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { useTitle } from "@/shared/title";
import { Problem } from "@/design/Fields";
import { Loading } from "@/design/States";
import { Threshold } from "@/rooms/setup/Threshold";

/** A one-time address: whom it is for, and the password they choose. */
export function JoinPage() {
  useTitle("Choose a password");
  const { token = "" } = useParams();
  const path = { token };
  const queries = useQueryClient();
  const go = useNavigate();
  const [password, setPassword] = useState("");
  const { problem, attempt } = useAttempt("The password was not taken.");
  const who = useQuery({
    queryKey: keys.joining(token),
    queryFn: () => unwrap(api.GET("/api/join/{token}", { params: { path } })),
    retry: false,
  });
  if (who.isPending) return <Loading what="This address" />;
  if (who.isError)
    return (
      <Threshold
        title="Not here"
        words={who.error instanceof ApiError ? who.error.message : "This address did not open."}
      >
        <a href="/">To the sign-in</a>
      </Threshold>
    );
  const join = () =>
    attempt(async () => {
      await unwrap(api.POST("/api/join/{token}", { params: { path }, body: { password } }));
      const session = await unwrap(api.GET("/api/session"));
      setToken(session.token);
      queries.setQueryData(keys.session, session);
      await go("/");
    });
  return (
    <Threshold title={who.data.name} words={`You sign in as ${who.data.login}. Choose your password.`}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void join();
        }}
      >
        <input
          type="text"
          className="visually-hidden"
          autoComplete="username"
          value={who.data.login}
          readOnly
          tabIndex={-1}
          aria-hidden
        />
        <PasswordInput
          label="Password: four words that have nothing to do with each other are good"
          value={password}
          onChange={(event) => setPassword(event.currentTarget.value)}
          required
          maxLength={190}
          autoComplete="new-password"
          size="md"
        />
        <Problem words={problem} />
        <button className="act" type="submit">
          That is my password
        </button>
      </form>
    </Threshold>
  );
}
