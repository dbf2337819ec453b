import { Link, Route, Routes } from "react-router";
import { BenchPage } from "../features/bench/BenchPage";
import { JobsPage } from "../features/jobs/JobsPage";
import { NewJobPage } from "../features/jobs/NewJobPage";
import { VerdictPage } from "../features/verdict/VerdictPage";
import { Notice } from "../ui/Notice";
import { Shell } from "./Shell";

/** The screens: jobs, new job, bench, verdict. */
export function App() {
  return (
    <Routes>
      <Route element={<Shell />}>
        <Route index element={<JobsPage />} />
        <Route path="jobs/new" element={<NewJobPage />} />
        <Route path="jobs/:jobId" element={<BenchPage />} />
        <Route path="jobs/:jobId/verdict" element={<VerdictPage />} />
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
