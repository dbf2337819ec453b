import { queryOptions, useQueryClient } from "@tanstack/react-query";
import { api, type JobDetail, type Schema, unwrap } from "../../api/client";
import { jobQuery } from "../../api/queries";

export type Verification = Schema["VerificationView"];

export const verificationQuery = (jobId: string, seq: number) =>
  queryOptions({
    queryKey: ["verification", jobId, seq],
    placeholderData: (before: Verification | undefined) => before,
    queryFn: async () =>
      unwrap(await api.GET("/api/v1/jobs/{job_id}/verification", { params: { path: { job_id: jobId } } })),
  });

/** What to do with the job as it is after a change: shown, and the verification worked out anew. */
export function useChangedJob(jobId: string): (detail: JobDetail) => void {
  const client = useQueryClient();
  return (detail) => {
    client.setQueryData(jobQuery(jobId).queryKey, detail);
    client.invalidateQueries({ queryKey: ["jobs"] });
  };
}
