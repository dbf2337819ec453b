import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useCallback } from "react";
import { useNavigate } from "react-router";
import { api, type Measuring, type Schema, type TestIn, unwrap } from "../../api/client";
import { measuringQuery } from "../../api/queries";
import { sendOnce } from "../../lib/keys";

type Reading = Measuring["readings"][number];

/** What is left out or seized; only what is seized has minutes and a price. */
type Excluding = Pick<Schema["ExclusionIn"], "kind" | "name" | "excluded"> &
  Partial<Pick<Schema["ExclusionIn"], "minutes" | "price">>;

/** Everything that changes a diagnosis on the server; each answer is the diagnosis as it then stands. */
export function useActions(diagnosisId: string, onMeter: (entry: string) => void, onExcluded: () => void) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const path = { params: { path: { diagnosis_id: diagnosisId } } };
  const take = useCallback(
    (answer: Measuring) => {
      client.setQueryData(measuringQuery(diagnosisId).queryKey, answer);
      for (const key of ["jobs", "job", "timeline"])
        client.invalidateQueries({ queryKey: [key], refetchType: "none" });
    },
    [client, diagnosisId],
  );
  const void_ = useMutation({
    mutationFn: ({ reading, reason }: { reading: Reading; reason: string }) =>
      sendOnce(["void", reading.id, reason], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/diagnoses/{diagnosis_id}/readings/{reading_id}/void", {
            params: { path: { diagnosis_id: diagnosisId, reading_id: reading.id } },
            body: { client_key, reason },
          }),
        ),
      ),
    onSuccess: take,
  });
  const exclude = useMutation({
    mutationFn: (body: Excluding) =>
      sendOnce(["exclude", diagnosisId, body], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/diagnoses/{diagnosis_id}/exclusions", {
            ...path,
            body: { client_key, minutes: null, price: null, ...body },
          }),
        ),
      ),
    onSuccess: (answer) => {
      take(answer);
      onExcluded();
    },
  });
  const meter = useMutation({
    mutationFn: async (body: TestIn) =>
      unwrap(await api.POST("/api/v1/diagnoses/{diagnosis_id}/meter", { ...path, body })),
    onSuccess: ({ entry }) => onMeter(entry),
  });
  const conclude = useMutation({
    // What is concluded is what this screen shows: had anything come since, the server would say so instead.
    mutationFn: () => {
      const seen = client.getQueryData(measuringQuery(diagnosisId).queryKey)?.evidence_seq ?? 0;
      return sendOnce(["conclude", diagnosisId, seen], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/diagnoses/{diagnosis_id}/conclusion", {
            ...path,
            body: { client_key, seen_seq: seen },
          }),
        ),
      );
    },
    onError: () => client.invalidateQueries(measuringQuery(diagnosisId)),
    onSuccess: (answer) => {
      take(answer);
      navigate(`/measure/${diagnosisId}/diagnosis`);
    },
  });
  return { void_, exclude, meter, conclude };
}
