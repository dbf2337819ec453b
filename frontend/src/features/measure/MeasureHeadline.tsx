import { Link } from "react-router";
import type { Measuring } from "../../api/client";
import { Headline } from "../../app/Headline";

/** Which vehicle, which complaint, and how the circuit is set up now. */
export function MeasureHeadline({ measuring }: { measuring: Measuring }) {
  const { job } = measuring;
  return (
    <Headline>
      <div className="flex flex-wrap items-baseline gap-x-4 text-sm leading-tight">
        <h1 className="text-lg">
          <Link to={`/jobs/${job.id}`} className="inline-flex min-h-6 underline-offset-4 hover:underline">
            {job.plate || `Job ${job.number}`}
          </Link>
        </h1>
        <span className="min-w-0 flex-1 truncate text-soft max-sm:hidden" title={job.complaint}>
          {job.make} {job.model}. {job.codes && <strong>{job.codes}. </strong>}
          {job.complaint}
        </span>
        <Link
          to={`/jobs/${job.id}`}
          className="inline-flex min-h-6 font-[600] underline-offset-4 hover:underline"
          title="What is to be put back stands on the job page"
        >
          Set-up now: {measuring.assessment.setup.text}
        </Link>
      </div>
    </Headline>
  );
}
