import { useQuery } from "@tanstack/react-query";
import { api, ApiError, keys, type Schemas, setToken, unwrap } from "@/shared/client";

export type Session = Schemas["SessionView"];

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
