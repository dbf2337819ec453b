import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api, type JobDetail, type Schema, unwrap } from "../../api/client";
import { sendOnce } from "../../lib/keys";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";

const STATE: Record<Schema["HeardView"]["state"], string> = {
  answers: "✓ answers",
  silent: "✕ silent",
  "not asked": "not asked",
};

/** Modules that are silent or that others miss: who hears whom, what follows, and what to measure in order. Nothing while all is well. */
export function Modules({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  const jobId = detail.job.id;
  const navigate = useNavigate();
  const client = useQueryClient();
  const last = detail.scans[0]?.seq ?? 0;
  const { data } = useQuery({
    queryKey: ["modules", jobId, last],
    enabled: last > 0,
    queryFn: async () =>
      unwrap(await api.GET("/api/v1/jobs/{job_id}/modules", { params: { path: { job_id: jobId } } })),
  });
  const open = useMutation({
    mutationFn: ({ version, reason }: { version: string; reason: string }) =>
      sendOnce(["open", jobId, version, reason], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/jobs/{job_id}/diagnoses", {
            params: { path: { job_id: jobId } },
            body: { client_key, circuit_version_id: version, reason: reason.slice(0, 500), carry: true },
          }),
        ),
      ),
    onSuccess: (diagnosis) => {
      client.invalidateQueries({ queryKey: ["job", jobId] });
      navigate(`/measure/${diagnosis.id}`);
    },
  });
  if (!data || data.found.length === 0) return null;
  const title = new Map(data.heard.map((one) => [one.id, one.title]));
  return (
    <section aria-label="Modules" className="mt-6 space-y-3">
      <h2 className="text-xl">Who hears whom</h2>
      {open.error && <Notice tone="problem">{open.error.message}</Notice>}
      <table className="w-full text-sm">
        <thead>
          <tr className="text-left text-soft">
            <th className="font-[400]">Module</th>
            <th className="font-[400]">Scan tool</th>
            <th className="font-[400]">Missed by</th>
          </tr>
        </thead>
        <tbody>
          {data.heard.map((one) => (
            <tr key={one.id} data-module={one.id} className="border-t border-rule">
              <th scope="row" className="py-1 pr-3 text-left font-[650]">
                {one.title}
              </th>
              <td className="pr-3">{STATE[one.state]}</td>
              <td>
                {one.missed_by.map((id) => title.get(id) ?? id).join(", ")}
                {one.missed_before.length > 0 && (
                  <span className="text-soft">
                    {" "}
                    earlier: {one.missed_before.map((id) => title.get(id) ?? id).join(", ")}
                  </span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {data.found.map((one) => {
        const circuit = detail.circuits.find((option) => option.slug === one.circuit);
        return (
          <article key={one.sentence} className="border-l-4 border-depth-3 pl-3">
            <p className="font-[650]">{one.sentence}</p>
            <p className="text-sm text-soft">{one.why}</p>
            <ol className="mt-1 list-decimal pl-5 text-sm">
              {one.checks.map((check) => (
                <li key={check} className="py-0.5">
                  {check}
                </li>
              ))}
            </ol>
            {circuit && canWrite && (
              <Button
                className="mt-1"
                disabled={open.isPending}
                onClick={() => open.mutate({ version: circuit.version_id, reason: one.sentence })}
              >
                Test its supply and bus: {circuit.title}
              </Button>
            )}
          </article>
        );
      })}
    </section>
  );
}
