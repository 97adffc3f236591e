import { PasswordInput } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Navigate } from "react-router";
import { api, ApiError, keys, setToken, unwrap } from "@/shared/client";
import { Mark } from "@/design/Marks";
import { Problem, Text } from "@/design/Fields";

/** Signing in: name, password, Enter. */
export function SignIn() {
  const [login, setLogin] = useState("");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const [isAsked, setAsked] = useState(false);
  const [problem, setProblem] = useState("");
  const isOpen = useQuery({ queryKey: keys.setup, queryFn: () => unwrap(api.GET("/api/setup")) }).data?.is_open;
  const queries = useQueryClient();
  const signIn = async () => {
    setProblem("");
    try {
      const session = await unwrap(api.POST("/api/session", { body: { login, password, code } }));
      setToken(session.token);
      queries.setQueryData(keys.session, session);
    } catch (error) {
      if (error instanceof ApiError && error.code === "code_needed") {
        setAsked(true);
        return;
      }
      if (isAsked) setCode("");
      setProblem(error instanceof Error ? error.message : "Signing in did not work.");
      if (!isAsked) setPassword("");
    }
  };
  if (isOpen) return <Navigate to="/setup" replace />;
  return (
    <main className="signin">
      <svg viewBox="0 0 1200 420" preserveAspectRatio="none" aria-hidden="true">
        <path d="M0 250C200 190 330 300 560 240s420-110 640-30v210H0z" className="far" />
        <path d="M0 320c240-60 420 40 640-6s380-30 560 26v80H0z" className="near" />
      </svg>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void signIn();
        }}
      >
        <h1>
          <Mark name="cairn" size={44} /> Moorfog
        </h1>
        <p className="dim">Fit testing, from the first question to the signed result.</p>
        <Text
          label="Name you sign in with"
          value={login}
          set={setLogin}
          autoFocus
          required
          autoComplete="username"
          size="md"
        />
        <PasswordInput
          label="Password"
          value={password}
          onChange={(event) => setPassword(event.currentTarget.value)}
          required
          autoComplete="current-password"
          size="md"
        />
        {isAsked && (
          <Text
            label="Code of your second factor, or a recovery code"
            value={code}
            set={setCode}
            autoFocus
            required
            autoComplete="one-time-code"
            size="md"
          />
        )}
        <Problem words={problem} />
        <button className="act" type="submit">
          Sign in
        </button>
        <p className="small-print">
          Moorfog helps a trained tester. Local law, the maker's instructions and licensed practice come first; unknown
          is never a pass.
        </p>
      </form>
    </main>
  );
}
