import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { benchQuery, circuitQuery } from "../../api/queries";
import { Notice } from "../../ui/Notice";
import { useJobEvents } from "../intake/useJobEvents";
import { OpenBench } from "./OpenBench";

/** The bench: what do I measure next, and what did it tell me? */
export function BenchPage() {
  const { diagnosisId = "" } = useParams();
  const bench = useQuery(benchQuery(diagnosisId));
  const circuit = useQuery(circuitQuery(bench.data?.diagnosis.circuit_version_id));
  useJobEvents(bench.data?.job.id);
  const failed = (bench.data ? null : bench.error) ?? (circuit.data ? null : circuit.error);
  if (failed) {
    return (
      <main className="mx-auto max-w-3xl p-6">
        <h1 className="mb-3 text-2xl">This bench cannot be opened</h1>
        <Notice tone="problem">
          {failed.message} What was recorded is kept. Reload when the server is back, or go to the jobs.
        </Notice>
      </main>
    );
  }
  if (!bench.data || !circuit.data) {
    return (
      <main className="p-6" aria-busy="true">
        Working out what every reading would be under every fault …
      </main>
    );
  }
  return <OpenBench key={diagnosisId} bench={bench.data} circuit={circuit.data} />;
}
