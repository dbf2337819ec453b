import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, type JobDetail, unwrap } from "../../api/client";
import { listsQuery } from "../../api/queries";
import { sendOnce } from "../../lib/keys";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { Picks } from "../../ui/Picks";
import { useChangedJob, type Verification } from "./calls";

const STATES: Record<Verification["codes"][number]["state"], string> = {
  passed: "✓ tested and passed",
  "not there": "not on the list",
  "not completed": "test not completed yet",
  "failed again": "✕ failed again",
  "not read": "not read again",
  "not cleared": "not cleared yet",
};

interface Props {
  detail: JobDetail;
  data: Verification;
  canWrite: boolean;
}

/** Each code since it was cleared after the repair: gone because its test passed, or only because its test has not run. */
export function CodesAgain({ detail, data, canWrite }: Props) {
  const [run, setRun] = useState<string[]>([]);
  const [sure, setSure] = useState(false);
  const lists = useQuery(listsQuery);
  const changed = useChangedJob(detail.job.id);
  const path = { params: { path: { job_id: detail.job.id } } };
  const clear = useMutation({
    mutationFn: (by: "vehicle" | "hand") =>
      sendOnce(["clear-after", detail.job.id, data.repaired_at, by], async (client_key) =>
        unwrap(await api.POST("/api/v1/jobs/{job_id}/clearing", { ...path, body: { client_key, by } })),
      ),
    onSuccess: changed,
  });
  const read = useMutation({
    mutationFn: () =>
      sendOnce(["read-after", detail.job.id, run, detail.job.last_seq], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/jobs/{job_id}/scans/vehicle", {
            ...path,
            body: { client_key, conditions: run },
          }),
        ),
      ),
    onSuccess: changed,
  });
  const none = useMutation({
    mutationFn: () =>
      sendOnce(["none-after", detail.job.id, run, detail.job.last_seq], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/jobs/{job_id}/scans", {
            ...path,
            body: { client_key, conditions: run, none_stored: true, source: "typed", rows: null, text: "" },
          }),
        ),
      ),
    onSuccess: changed,
  });
  if (!data.repaired_at || (data.codes.length === 0 && detail.scans.length === 0)) return null;
  const trouble = [clear.error, read.error, none.error].find(Boolean);
  const busy = clear.isPending || read.isPending || none.isPending;
  const wantedLeft = data.conditions.filter((one) => !data.run.includes(one) && !run.includes(one));
  return (
    <section aria-label="Codes since the repair">
      <h3 className="mb-1 text-lg">Codes since the repair</h3>
      {data.codes.length === 0 && <p className="text-sm text-soft">No code was stored before it.</p>}
      <ul className="text-sm">
        {data.codes.map((code) => (
          <li
            key={`${code.module} ${code.code}`}
            className="grid grid-cols-[5.5rem_3.5rem_11rem_minmax(0,1fr)] items-baseline gap-x-3 border-t border-rule py-1.5 max-md:grid-cols-[5.5rem_3.5rem_1fr]"
            data-code={code.code}
            data-state={code.state}
          >
            <span className="figure text-lg leading-6">{code.code}</span>
            <span className="text-soft">{code.module || "–"}</span>
            <strong className="font-[650]">{STATES[code.state]}</strong>
            <span className="text-soft max-md:col-span-3">{code.said}</span>
          </li>
        ))}
      </ul>
      {trouble && (
        <Notice tone="problem">
          {trouble instanceof ApiError ? trouble.problem.detail : "The server does not answer."}
        </Notice>
      )}
      {canWrite && data.clearing_warning && !data.cleared && !sure && (
        <div className="mt-2 space-y-1">
          <Notice tone="caution">{data.clearing_warning}</Notice>
          <Button onClick={() => setSure(true)}>Clear all the same</Button>
        </div>
      )}
      {canWrite && (!data.clearing_warning || data.cleared || sure) && (
        <div className="mt-2 space-y-2">
          {data.cleared && (
            <div>
              <p className="mb-1 text-sm text-soft">
                Run since clearing
                {wantedLeft.length > 0 && `; the complaint asks for: ${wantedLeft.join(", ")}`}
              </p>
              <Picks
                label="Run since clearing"
                options={(lists.data?.run_conditions ?? []).map((key) => ({ key, title: key }))}
                chosen={run}
                onChange={setRun}
              />
            </div>
          )}
          <div className="flex flex-wrap gap-2">
            {data.interface && (
              <Button disabled={busy} onClick={() => clear.mutate("vehicle")}>
                {clear.isPending ? "Clearing …" : data.cleared ? "Clear once more" : "Clear the codes"}
              </Button>
            )}
            {!data.cleared && (
              <Button kind="quiet" disabled={busy} onClick={() => clear.mutate("hand")}>
                I have cleared them by hand
              </Button>
            )}
            {data.cleared && data.interface && (
              <Button disabled={busy} onClick={() => read.mutate()}>
                {read.isPending ? "Asking every module …" : "Read the vehicle again"}
              </Button>
            )}
            {data.cleared && (
              <Button kind="quiet" disabled={busy} onClick={() => none.mutate()}>
                Read by hand: none is back
              </Button>
            )}
          </div>
        </div>
      )}
    </section>
  );
}
