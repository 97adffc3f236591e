import { createBrowserRouter, Navigate, type RouteObject } from "react-router";
import { Shell } from "@/app/Shell";
import { ofItsOwn } from "@/app/ofItsOwn";

/** A page that is fetched when it is first gone to. */
function page(path: string, load: () => Promise<React.ComponentType>): RouteObject {
  const lazy = { Component: async () => ofItsOwn(await load()) };
  return path ? { path, lazy } : { index: true, lazy };
}

export const router = createBrowserRouter([
  page("/w/:token", async () => (await import("@/rooms/bench/wearer/WearerPage")).WearerPage),
  page("/c/:code", async () => (await import("@/rooms/papers/CodePage")).CodePage),
  page("/gate/:secret", async () => (await import("@/rooms/crews/GatePage")).GatePage),
  page("/setup", async () => (await import("@/rooms/setup/SetupPage")).SetupPage),
  page("/join/:token", async () => (await import("@/rooms/setup/JoinPage")).JoinPage),
  {
    path: "/",
    element: <Shell />,
    hydrateFallbackElement: <></>,
    children: [
      page("", async () => (await import("@/rooms/today/TodayPage")).TodayPage),
      page("visit/:visitId", async () => (await import("@/rooms/bench/BenchPage")).BenchPage),
      page("people", async () => (await import("@/rooms/people/PeoplePage")).PeoplePage),
      page("people/:personId", async () => (await import("@/rooms/person/PersonPage")).PersonPage),
      page("tomorrow", async () => (await import("@/rooms/crews/TomorrowPage")).TomorrowPage),
      page("outbox", async () => (await import("@/rooms/mail/OutboxPage")).OutboxPage),
      page("due", async () => (await import("@/rooms/due/DuePage")).DuePage),
      page("records", async () => (await import("@/rooms/records/RecordsPage")).RecordsPage),
      page("history", async () => (await import("@/rooms/wear/HistoryPage")).HistoryPage),
      page("results", async () => (await import("@/rooms/results/ResultsPage")).ResultsPage),
      page("kit", async () => (await import("@/rooms/kit/KitPage")).KitPage),
      page("facepieces", async () => (await import("@/rooms/facepieces/CataloguePage")).CataloguePage),
      page("rules", async () => (await import("@/rooms/sites/RulesPage")).RulesPage),
      page("import", async () => (await import("@/rooms/people/ImportPage")).ImportPage),
      page("account", async () => (await import("@/rooms/accounts/AccountPage")).AccountPage),
      {
        path: "admin",
        lazy: { Component: async () => (await import("@/app/AdminPage")).AdminPage },
        children: [
          page("", async () => (await import("@/rooms/setup/Overview")).Overview),
          page("places", async () => (await import("@/rooms/sites/PlacesPage")).PlacesPage),
          page("accounts", async () => (await import("@/rooms/accounts/ColleaguesPage")).ColleaguesPage),
          page("instruments", async () => (await import("@/rooms/kit/InstrumentsPage")).InstrumentsPage),
          page("facepieces", async () => (await import("@/rooms/facepieces/FacepieceFormPage")).FacepieceFormPage),
          page("tokens", async () => (await import("@/rooms/accounts/TokensPage")).TokensPage),
          page("journal", async () => (await import("@/rooms/proof/JournalPage")).JournalPage),
        ],
      },
      { path: "*", element: <Navigate to="/" replace /> },
    ],
  },
]);
