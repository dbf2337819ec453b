import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { Link, useNavigate } from "react-router";
import type { Job } from "../../api/client";
import { jobsQuery } from "../../api/queries";
import { groupName, when } from "../../lib/format";
import { Notice } from "../../ui/Notice";

const STAGES = ["taken in", "chase", "verdict"];

/** All jobs, newest first; each line opens where work stands. */
export function JobsPage() {
  const { data, error, isPending } = useQuery(jobsQuery);
  const navigate = useNavigate();
  const list = useRef<HTMLUListElement>(null);
  useHotkeys("n", () => navigate("/jobs/new"));
  useEffect(() => {
    if (data) list.current?.querySelector("a")?.focus({ preventScroll: true });
  }, [data]);
  const move = (event: React.KeyboardEvent, step: number) => {
    const links = [...(list.current?.querySelectorAll("a") ?? [])];
    const next = links[links.indexOf(document.activeElement as HTMLAnchorElement) + step];
    if (next) {
      event.preventDefault();
      next.focus();
    }
  };
  return (
    <main className="mx-auto max-w-5xl px-5 py-6">
      <div className="mb-5 flex items-end justify-between gap-4">
        <div>
          <h1 className="text-3xl">Jobs</h1>
          <p className="text-soft">Enter opens a job where it stands. N takes in a vehicle.</p>
        </div>
        <Link
          to="/jobs/new"
          className="flex min-h-11 items-center rounded-sm bg-next px-5 font-[650] text-on-next"
        >
          Take in a vehicle
        </Link>
      </div>
      {error && (
        <Notice tone="problem">
          The jobs cannot be read: {error.message}. Reload when the server is back.
        </Notice>
      )}
      {isPending && <p>Reading the jobs …</p>}
      {data && data.jobs.length === 0 && (
        <div className="border-y border-rule py-10">
          <p className="text-lg">No vehicle has been taken in yet.</p>
          <p className="text-soft">
            Take one in, say what the customer complains of, pick the circuit or load its file, and Sondar
            says what to measure first.
          </p>
        </div>
      )}
      <ul
        ref={list}
        className="border-t border-rule"
        onKeyDown={(event) => {
          if (event.key === "ArrowDown") move(event, 1);
          if (event.key === "ArrowUp") move(event, -1);
        }}
      >
        {data?.jobs.map((job) => (
          <JobLine key={job.id} job={job} />
        ))}
      </ul>
    </main>
  );
}

function JobLine({ job }: { job: Job }) {
  const stage = STAGES.indexOf(job.stage);
  return (
    <li className="border-b border-rule">
      <Link
        to={job.stage === "verdict" ? `/jobs/${job.id}/verdict` : `/jobs/${job.id}`}
        className="grid grid-cols-1 gap-x-5 gap-y-1 px-2 py-4 hover:bg-depth-1 focus-visible:bg-depth-1 md:grid-cols-[9rem_1fr_13rem]"
      >
        <div>
          <div className="text-lg font-[650]">{job.plate || `Job ${job.number}`}</div>
          <div className="text-sm text-soft">
            {job.make} {job.model} {job.year ?? ""}
          </div>
        </div>
        <div className="min-w-0">
          <div>{job.complaint}</div>
          <div className="text-sm text-soft">
            {job.codes && <span className="mr-3 font-[600]">{job.codes}</span>}
            {job.circuit_title}
          </div>
          {job.verdict && (
            <div className="mt-1 text-sm">
              <strong>{groupName(job.verdict_group ?? "")}.</strong>{" "}
              {job.verdict.replace(/^[A-Z][a-z]+: /, "")}
            </div>
          )}
        </div>
        <div className="text-sm">
          <Soundings depth={stage + 1} />
          <div className="mt-1 first-letter:uppercase">
            {job.stage}
            {job.stage === "chase" && `, ${job.readings} reading${job.readings === 1 ? "" : "s"}`}
          </div>
          <div className="text-soft">{when(job.touched_at)}</div>
        </div>
      </Link>
    </li>
  );
}

/** How deep a job has been sounded: a lead line let down one mark per stage. */
function Soundings({ depth }: { depth: number }) {
  return (
    <svg viewBox="0 0 132 16" className="h-4 w-32" aria-hidden="true">
      <line x1="2" y1="8" x2="130" y2="8" stroke="var(--rule)" strokeWidth="2" />
      <line x1="2" y1="8" x2={depth * 42 - 10} y2="8" stroke="var(--ink)" strokeWidth="3" />
      {[1, 2, 3].map((mark) => (
        <line
          key={mark}
          x1={mark * 42 - 10}
          y1="3"
          x2={mark * 42 - 10}
          y2="13"
          stroke={mark <= depth ? "var(--ink)" : "var(--rule)"}
          strokeWidth="2"
        />
      ))}
      <path d={`M${depth * 42 - 14} 2h8l3 12h-14z`} fill="var(--ink)" />
    </svg>
  );
}
