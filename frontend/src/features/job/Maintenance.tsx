import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type JobDetail, unwrap } from "../../api/client";
import { useAnswer } from "./useAnswer";

/** What is due on this vehicle by mileage and age, ticked when it was done; and the parts of the vehicle as a table to be printed. */
export function Maintenance({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  const held = useAnswer<string[]>(detail, "intervals_done", []);
  const jobId = detail.job.id;
  const mileage = detail.answers.mileage_km?.seq ?? 0;
  const year = detail.answers.year?.seq ?? 0;
  const { data } = useQuery({
    queryKey: ["vehicle parts", jobId, mileage, year, detail.diagnoses.length],
    queryFn: async () =>
      unwrap(await api.GET("/api/v1/jobs/{job_id}/parts", { params: { path: { job_id: jobId } } })),
  });
  if (!data || data.parts.length === 0) return null;
  const due = data.due.filter((one) => one.state === "due").length;
  return (
    <details className="mt-4">
      <summary className="min-h-11 cursor-pointer py-2 font-[650]">
        Parts and intervals{" "}
        {due > 0 && <span className="font-[400] text-soft">{due} due by mileage or age</span>}
      </summary>
      <p className="text-sm text-soft">
        Usual intervals of the parts whose circuits are known
        {data.km === null && "; with the mileage, more can be said"}. The maker's plan comes first. Tick what
        was done.
      </p>
      <ul className="border-t border-rule text-sm" aria-label="Intervals">
        {data.due.map((one) => {
          const done = held.value.includes(one.key);
          return (
            <li key={one.key} className="border-b border-rule">
              <label className="flex min-h-11 items-start gap-3 py-2">
                <input
                  type="checkbox"
                  className="mt-0.5 h-5 w-5"
                  checked={done}
                  disabled={!canWrite}
                  onChange={() =>
                    held.answer(
                      (done ? held.value.filter((key) => key !== one.key) : [...held.value, one.key]).sort(),
                    )
                  }
                />
                <span>
                  <strong className="font-[650]">{one.do}</strong>{" "}
                  {one.state === "due" ? "is due" : "comes up"}
                  <span className="block text-soft">{one.said}</span>
                </span>
              </label>
            </li>
          );
        })}
      </ul>
      <p className="mt-2 flex flex-wrap gap-x-5 text-sm">
        {[...new Map(data.parts.map((part) => [part.kind, part.title]))].map(([kind, title]) => (
          <Link
            key={kind}
            to={`/parts?kind=${kind}`}
            className="flex min-h-11 items-center underline underline-offset-4"
          >
            {title}
          </Link>
        ))}
      </p>
      <a
        className="inline-block min-h-11 py-2 underline underline-offset-4"
        href={`/api/v1/jobs/${jobId}/parts-table`}
        target="_blank"
        rel="noreferrer"
      >
        Print the parts of this vehicle (PDF)
      </a>
    </details>
  );
}
