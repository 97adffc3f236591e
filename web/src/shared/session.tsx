import { useQuery } from "@tanstack/react-query";
import { api, ApiError, keys, type Schemas, setToken, unwrap } from "@/shared/client";

export type Session = Schemas["SessionView"];

/** Whether somebody sees what touches a worker's health, as the server judges it. */
export function seesHealth(session: Session | null | undefined): boolean {
  return session?.roles.some((role) => role === "tester" || role === "administrator") ?? false;
}

/** Who is signed in; null when nobody is. */
export function useSession() {
  return useQuery({
    queryKey: keys.session,
    staleTime: 60_000,
    queryFn: async (): Promise<Session | null> => {
      try {
        const session = await unwrap(api.GET("/api/session"));
        setToken(session.token);
        return session;
      } catch (error) {
        if (error instanceof ApiError && error.status === 401) return null;
        throw error;
      }
    },
  });
}
