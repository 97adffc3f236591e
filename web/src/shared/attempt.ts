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
