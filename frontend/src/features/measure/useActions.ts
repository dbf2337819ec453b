import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useCallback } from "react";
import { useNavigate } from "react-router";
import { api, type Measuring, type Schema, type TestIn, unwrap } from "../../api/client";
import { measuringQuery } from "../../api/queries";

type Reading = Measuring["readings"][number];

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
    mutationFn: async ({ reading, reason }: { reading: Reading; reason: string }) =>
      unwrap(
        await api.POST("/api/v1/diagnoses/{diagnosis_id}/readings/{reading_id}/void", {
          params: { path: { diagnosis_id: diagnosisId, reading_id: reading.id } },
          body: { client_key: crypto.randomUUID(), reason },
        }),
      ),
    onSuccess: take,
  });
  const exclude = useMutation({
    mutationFn: async (body: Omit<Schema["ExclusionIn"], "client_key">) =>
      unwrap(
        await api.POST("/api/v1/diagnoses/{diagnosis_id}/exclusions", {
          ...path,
          body: { client_key: crypto.randomUUID(), ...body },
        }),
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
    mutationFn: async () =>
      unwrap(
        await api.POST("/api/v1/diagnoses/{diagnosis_id}/conclusion", {
          ...path,
          body: { client_key: crypto.randomUUID() },
        }),
      ),
    onSuccess: (answer) => {
      take(answer);
      navigate(`/measure/${diagnosisId}/diagnosis`);
    },
  });
  return { void_, exclude, meter, conclude };
}
