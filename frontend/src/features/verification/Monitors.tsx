import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ApiError, api, type JobDetail, unwrap } from "../../api/client";
import { jobQuery } from "../../api/queries";
import { sendOnce } from "../../lib/keys";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";
import { useAnswer } from "../job/useAnswer";
import type { Verification } from "./calls";

interface Props {
  detail: JobDetail;
  data: Verification;
  canWrite: boolean;
}

/** Monitors of the emission-related module, what the vehicle kept when the code was set, and the day of the next inspection. */
export function Monitors({ detail, data, canWrite }: Props) {
  const client = useQueryClient();
  const jobId = detail.job.id;
  const due = useAnswer<string>(detail, "inspection_due", "");
  const read = useMutation({
    mutationFn: () =>
      sendOnce(["readiness", jobId, detail.job.last_seq], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/jobs/{job_id}/readiness", {
            params: { path: { job_id: jobId } },
            body: { client_key },
          }),
        ),
      ),
    onSuccess: () => client.invalidateQueries(jobQuery(jobId)),
  });
  const { monitors } = data;
  return (
    <section aria-label="Monitors">
      <h3 className="text-lg">Monitors of the emission system</h3>
      {!monitors && <p className="text-sm text-soft">Not read yet.</p>}
      {monitors && !monitors.since_repair && (
        <p className="text-sm text-soft">Read before the repair; read them again.</p>
      )}
      {monitors && (
        <ul className="text-sm">
          {monitors.outstanding.map((name) => (
            <li key={name} className="flex justify-between gap-3 border-t border-rule py-1">
              {name}
              <strong className="font-[650]">outstanding</strong>
            </li>
          ))}
          {monitors.complete.map((name) => (
            <li key={name} className="flex justify-between gap-3 border-t border-rule py-1 text-soft">
              {name} <span>✓ complete</span>
            </li>
          ))}
        </ul>
      )}
      {read.error && (
        <Notice tone="problem">
          {read.error instanceof ApiError ? read.error.problem.detail : "The server does not answer."}
        </Notice>
      )}
      {canWrite && data.interface && (
        <Button className="mt-2" disabled={read.isPending} onClick={() => read.mutate()}>
          {read.isPending ? "Reading …" : monitors ? "Read the monitors again" : "Read the monitors"}
        </Button>
      )}
      <Results results={data.results} />
      <div className="mt-3">
        <InspectionDay
          key={due.value}
          value={due.value}
          disabled={!canWrite}
          problem={due.problem?.detail}
          onDay={(day) => due.answer(day)}
        />
      </div>
      {data.frame.length > 0 && (
        <details className="mt-3 text-sm">
          <summary className="flex min-h-11 cursor-pointer items-center">
            Kept by the vehicle when {data.frame[0]?.code} was set
          </summary>
          <ul>
            {data.frame.map((line) => (
              <li key={line.title} className="flex justify-between gap-3 border-t border-rule py-1">
                {line.title} <span className="figure text-base">{line.value}</span>
              </li>
            ))}
          </ul>
        </details>
      )}
    </section>
  );
}

/** What the monitors measured, with their limits; what failed or is near a limit stands open, the rest is folded away. */
function Results({ results }: { results: Verification["results"] }) {
  const telling = results.filter((one) => one.verdict === "failed" || one.verdict === "near its limit");
  const others = results.filter((one) => !telling.includes(one));
  const outstanding = results.filter((one) => one.verdict === "not run").length;
  const passed = others.length - outstanding;
  const summary = [
    passed > 0 && `${passed} passed${telling.length > 0 ? "" : ", none near a limit"}`,
    outstanding > 0 && `${outstanding} not run since clearing`,
  ];
  if (results.length === 0) return null;
  return (
    <div className="mt-3 text-sm">
      <h4 className="text-base">What the monitors measured</h4>
      {telling.length > 0 && <ResultLines results={telling} />}
      {others.length > 0 && (
        <details>
          <summary className="flex min-h-11 cursor-pointer items-center">
            {summary.filter(Boolean).join("; ")}
          </summary>
          <ResultLines results={others} />
        </details>
      )}
    </div>
  );
}

function ResultLines({ results }: { results: Verification["results"] }) {
  return (
    <ul>
      {results.map((one) => (
        <li
          key={one.title}
          data-monitor-result={one.verdict}
          className={`flex flex-wrap justify-between gap-x-3 border-t border-rule py-1 ${one.verdict === "failed" || one.verdict === "near its limit" ? "bg-buff" : ""}`}
        >
          <span>{one.title}</span>
          <span>
            <strong className="figure">{one.verdict === "not run" ? "" : one.value}</strong>{" "}
            <span className="text-soft">{one.verdict === "not run" ? "" : `limits ${one.limits}, `}</span>
            {one.verdict}
          </span>
        </li>
      ))}
    </ul>
  );
}

function InspectionDay(props: {
  value: string;
  disabled: boolean;
  problem: string | undefined;
  onDay: (day: string) => void;
}) {
  return (
    <TextField
      type="date"
      label="Next inspection by law due on"
      defaultValue={props.value}
      disabled={props.disabled}
      problem={props.problem}
      onBlur={(event) => event.target.value !== props.value && props.onDay(event.target.value)}
    />
  );
}
