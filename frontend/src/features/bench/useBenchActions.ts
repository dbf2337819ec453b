import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useCallback } from "react";
import { useNavigate } from "react-router";
import { api, type Bench, type Schema, type TestIn, unwrap } from "../../api/client";
import { benchQuery } from "../../api/queries";

type Reading = Bench["readings"][number];

/** Everything that changes the bench on the server; each answer is the bench as it then stands. */
export function useBenchActions(chaseId: string, onMeter: (entry: string) => void, onExcluded: () => void) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const path = { params: { path: { chase_id: chaseId } } };
  const take = useCallback(
    (answer: Bench) => {
      client.setQueryData(benchQuery(chaseId).queryKey, answer);
      client.invalidateQueries({ queryKey: ["jobs"] });
    },
    [client, chaseId],
  );
  const retract = useMutation({
    mutationFn: async ({ reading, reason }: { reading: Reading; reason: string }) =>
      unwrap(
        await api.POST("/api/v1/chases/{chase_id}/readings/{reading_id}/retraction", {
          params: { path: { chase_id: chaseId, reading_id: reading.id } },
          body: { client_key: crypto.randomUUID(), reason },
        }),
      ),
    onSuccess: take,
  });
  const exclude = useMutation({
    mutationFn: async (body: Omit<Schema["ExclusionIn"], "client_key">) =>
      unwrap(
        await api.POST("/api/v1/chases/{chase_id}/exclusions", {
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
      unwrap(await api.POST("/api/v1/chases/{chase_id}/meter", { ...path, body })),
    onSuccess: ({ entry }) => onMeter(entry),
  });
  const call = useMutation({
    mutationFn: async () =>
      unwrap(
        await api.POST("/api/v1/chases/{chase_id}/verdict", {
          ...path,
          body: { client_key: crypto.randomUUID() },
        }),
      ),
    onSuccess: (answer) => {
      take(answer);
      navigate(`/bench/${chaseId}/verdict`);
    },
  });
  return { retract, exclude, meter, call };
}
