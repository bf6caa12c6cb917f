import { Center, Loader } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { Navigate, Route, Routes, useLocation } from "react-router";
import { answer, GET, Problem } from "./api";
import { AccountPage } from "./pages/AccountPage";
import { AccountsPage } from "./pages/AccountsPage";
import { AdministratorsPage } from "./pages/AdministratorsPage";
import { ComparePage } from "./pages/ComparePage";
import { DirectoriesPage } from "./pages/DirectoriesPage";
import { DraftPage, DraftsPage } from "./pages/DraftsPage";
import { EndpointsPage } from "./pages/EndpointsPage";
import { FolderPage } from "./pages/FolderPage";
import { GroupsPage } from "./pages/GroupsPage";
import { JournalPage } from "./pages/JournalPage";
import { MapPage } from "./pages/MapPage";
import { OverviewPage } from "./pages/OverviewPage";
import { PatternPage, PatternsPage } from "./pages/PatternsPage";
import { PromisesPage } from "./pages/PromisesPage";
import { RehearsalPage } from "./pages/RehearsalPage";
import { ReportPage, ReportsPage } from "./pages/ReportsPage";
import { SignInPage } from "./pages/SignInPage";
import { SubjectPage } from "./pages/SubjectPage";
import { TrialsPage } from "./pages/TrialsPage";
import { VirtualPathsPage } from "./pages/VirtualPathsPage";
import { WhoPage } from "./pages/WhoPage";
import { Shell } from "./parts/Shell";
import { Failed } from "./parts/states";

/** The plots are heavy: they come when they are looked at. */
const LimitsPage = lazy(() => import("./pages/LimitsPage").then((m) => ({ default: m.LimitsPage })));

export function App() {
  const location = useLocation();
  const signedIn = useQuery({
    queryKey: ["session"],
    queryFn: () => answer(GET("/api/v1/sessions")),
    staleTime: 60_000,
    enabled: location.pathname !== "/sign-in",
  });
  if (location.pathname === "/sign-in") return <SignInPage />;
  if (signedIn.isPending) {
    return (
      <Center h="100vh">
        <Loader />
      </Center>
    );
  }
  if (signedIn.error) {
    if (signedIn.error instanceof Problem && signedIn.error.status === 401) {
      const next = location.pathname + location.search;
      return <Navigate to={`/sign-in?next=${encodeURIComponent(next)}`} replace />;
    }
    return (
      <Center h="100vh">
        <Failed error={signedIn.error} again={() => signedIn.refetch()} />
      </Center>
    );
  }
  return (
    <Shell who={signedIn.data}>
      <Routes>
        <Route path="/" element={<OverviewPage />} />
        <Route path="/accounts" element={<AccountsPage />} />
        <Route path="/accounts/:name" element={<AccountPage />} />
        <Route path="/groups" element={<GroupsPage />} />
        <Route path="/subjects/:subject" element={<SubjectPage />} />
        <Route path="/directories" element={<DirectoriesPage />} />
        <Route path="/stores" element={<FolderPage />} />
        <Route path="/virtual-paths" element={<VirtualPathsPage />} />
        <Route path="/endpoints" element={<EndpointsPage />} />
        <Route
          path="/limits"
          element={
            <Suspense fallback={<Loader m={24} size="sm" />}>
              <LimitsPage />
            </Suspense>
          }
        />
        <Route path="/map" element={<MapPage />} />
        <Route path="/who" element={<WhoPage />} />
        <Route path="/promises" element={<PromisesPage />} />
        <Route path="/trials" element={<TrialsPage />} />
        <Route path="/rehearsal" element={<RehearsalPage />} />
        <Route path="/compare" element={<ComparePage />} />
        <Route path="/patterns" element={<PatternsPage />} />
        <Route path="/patterns/:name" element={<PatternPage />} />
        <Route path="/drafts" element={<DraftsPage />} />
        <Route path="/drafts/:name" element={<DraftPage />} />
        <Route path="/reports" element={<ReportsPage />} />
        <Route path="/reports/:number" element={<ReportPage />} />
        <Route path="/administrators" element={<AdministratorsPage />} />
        <Route path="/journal" element={<JournalPage />} />
        <Route path="*" element={<Failed error={new Problem(404, "There is no such page.")} />} />
      </Routes>
    </Shell>
  );
}
