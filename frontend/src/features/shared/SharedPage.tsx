import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api, unwrap } from "../../api/client";
import { when } from "../../lib/format";
import { Notice } from "../../ui/Notice";

const OUTCOMES: Record<string, string> = {
  fixed: "It is fixed.",
  partly: "It is better, and not good enough yet.",
  "not fixed": "It is not fixed.",
};

/** What a share link opens: for a customer or a colleague, read-only. */
export function SharedPage() {
  const { token = "" } = useParams();
  const { data: job, error } = useQuery({
    queryKey: ["shared", token],
    retry: false,
    queryFn: async () => unwrap(await api.GET("/api/v1/shared/{token}", { params: { path: { token } } })),
  });
  if (error)
    return (
      <main className="mx-auto max-w-xl p-6">
        <h1 className="mb-3 text-2xl">This link opens nothing</h1>
        <Notice tone="note">{error.message}</Notice>
      </main>
    );
  if (!job)
    return (
      <main className="p-6" aria-busy="true">
        Opening …
      </main>
    );
  return (
    <main className="mx-auto max-w-3xl space-y-6 px-5 py-8">
      <header>
        <p className="text-soft">
          {job.workshop}, job {job.number}, checked in {when(job.checked_in)}
        </p>
        <h1 className="text-3xl">
          {job.plate || job.vehicle} <span className="font-[400] text-soft">{job.plate && job.vehicle}</span>
        </h1>
        <p className="mt-1 text-lg">{job.complaint}</p>
        <p className="text-soft">
          Stage: {job.stage}
          {job.frozen_at && `, as it was on ${when(job.frozen_at)}`}
        </p>
      </header>
      {job.words && <p className="border-l-4 border-ink bg-depth-1 px-3 py-2 text-lg">{job.words}</p>}
      {job.codes.length > 0 && (
        <section>
          <h2 className="mb-1 text-xl">What the vehicle had stored</h2>
          <ul className="border-t border-rule">
            {job.codes.map((code) => (
              <li key={`${code.module}-${code.code}`} className="border-b border-rule py-1.5">
                <span className="figure mr-3">{code.code}</span>
                {code.title || "a manufacturer's own code"}
                {code.behaviour && <span className="text-soft">, {code.behaviour}</span>}
              </li>
            ))}
          </ul>
        </section>
      )}
      {job.diagnoses.map((diagnosis) => (
        <section key={diagnosis.title}>
          <h2 className="text-xl">{diagnosis.title}</h2>
          {diagnosis.conclusion ? (
            <p className="my-2 border-l-4 border-ink bg-depth-1 px-3 py-2 text-lg">{diagnosis.conclusion}</p>
          ) : (
            <p className="text-soft">No conclusion yet.</p>
          )}
          {diagnosis.done.length > 0 && (
            <ul className="my-2 list-disc pl-5">
              {diagnosis.done.map((line) => (
                <li key={line}>{line}</li>
              ))}
            </ul>
          )}
          {diagnosis.proved.length > 0 && (
            <ul className="my-2 border-t border-rule" aria-label="Before and after">
              {diagnosis.proved.map((one) => (
                <li
                  key={one.test}
                  className="flex flex-wrap items-baseline gap-x-4 border-b border-rule py-1.5"
                >
                  <span className="min-w-40 flex-1">{one.test}</span>
                  <span className="text-soft">before {one.before}</span>
                  <span>now {one.now || "not repeated yet"}</span>
                  <span className="text-soft">expected {one.expected}</span>
                  <strong className="font-[650]">
                    {one.passed === true
                      ? "✓ in order"
                      : one.passed === false
                        ? "✕ not good enough yet"
                        : "open"}
                  </strong>
                </li>
              ))}
            </ul>
          )}
          {diagnosis.readings.length > 0 && (
            <div className="overflow-x-auto">
              <table className="w-full text-sm">
                <thead>
                  <tr className="border-b border-ink text-left">
                    <th className="py-1 pr-3 font-[650]">Measured at</th>
                    <th className="py-1 pr-3 font-[650]">With</th>
                    <th className="py-1 pr-3 font-[650]">Reading</th>
                    <th className="py-1 font-[650]">Expected</th>
                  </tr>
                </thead>
                <tbody>
                  {diagnosis.readings.map((reading) => (
                    <tr
                      key={`${reading.where}-${reading.setup}-${reading.entry}`}
                      className="border-b border-rule"
                    >
                      <td className="py-1 pr-3">{reading.where}</td>
                      <td className="py-1 pr-3 text-soft">{reading.setup}</td>
                      <td className="py-1 pr-3">
                        <strong className="figure">{reading.entry}</strong>
                        {!reading.within_expected && " (outside expected range)"}
                      </td>
                      <td className="py-1">{reading.expected}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )}
        </section>
      ))}
      <section>
        <h2 className="mb-1 text-xl">What follows</h2>
        {job.outcome && (
          <p>
            {OUTCOMES[job.outcome]} {job.outcome_left}
          </p>
        )}
        <p>
          {job.may_drive} {job.may_drive_why}
        </p>
        {job.made_it_fail && (
          <p>
            Why it failed: {job.made_it_fail}{" "}
            {job.cause_removed === false && "The cause is not removed: it can fail again."}
          </p>
        )}
        {job.not_done && <p>Not done: {job.not_done}</p>}
        {job.defects.length > 0 && (
          <ul className="mt-1 list-disc pl-5">
            {job.defects.map((defect) => (
              <li key={defect.what}>
                {defect.what}: {defect.urgency}, {defect.decision}
              </li>
            ))}
          </ul>
        )}
      </section>
      <p className="text-sm text-soft">
        This page can be looked at until {when(job.expires_at)}. Repairs follow the manufacturer's
        instructions and are for licensed workshops.
      </p>
    </main>
  );
}
