import { createBrowserRouter, Navigate } from "react-router";
import { Shell } from "@/app/Shell";
import { BenchPage } from "@/features/bench/BenchPage";
import { CataloguePage } from "@/features/catalogue/CataloguePage";
import { KitPage } from "@/features/kit/KitPage";
import { ImportPage } from "@/features/person/ImportPage";
import { PeoplePage } from "@/features/person/PeoplePage";
import { PersonPage } from "@/features/person/PersonPage";
import { RulesPage } from "@/features/rules/RulesPage";
import { ResultsPage } from "@/features/results/ResultsPage";
import { WearerPage } from "@/features/wearer/WearerPage";
import { TodayPage } from "@/features/today/TodayPage";

export const router = createBrowserRouter([
  { path: "/w/:token", element: <WearerPage /> },
  {
    path: "/",
    element: <Shell />,
    children: [
      { index: true, element: <TodayPage /> },
      { path: "visit/:visitId", element: <BenchPage /> },
      { path: "people", element: <PeoplePage /> },
      { path: "people/:personId", element: <PersonPage /> },
      { path: "results", element: <ResultsPage /> },
      { path: "kit", element: <KitPage /> },
      { path: "facepieces", element: <CataloguePage /> },
      { path: "rules", element: <RulesPage /> },
      { path: "import", element: <ImportPage /> },
      { path: "*", element: <Navigate to="/" replace /> },
    ],
  },
]);
