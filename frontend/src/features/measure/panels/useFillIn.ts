import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, type Schema, unwrap } from "../../../api/client";
import { measuringQuery } from "../../../api/queries";
import { sendOnce } from "../../../lib/keys";

/** What has become known of a circuit is sent once, and the page goes on with the new drawing. */
export function useFillIn(diagnosisId: string, onDone: () => void = () => {}) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (changes: Schema["FillIn"][]) =>
      sendOnce(["fill in", diagnosisId, changes], async (client_key) =>
        unwrap(
          await api.PUT("/api/v1/diagnoses/{diagnosis_id}/known", {
            params: { path: { diagnosis_id: diagnosisId } },
            body: { client_key, changes },
          }),
        ),
      ),
    onSuccess: (answer) => {
      client.setQueryData(measuringQuery(diagnosisId).queryKey, answer);
      client.removeQueries({ queryKey: ["known", diagnosisId] });
      client.invalidateQueries({ queryKey: ["timeline"], refetchType: "none" });
      onDone();
    },
  });
}
