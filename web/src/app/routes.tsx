import { createBrowserRouter, Navigate, type RouteObject } from "react-router";
import { Shell } from "@/app/Shell";
import { WearerPage } from "@/features/wearer/WearerPage";

/** A page that is fetched when it is first gone to. */
function page(path: string, load: () => Promise<React.ComponentType>): RouteObject {
  const lazy = { Component: load };
  return path ? { path, lazy } : { index: true, lazy };
}

export const router = createBrowserRouter([
  { path: "/w/:token", element: <WearerPage /> },
  {
    path: "/",
    element: <Shell />,
    hydrateFallbackElement: <></>,
    children: [
      page("", async () => (await import("@/features/today/TodayPage")).TodayPage),
      page("visit/:visitId", async () => (await import("@/features/bench/BenchPage")).BenchPage),
      page("people", async () => (await import("@/features/person/PeoplePage")).PeoplePage),
      page("people/:personId", async () => (await import("@/features/person/PersonPage")).PersonPage),
      page("results", async () => (await import("@/features/results/ResultsPage")).ResultsPage),
      page("kit", async () => (await import("@/features/kit/KitPage")).KitPage),
      page("facepieces", async () => (await import("@/features/catalogue/CataloguePage")).CataloguePage),
      page("rules", async () => (await import("@/features/rules/RulesPage")).RulesPage),
      page("import", async () => (await import("@/features/person/ImportPage")).ImportPage),
      { path: "*", element: <Navigate to="/" replace /> },
    ],
  },
]);
