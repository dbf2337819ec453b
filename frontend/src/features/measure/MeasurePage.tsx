import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { circuitQuery, measuringQuery } from "../../api/queries";
import { Notice } from "../../ui/Notice";
import { useJobEvents } from "../job/useJobEvents";
import { OpenDiagnosis } from "./OpenDiagnosis";

/** Measuring: which test is next, and what did the last one tell? */
export function MeasurePage() {
  const { diagnosisId = "" } = useParams();
  const measuring = useQuery(measuringQuery(diagnosisId));
  const circuit = useQuery({
    ...circuitQuery(measuring.data?.diagnosis.circuit_version_id),
    placeholderData: keepPreviousData,
  });
  useJobEvents(measuring.data?.job.id, measuring.data?.job.last_seq);
  const failed = (measuring.data ? null : measuring.error) ?? (circuit.data ? null : circuit.error);
  if (failed) {
    return (
      <main className="mx-auto max-w-3xl p-6">
        <h1 className="mb-3 text-2xl">This circuit diagnosis cannot be opened</h1>
        <Notice tone="problem">
          {failed.message} What was recorded is kept. Reload when the server is back, or go to the jobs.
        </Notice>
      </main>
    );
  }
  if (!measuring.data || !circuit.data) {
    return (
      <main className="p-6" aria-busy="true">
        Calculating every reading under every fault …
      </main>
    );
  }
  return <OpenDiagnosis key={diagnosisId} measuring={measuring.data} circuit={circuit.data} />;
}
