import { hashKey, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Navigate, RouterProvider, useLocation } from "react-router";
import { Broken } from "./frame/Broken";
import { Frame } from "./frame/Frame";
import { where, whereKey } from "./frame/where";
import { ChangesPlace } from "./places/changes/ChangesPlace";
import { HistoryPlace } from "./places/changes/HistoryPlace";
import { PlanPlace, PlansPlace } from "./places/changes/PlanPlace";
import { WindowsPlace } from "./places/changes/WindowsPlace";
import { ReviewPlace } from "./places/changes/ReviewPlace";
import { RevisionPlace } from "./places/changes/RevisionPlace";
import { BeginPlace } from "./places/begin/BeginPlace";
import { BoardPlace } from "./places/board/BoardPlace";
import { EstatePlace } from "./places/estate/EstatePlace";
import { FailuresPlace } from "./places/findings/FailuresPlace";
import { FindingsPlace } from "./places/findings/FindingsPlace";
import { LanesPlace } from "./places/lanes/LanesPlace";
import { LabelsPlace } from "./places/labels/LabelsPlace";
import { PeoplePlace } from "./places/people/PeoplePlace";
import { SignInPlace } from "./places/signin/SignInPlace";
import { RulesPlace } from "./places/rules/RulesPlace";
import { TargetsPlace } from "./places/targets/TargetsPlace";
import "./styles.css";

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      // The same question of something else is another.
      queryKeyHashFn: (key) => `${whereKey(where())} ${hashKey(key)}`,
      staleTime: 30_000,
      refetchOnWindowFocus: true,
      retry: 1,
    },
  },
});

function Home() {
  const { search } = useLocation();
  return <Navigate to={{ pathname: "/board", search }} replace />;
}

const places = [
  { path: "/", element: <Home /> },
  { path: "/begin", element: <BeginPlace /> },
  { path: "/estate", element: <EstatePlace /> },
  { path: "/estate/labels", element: <LabelsPlace /> },
  { path: "/lanes", element: <LanesPlace /> },
  { path: "/board", element: <BoardPlace /> },
  { path: "/findings", element: <FindingsPlace /> },
  { path: "/findings/failures", element: <FailuresPlace /> },
  { path: "/changes", element: <ChangesPlace /> },
  { path: "/changes/history", element: <HistoryPlace /> },
  { path: "/changes/history/:from/:to", element: <RevisionPlace /> },
  { path: "/changes/windows", element: <WindowsPlace /> },
  { path: "/changes/plans", element: <PlansPlace /> },
  { path: "/changes/plans/:id", element: <PlanPlace /> },
  { path: "/changes/:id", element: <ReviewPlace /> },
  { path: "/people", element: <PeoplePlace /> },
  { path: "/people/:tab", element: <PeoplePlace /> },
  { path: "/rules", element: <RulesPlace /> },
  { path: "/rules/:kind", element: <RulesPlace /> },
  { path: "/rules/:kind/:name", element: <RulesPlace /> },
  { path: "/targets", element: <TargetsPlace /> },
  { path: "/targets/:kind", element: <TargetsPlace /> },
  { path: "/targets/:kind/:name", element: <TargetsPlace /> },
  { path: "*", element: <Home /> },
];

// A place that fails leaves the frame standing.
const router = createBrowserRouter([
  { path: "/sign-in", element: <SignInPlace />, errorElement: <Broken /> },
  {
    element: <Frame />,
    errorElement: <Broken />,
    children: [{ errorElement: <Broken />, children: places }],
  },
]);

const root = document.getElementById("root");
if (!root) throw new Error("the page has no root");
createRoot(root).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
);
