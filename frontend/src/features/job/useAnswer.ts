import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, type JobDetail, type Problem, type Schema, unwrap } from "../../api/client";
import { jobQuery } from "../../api/queries";

type AnswerValue = Schema["AnswerIn"]["value"];

/** Someone else's answer to the same question, given meanwhile. */
export interface CurrentAnswer {
  value: unknown;
  seq: number;
  by: string | null;
}

/** One field of the check-in: its latest value, and how to answer it without overwriting anyone unseen. */
export function useAnswer<T>(detail: JobDetail, field: string, fallback: T) {
  const client = useQueryClient();
  const jobId = detail.job.id;
  const found = detail.answers[field];
  const [conflict, setConflict] = useState<{ mine: T; theirs: CurrentAnswer } | null>(null);
  const save = useMutation({
    retry: (count, error) => !(error instanceof ApiError) && count < 40,
    retryDelay: 1500,
    // The key is the entry's, not the attempt's: an answer whose confirmation was lost is not given twice.
    mutationFn: async ({ value, seen, key }: { value: T; seen: number; key: string }) =>
      unwrap(
        await api.PUT("/api/v1/jobs/{job_id}/answers/{field}", {
          params: { path: { job_id: jobId, field } },
          body: { client_key: key, value: value as AnswerValue, seen_seq: seen },
        }),
      ),
    onSuccess: (answer) => {
      setConflict(null);
      client.setQueryData(jobQuery(jobId).queryKey, answer);
      client.invalidateQueries({ queryKey: ["jobs"] });
    },
    onError: (error, { value }) => {
      if (error instanceof ApiError && error.problem.status === 409 && error.problem.current) {
        setConflict({ mine: value, theirs: error.problem.current as CurrentAnswer });
        client.invalidateQueries(jobQuery(jobId));
      }
    },
  });
  const problem: Problem | null =
    save.error instanceof ApiError && !(save.error.problem.status === 409 && save.error.problem.current)
      ? save.error.problem
      : null;
  return {
    // An answer that was taken back is none, whatever stood there before it.
    value: (found ? found.value : fallback) as T,
    seq: found?.seq ?? 0,
    problem,
    saving: save.isPending,
    conflict,
    answer: (value: T, seen: number = found?.seq ?? 0) =>
      save.mutate({ value, seen, key: crypto.randomUUID() }),
    keepTheirs: () => setConflict(null),
    useMine: () =>
      conflict && save.mutate({ value: conflict.mine, seen: conflict.theirs.seq, key: crypto.randomUUID() }),
  };
}
