import { type QueryKey, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

/** Something is asked of the server; what went wrong stays here in its words, and what was typed stays where it is. */
export function useAttempt(otherwise: string) {
  const [problem, setProblem] = useState("");
  const attempt = async (call: () => Promise<unknown>) => {
    setProblem("");
    try {
      await call();
      return true;
    } catch (error) {
      setProblem(error instanceof Error ? error.message : otherwise);
      return false;
    }
  };
  return { problem, attempt };
}

/** As useAttempt, and what is shown of these is asked for anew once it is done. */
export function useChange(shown: readonly QueryKey[]) {
  const queries = useQueryClient();
  const { problem, attempt } = useAttempt("Nothing was changed.");
  const change = (call: () => Promise<unknown>) =>
    attempt(async () => {
      await call();
      await Promise.all(shown.map((queryKey) => queries.invalidateQueries({ queryKey })));
    });
  return { problem, change };
}
