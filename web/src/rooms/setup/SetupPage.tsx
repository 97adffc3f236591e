import { Checkbox, PasswordInput } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Navigate, useNavigate } from "react-router";
import { api, keys, setToken, unwrap } from "@/shared/client";
import { useAttempt } from "@/shared/attempt";
import { useTitle } from "@/shared/title";
import { Problem, Text } from "@/design/Fields";
import { Failed, Loading } from "@/design/States";
import { Threshold } from "@/rooms/setup/Threshold";

/** The first page of an empty installation: the code from the terminal, whose it is, and its first administrator. */
export function SetupPage() {
  useTitle("Set up");
  const state = useQuery({ queryKey: keys.setup, queryFn: () => unwrap(api.GET("/api/setup")) });
  const queries = useQueryClient();
  const go = useNavigate();
  const [given, setGiven] = useState({ code: "", organisation: "", name: "", login: "", password: "" });
  const [hasBegun, setBegun] = useState(false);
  const [testsToo, setTestsToo] = useState(true);
  const { problem, attempt } = useAttempt("The set-up did not begin.");
  if (state.isPending) return <Loading what="Moorfog" />;
  if (state.isError) return <Failed error={state.error} again={() => void state.refetch()} />;
  if (!state.data.is_open && !hasBegun) return <Navigate to="/" replace />;
  const set = (name: keyof typeof given) => (text: string) => setGiven((old) => ({ ...old, [name]: text }));
  const begin = () =>
    attempt(async () => {
      await unwrap(api.POST("/api/setup", { body: { ...given, tests_too: testsToo } }));
      setBegun(true);
      const session = await unwrap(api.GET("/api/session"));
      setToken(session.token);
      queries.setQueryData(keys.session, session);
      await go("/admin");
      await queries.invalidateQueries({ queryKey: keys.setup });
    });
  return (
    <Threshold title="Set up" words="Nobody has an account here yet. The terminal that started Moorfog shows a code.">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void begin();
        }}
      >
        <Text label="Code from the terminal" value={given.code} set={set("code")} required autoFocus maxLength={40} />
        <Text
          label="Who runs this installation"
          placeholder="your organisation"
          value={given.organisation}
          set={set("organisation")}
          required
          maxLength={190}
        />
        <Text label="Your name" value={given.name} set={set("name")} required maxLength={190} autoComplete="name" />
        <Text
          label="Name you sign in with"
          value={given.login}
          set={set("login")}
          required
          maxLength={190}
          autoComplete="username"
        />
        <PasswordInput
          label="Password: four words that have nothing to do with each other are good"
          value={given.password}
          onChange={(event) => set("password")(event.currentTarget.value)}
          required
          maxLength={190}
          autoComplete="new-password"
        />
        <Checkbox
          label="I test people myself"
          checked={testsToo}
          onChange={(event) => setTestsToo(event.currentTarget.checked)}
        />
        <Problem words={problem} />
        <button className="act" type="submit">
          Begin
        </button>
      </form>
    </Threshold>
  );
}
