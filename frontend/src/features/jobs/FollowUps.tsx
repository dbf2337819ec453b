import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, unwrap } from "../../api/client";

/** Jobs whose repair is to be asked after today, and of which nobody has said yet how it went. */
export function FollowUps() {
  const due = useQuery({
    queryKey: ["jobs", "follow-ups"],
    queryFn: async () => unwrap(await api.GET("/api/v1/follow-ups", {})),
  });
  const jobs = due.data?.jobs ?? [];
  if (jobs.length === 0) return null;
  return (
    <section aria-label="Follow-ups due" className="mb-4 border-b border-rule pb-1 text-sm">
      <h2 className="text-sm font-[650]">To ask after: is it still in order?</h2>
      <ul className="flex flex-wrap gap-x-6">
        {jobs.map(({ job, due: day }) => (
          <li key={job.id}>
            <Link
              className="block min-h-11 py-2 underline underline-offset-4"
              to={`/jobs/${job.id}?view=hand-over`}
            >
              {job.plate || `Job ${job.number}`}, {job.make} {job.model}, due{" "}
              {new Date(`${day}T12:00:00`).toLocaleDateString("en-GB", { day: "numeric", month: "long" })}
            </Link>
          </li>
        ))}
      </ul>
    </section>
  );
}
