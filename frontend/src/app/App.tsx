import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { Link, Navigate, Route, Routes, useParams } from "react-router";
import { setupQuery } from "../api/queries";
import { useMe } from "../api/session";
import { SetUpPage } from "../features/account/SetUpPage";
import { SignInPage } from "../features/account/SignInPage";
import { CheckInPage } from "../features/check-in/CheckInPage";
import { DiagnosisPage } from "../features/diagnosis/DiagnosisPage";
import { JobPage } from "../features/job/JobPage";
import { JobsPage } from "../features/jobs/JobsPage";
import { MeasurePage } from "../features/measure/MeasurePage";
import { SharedPage } from "../features/shared/SharedPage";
import { Notice } from "../ui/Notice";
import { Shell } from "./Shell";

const CircuitsPage = lazy(() => import("../features/circuits/CircuitsPage"));
const CircuitPage = lazy(() => import("../features/circuits/CircuitPage"));
const DescribePage = lazy(() => import("../features/describe/DescribePage"));
const RecordingPage = lazy(() => import("../features/recordings/RecordingPage"));
const CodesPage = lazy(() => import("../features/codes/CodesPage"));
const CodePage = lazy(() => import("../features/codes/CodePage"));
const PartsPage = lazy(() => import("../features/parts/PartsPage"));
const GatherPage = lazy(() => import("../features/vehicles/GatherPage"));
const VehiclePage = lazy(() => import("../features/vehicles/VehiclePage"));
const SettingsPage = lazy(() => import("../features/settings/SettingsPage"));

/** The screens. A share link opens without signing in; everything else asks who is there. */
export function App() {
  return (
    <Routes>
      <Route path="s/:token" element={<SharedPage />} />
      <Route path="*" element={<Inside />} />
    </Routes>
  );
}

function Inside() {
  const me = useMe();
  const setup = useQuery({ ...setupQuery, enabled: me.data?.signed_in === false });
  if (me.error && !me.data) {
    return (
      <main className="mx-auto max-w-xl p-6">
        <h1 className="mb-3 text-2xl">Sondar does not answer</h1>
        <Notice tone="problem">Nothing is lost. Reload when the server is back.</Notice>
      </main>
    );
  }
  if (!me.data || (!me.data.signed_in && setup.isPending))
    return (
      <main className="p-6" aria-busy="true">
        …
      </main>
    );
  if (!me.data.signed_in) return setup.data?.needed ? <SetUpPage /> : <SignInPage />;
  return (
    <Routes>
      <Route element={<Shell />}>
        <Route index element={<JobsPage />} />
        <Route path="jobs/new" element={<CheckInPage />} />
        <Route path="jobs/:jobId" element={<JobPage />} />
        <Route path="measure/:diagnosisId" element={<MeasurePage />} />
        <Route path="measure/:diagnosisId/diagnosis" element={<DiagnosisPage />} />
        <Route path="bench/:diagnosisId/*" element={<FormerAddress />} />
        {(
          [
            ["circuits", CircuitsPage],
            ["circuits/:versionId", CircuitPage],
            ["describe", DescribePage],
            ["describe/:versionId", DescribePage],
            ["recordings/:recordingId", RecordingPage],
            ["codes", CodesPage],
            ["codes/:code", CodePage],
            ["parts", PartsPage],
            ["vehicles/new", GatherPage],
            ["vehicles/:slug", VehiclePage],
          ] as const
        ).map(([path, Page]) => (
          <Route
            key={path}
            path={path}
            element={
              <Suspense fallback={<main className="p-6">…</main>}>
                <Page />
              </Suspense>
            }
          />
        ))}
        <Route
          path="settings"
          element={
            <Suspense fallback={<main className="p-6">…</main>}>
              <SettingsPage />
            </Suspense>
          }
        />
        <Route
          path="*"
          element={
            <main className="mx-auto max-w-3xl p-6">
              <h1 className="mb-3 text-2xl">No such page</h1>
              <Notice tone="problem">
                This address leads nowhere. <Link to="/">Go to the jobs.</Link>
              </Notice>
            </main>
          }
        />
      </Route>
    </Routes>
  );
}

/** Addresses of the first versions, kept in bookmarks and printouts. */
function FormerAddress() {
  const { diagnosisId, "*": rest } = useParams();
  return <Navigate to={`/measure/${diagnosisId}${rest ? "/diagnosis" : ""}`} replace />;
}
