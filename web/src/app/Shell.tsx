import { useMantineColorScheme } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link, NavLink, Outlet, useLocation } from "react-router";
import { api } from "@/shared/client";
import { measureClock } from "@/shared/clock";
import { useSession } from "@/shared/session";
import { Failed, Loading } from "@/design/States";
import { SignIn } from "@/features/signin/SignIn";

/** The frame of every page: signs in first, then the few places there are. */
export function Shell() {
  const session = useSession();
  const queries = useQueryClient();
  const { colorScheme, setColorScheme } = useMantineColorScheme();
  const isBench = useLocation().pathname.startsWith("/visit/");
  useEffect(() => {
    void measureClock();
    const timer = window.setInterval(() => void measureClock(), 300_000);
    return () => window.clearInterval(timer);
  }, []);
  if (session.isPending) return <Loading what="Moorfog" />;
  if (session.isError) return <Failed error={session.error} again={() => void session.refetch()} />;
  if (session.data === null) return <SignIn />;
  const signOut = async () => {
    await api.DELETE("/api/session");
    queries.clear();
    window.location.assign("/");
  };
  const isDark =
    colorScheme === "dark" || (colorScheme === "auto" && window.matchMedia("(prefers-color-scheme: dark)").matches);
  if (isBench) return <Outlet />;
  return (
    <div className="shell">
      <header className="top">
        <Link to="/" className="brand">
          Moorfog
        </Link>
        <nav aria-label="Places">
          <NavLink to="/" end>
            Today
          </NavLink>
          <NavLink to="/people">People</NavLink>
          <NavLink to="/results">Pass results</NavLink>
          <NavLink to="/facepieces">Facepieces</NavLink>
          <NavLink to="/kit">Kit</NavLink>
          <NavLink to="/rules">Rules</NavLink>
        </nav>
        <div className="right">
          <button type="button" className="quiet" onClick={() => setColorScheme(isDark ? "light" : "dark")}>
            {isDark ? "Light" : "Dark"}
          </button>
          <span>
            {session.data.name}, {session.data.roles.join(", ")}
          </span>
          <button type="button" className="quiet" onClick={() => void signOut()}>
            Sign out
          </button>
        </div>
      </header>
      <Outlet />
    </div>
  );
}
