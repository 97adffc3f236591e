import { useMantineColorScheme } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, NavLink, Outlet, useLocation } from "react-router";
import { api } from "@/shared/client";
import { keepMeasuring } from "@/shared/clock";
import { keptByVisit } from "@/shared/outbox";
import { useSession } from "@/shared/session";
import { Failed, Loading } from "@/design/States";
import { useTitle } from "@/shared/title";
import { SignOutAnyway, UnsentNote } from "@/app/Unsent";
import { SignIn } from "@/rooms/accounts/SignIn";

const PLACES = [
  ["/", "Today"],
  ["/tomorrow", "Tomorrow"],
  ["/due", "Due"],
  ["/people", "People"],
  ["/records", "Records"],
  ["/results", "Pass results"],
  ["/facepieces", "Facepieces"],
  ["/kit", "Kit"],
  ["/rules", "Rules"],
] as const;
const ADMIN = ["/admin", "Administration"] as const;

/** The frame of every page: signs in first, then the few places there are. */
export function Shell() {
  const session = useSession();
  const queries = useQueryClient();
  const { colorScheme, setColorScheme } = useMantineColorScheme();
  const { pathname } = useLocation();
  const isBench = pathname.startsWith("/visit/");
  const isAdmin = session.data?.roles.includes("administrator") ?? false;
  const places = isAdmin ? [...PLACES, ADMIN] : PLACES;
  const place = places.find(([path]) => (path === "/" ? pathname === path : pathname.startsWith(path)));
  useTitle(session.data === null ? "Sign in" : isBench ? "Bench" : (place?.[1] ?? ""));
  const [asked, setAsked] = useState(0);
  useEffect(keepMeasuring, []);
  if (session.isPending) return <Loading what="Moorfog" />;
  if (session.isError) return <Failed error={session.error} again={() => void session.refetch()} />;
  if (session.data === null) return <SignIn />;
  const askToSignOut = async () => {
    const unsent = await keptByVisit().catch(() => new Map<string, number>());
    const count = [...unsent.values()].reduce((sum, one) => sum + one, 0);
    if (count) setAsked(count);
    else await signOut();
  };
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
          {places.map(([path, name]) => (
            <NavLink key={path} to={path} end={path === "/"}>
              {name}
            </NavLink>
          ))}
        </nav>
        <div className="right">
          <button type="button" className="quiet" onClick={() => setColorScheme(isDark ? "light" : "dark")}>
            {isDark ? "Light" : "Dark"}
          </button>
          <Link to="/account">{session.data.name}</Link>
          <button type="button" className="quiet" onClick={() => void askToSignOut()}>
            Sign out
          </button>
        </div>
      </header>
      <UnsentNote />
      {asked > 0 && <SignOutAnyway count={asked} stay={() => setAsked(0)} go={() => void signOut()} />}
      <Outlet />
    </div>
  );
}
