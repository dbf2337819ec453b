import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { JobDetail } from "../../api/client";
import { when } from "../../lib/format";
import { Notice } from "../../ui/Notice";
import { CodesAgain } from "./CodesAgain";
import { type Verification, verificationQuery } from "./calls";
import { Monitors } from "./Monitors";
import { Outcome } from "./Outcome";

/** After a repair: everything that failed beside what is now, the codes since clearing, the monitors, and the outcome. */
export function VerificationView({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  const found = useQuery(verificationQuery(detail.job.id, detail.job.last_seq));
  const data = found.data;
  if (found.error && !data) return <Notice tone="problem">{found.error.message}</Notice>;
  if (!data)
    return (
      <p className="p-5" aria-busy="true">
        Working out what is to be verified …
      </p>
    );
  return (
    <div className="grid max-w-7xl gap-x-10 gap-y-6 px-5 py-4 lg:grid-cols-[minmax(0,1fr)_21rem]">
      <div className="min-w-0 space-y-6">
        <section aria-label="How the repair stands" data-outcome={data.standing.outcome}>
          <p className="text-sm text-soft">
            {data.repaired_at ? `Repaired ${when(data.repaired_at)}` : "Verification"}
          </p>
          <h2 className="text-2xl leading-tight">{data.standing.sentence}</h2>
          {data.standing.left.length > 0 && (
            <ul className="mt-1 list-disc pl-5">
              {data.standing.left.map((line) => (
                <li key={line}>{line}</li>
              ))}
            </ul>
          )}
          {!data.repaired_at && (
            <p className="text-soft">Record the repair on the diagnosis first; then it is verified here.</p>
          )}
        </section>
        <Readings data={data} />
        <CodesAgain detail={detail} data={data} canWrite={canWrite} />
        <CommandsAgain jobId={detail.job.id} data={data} />
      </div>
      <div className="space-y-6">
        <Outcome detail={detail} data={data} canWrite={canWrite} />
        <Monitors detail={detail} data={data} canWrite={canWrite} />
        <RoadTest jobId={detail.job.id} data={data} />
      </div>
    </div>
  );
}

/** Each test that failed before the repair, then and now. */
function Readings({ data }: { data: Verification }) {
  if (data.readings.length === 0) return null;
  const next = data.readings.find((item) => item.passed === null);
  return (
    <section aria-label="Readings before and after">
      <h3 className="mb-1 text-lg">Readings that failed before</h3>
      <table className="w-full text-sm">
        <thead>
          <tr className="text-left text-soft">
            <th className="font-normal">Test</th>
            <th className="w-24 font-normal">Before</th>
            <th className="w-28 font-normal">Expected</th>
            <th className="w-24 font-normal">Now</th>
            <th className="w-60" />
          </tr>
        </thead>
        <tbody>
          {data.readings.map((item) => (
            <tr
              key={`${item.diagnosis_id} ${item.label}`}
              className="border-t border-rule align-top"
              data-passed={String(item.passed)}
            >
              <td className="py-2 pr-3">{item.label}</td>
              <td className="figure py-2 text-base text-soft">{item.before}</td>
              <td className="figure py-2 text-base">{item.expected}</td>
              <td className="figure py-2 text-base font-[650]">{item.now || "–"}</td>
              <td className="py-1 text-right">
                {item.passed === true ? (
                  <>
                    <span className="inline-block py-1">✓ in order</span>
                    {item.said && <span className="block text-left text-soft">{item.said}</span>}
                  </>
                ) : (
                  <>
                    {item.passed === false && <span className="block font-[650]">✕ not good enough yet</span>}
                    {item.said && <span className="block text-soft">{item.said}</span>}
                    <Link
                      to={`/measure/${item.diagnosis_id}`}
                      state={{ test: item.test }}
                      className={`inline-flex min-h-11 items-center ${item === next ? "rounded-sm bg-next px-4 font-[650] text-on-next" : "underline underline-offset-4"}`}
                      aria-label={`Measure: ${item.label}`}
                    >
                      {item.passed === false ? "Measure again" : "Measure"}
                    </Link>
                  </>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** Commands that were given before the repair, and again. */
function CommandsAgain({ jobId, data }: { jobId: string; data: Verification }) {
  if (data.commands.length === 0) return null;
  const recording = "underline underline-offset-4";
  return (
    <section aria-label="Commands before and after">
      <h3 className="mb-1 text-lg">Commands, before and after</h3>
      <ul className="text-sm">
        {data.commands.map((item) => (
          <li key={item.command} className="flex flex-wrap items-baseline gap-x-4 border-t border-rule py-2">
            <span className="min-w-40 flex-1">{item.title}</span>
            <Link to={`/recordings/${item.before_recording}`} className={recording}>
              before: {item.before.toLowerCase()}
            </Link>
            {item.after_recording ? (
              <Link to={`/recordings/${item.after_recording}`} className={recording}>
                now: {item.after.toLowerCase()}
              </Link>
            ) : (
              <Link to={`/jobs/${jobId}?view=recordings`} className={recording}>
                Command it again
              </Link>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

function RoadTest({ jobId, data }: { jobId: string; data: Verification }) {
  if (!data.repaired_at) return null;
  return (
    <section aria-label="Road test">
      <h3 className="text-lg">Road test</h3>
      <p className="text-sm text-soft">
        Conditions, what to watch and what is outstanding, on one page for the second person.
      </p>
      <a
        className="inline-flex min-h-11 items-center underline underline-offset-4"
        href={`/api/v1/jobs/${jobId}/road-test`}
        target="_blank"
        rel="noreferrer"
      >
        Card for the road test (PDF)
      </a>
    </section>
  );
}
