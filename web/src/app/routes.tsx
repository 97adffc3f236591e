import { createBrowserRouter, Navigate, type RouteObject } from "react-router";
import { Shell } from "@/app/Shell";
import { ofItsOwn } from "@/app/ofItsOwn";

/** A page that is fetched when it is first gone to. */
function page(path: string, load: () => Promise<React.ComponentType>): RouteObject {
  const lazy = { Component: async () => ofItsOwn(await load()) };
  return path ? { path, lazy } : { index: true, lazy };
}

export const router = createBrowserRouter([
  page("/w/:token", async () => (await import("@/features/wearer/WearerPage")).WearerPage),
  page("/c/:code", async () => (await import("@/features/code/CodePage")).CodePage),
  page("/gate/:secret", async () => (await import("@/features/gate/GatePage")).GatePage),
  page("/setup", async () => (await import("@/features/setup/SetupPage")).SetupPage),
  page("/join/:token", async () => (await import("@/features/setup/JoinPage")).JoinPage),
  {
    path: "/",
    element: <Shell />,
    hydrateFallbackElement: <></>,
    children: [
      page("", async () => (await import("@/features/today/TodayPage")).TodayPage),
      page("visit/:visitId", async () => (await import("@/features/bench/BenchPage")).BenchPage),
      page("people", async () => (await import("@/features/person/PeoplePage")).PeoplePage),
      page("people/:personId", async () => (await import("@/features/person/PersonPage")).PersonPage),
      page("tomorrow", async () => (await import("@/features/tomorrow/TomorrowPage")).TomorrowPage),
      page("outbox", async () => (await import("@/features/outbox/OutboxPage")).OutboxPage),
      page("due", async () => (await import("@/features/tomorrow/DuePage")).DuePage),
      page("records", async () => (await import("@/features/records/RecordsPage")).RecordsPage),
      page("history", async () => (await import("@/features/records/HistoryPage")).HistoryPage),
      page("results", async () => (await import("@/features/results/ResultsPage")).ResultsPage),
      page("kit", async () => (await import("@/features/kit/KitPage")).KitPage),
      page("facepieces", async () => (await import("@/features/catalogue/CataloguePage")).CataloguePage),
      page("rules", async () => (await import("@/features/rules/RulesPage")).RulesPage),
      page("import", async () => (await import("@/features/person/ImportPage")).ImportPage),
      page("account", async () => (await import("@/features/account/AccountPage")).AccountPage),
      {
        path: "admin",
        lazy: { Component: async () => (await import("@/features/admin/AdminPage")).AdminPage },
        children: [
          page("", async () => (await import("@/features/admin/Overview")).Overview),
          page("places", async () => (await import("@/features/admin/PlacesPage")).PlacesPage),
          page("accounts", async () => (await import("@/features/admin/ColleaguesPage")).ColleaguesPage),
          page("instruments", async () => (await import("@/features/admin/InstrumentsPage")).InstrumentsPage),
          page("facepieces", async () => (await import("@/features/admin/FacepieceFormPage")).FacepieceFormPage),
          page("tokens", async () => (await import("@/features/admin/TokensPage")).TokensPage),
          page("journal", async () => (await import("@/features/admin/JournalPage")).JournalPage),
        ],
      },
      { path: "*", element: <Navigate to="/" replace /> },
    ],
  },
]);
