import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { Job } from "../../api/client";
import { jobsQuery, listsQuery } from "../../api/queries";
import { useMe } from "../../api/session";
import { groupName, when } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { VirtualList } from "../../ui/VirtualList";
import { FirstSteps } from "./FirstSteps";
import { FollowUps } from "./FollowUps";

const SETTLE_MS = 180;

/** All jobs, newest first, or those that match; each line opens the job. */
export function JobsPage() {
  const [params, setParams] = useSearchParams();
  const asked = params.get("q") ?? "";
  const stage = params.get("stage") ?? "";
  const [text, setText] = useState(asked);
  const me = useMe().data;
  const canWrite = me?.role !== "read-only";
  const stages = useQuery(listsQuery).data?.stages ?? [];
  const found = useInfiniteQuery(jobsQuery(asked, stage));
  const navigate = useNavigate();
  const search = useRef<HTMLInputElement>(null);
  const list = useRef<HTMLDivElement>(null);
  const entered = useRef(false);
  useHotkeys("n", () => canWrite && navigate("/jobs/new"));
  useHotkeys(
    "/",
    (event) => {
      event.preventDefault();
      search.current?.focus();
    },
    { useKey: true, ignoreModifiers: true },
  );
  useEffect(() => {
    const timer = window.setTimeout(() => {
      if (text !== asked)
        setParams(
          (now) => {
            if (text) now.set("q", text);
            else now.delete("q");
            return now;
          },
          { replace: true },
        );
    }, SETTLE_MS);
    return () => window.clearTimeout(timer);
  }, [text, asked, setParams]);
  const jobs = found.data?.pages.flatMap((page) => page.jobs) ?? [];
  const arrived = found.data !== undefined;
  useEffect(() => {
    // The first job, unless someone is already busy elsewhere: arrows and Enter work at once, and N is a key, not a letter.
    if (arrived && document.activeElement === document.body) list.current?.querySelector("a")?.focus();
  }, [arrived]);
  const move = (event: React.KeyboardEvent, step: number) => {
    const links = [...(list.current?.querySelectorAll("a") ?? [])];
    const at = links.indexOf(document.activeElement as HTMLAnchorElement);
    const next = links[at + step] ?? (step < 0 ? search.current : null);
    if (next) {
      event.preventDefault();
      next.focus();
    }
  };
  const arrows = (event: React.KeyboardEvent) => {
    if (event.key === "ArrowDown") move(event, 1);
    if (event.key === "ArrowUp") move(event, -1);
  };
  const open = () => {
    entered.current = false;
    if (jobs.length === 1 && jobs[0]) navigate(`/jobs/${jobs[0].id}`);
    else if (jobs.length > 1) list.current?.querySelector("a")?.focus();
    else if (canWrite && text.trim()) navigate(checkIn(text));
  };
  const settled = text === asked && !found.isFetching && arrived;
  // Enter before the answer is there means the same as after it.
  useEffect(() => {
    if (settled && entered.current) open();
  });
  const searched = (event: React.KeyboardEvent) => {
    arrows(event);
    if (event.key === "Enter") {
      entered.current = true;
      if (settled) open();
    } else entered.current = false;
  };
  return (
    <main className="mx-auto max-w-5xl px-5 py-5">
      <FollowUps />
      <div className="mb-3 flex items-end justify-between gap-4">
        <div>
          <h1 className="text-3xl">Jobs</h1>
          <p className="text-soft">↓ and Enter open a job. N checks in a vehicle. / searches.</p>
        </div>
        {canWrite && (
          <Link
            to="/jobs/new"
            className="flex min-h-11 items-center rounded-sm bg-next px-5 font-[650] text-on-next"
          >
            Check in a vehicle
          </Link>
        )}
      </div>
      <div className="mb-4 flex flex-wrap items-center gap-3">
        <label className="min-w-64 flex-1">
          <span className="sr-only">Search jobs</span>
          <input
            ref={search}
            type="search"
            value={text}
            onChange={(event) => setText(event.target.value)}
            onKeyDown={searched}
            placeholder="Plate, code, circuit, part, words of the complaint"
            className="block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-3 text-base placeholder:text-soft"
          />
        </label>
        <label className="flex items-center gap-2 text-sm text-soft">
          Stage
          <select
            value={stage}
            onChange={(event) =>
              setParams((now) => {
                if (event.target.value) now.set("stage", event.target.value);
                else now.delete("stage");
                return now;
              })
            }
            className="min-h-11 rounded-sm border border-ink/60 bg-raised px-2 text-ink"
          >
            <option value="">all</option>
            {stages.map((item) => (
              <option key={item}>{item}</option>
            ))}
          </select>
        </label>
      </div>
      {found.error && (
        <Notice tone="problem">
          The jobs cannot be read: {found.error.message}. Reload when the server is back.
        </Notice>
      )}
      {found.isPending && <p>Reading the jobs …</p>}
      {found.data && jobs.length === 0 && (
        <div className="border-y border-rule py-10">
          {asked || stage ? (
            <>
              <p className="text-lg">
                No job matches{asked ? ` “${asked}”` : ""}. Fewer words or the beginning of a word find more.
              </p>
              {canWrite && asked && (
                <Link to={checkIn(asked)} className="mt-2 inline-block min-h-11 underline underline-offset-4">
                  A vehicle that is new here? Check in {asked.trim().toUpperCase()}
                </Link>
              )}
            </>
          ) : (
            me && <FirstSteps me={me} />
          )}
        </div>
      )}
      {/* biome-ignore lint/a11y/noStaticElementInteractions: arrow keys pass from link to link; each link works without them */}
      <div ref={list} onKeyDown={arrows}>
        <VirtualList
          items={jobs}
          keyOf={(job) => job.id}
          estimate={84}
          label="Jobs, the last changed first"
          render={(job) => <JobLine job={job} stages={stages} />}
        />
      </div>
      {found.hasNextPage && (
        <Button className="mt-4" onClick={() => found.fetchNextPage()} disabled={found.isFetchingNextPage}>
          {found.isFetchingNextPage ? "Reading …" : "Older jobs"}
        </Button>
      )}
    </main>
  );
}

/** Where a vehicle with this plate is checked in. */
function checkIn(plate: string): string {
  return `/jobs/new?${new URLSearchParams({ plate: plate.trim().toUpperCase() })}`;
}

function JobLine({ job, stages }: { job: Job; stages: string[] }) {
  return (
    <Link
      to={`/jobs/${job.id}`}
      className="grid grid-cols-1 gap-x-5 gap-y-1 px-2 py-3 hover:bg-depth-1 focus-visible:bg-depth-1 md:grid-cols-[9rem_1fr_13rem]"
    >
      <div>
        <div className="text-lg font-[650]">{job.plate || `Job ${job.number}`}</div>
        <div className="text-sm text-soft">
          {job.make} {job.model} {job.year ?? ""}
        </div>
      </div>
      <div className="min-w-0">
        <div className="line-clamp-2">{job.complaint || "No complaint written down yet"}</div>
        <div className="text-sm text-soft">
          {job.codes && <span className="mr-3 font-[600]">{job.codes}</span>}
          {job.circuits.join(", ")}
        </div>
        {job.conclusion && (
          <div className="mt-1 text-sm">
            <strong>{groupName(job.conclusion_group ?? "")}.</strong>{" "}
            {job.conclusion.replace(/^[A-Z][a-z]+: /, "")}
          </div>
        )}
      </div>
      <div className="text-sm">
        <StageMarks stage={job.stage} stages={stages} />
        <div className="mt-1 first-letter:uppercase">
          {job.stage}
          {job.outcome && job.outcome !== "fixed" && `, ${job.outcome}`}
          {job.readings > 0 && `, ${job.readings} reading${job.readings === 1 ? "" : "s"}`}
        </div>
        <div className="text-soft">{when(job.touched_at)}</div>
      </div>
    </Link>
  );
}

/** How far a job has come: one mark per stage, the ones behind it filled. */
export function StageMarks({ stage, stages }: { stage: string; stages: string[] }) {
  const reached = stages.indexOf(stage) + 1;
  const at = (mark: number) => mark * 21;
  return (
    <svg viewBox="0 0 140 16" className="h-4 w-34" aria-hidden="true">
      <line x1="2" y1="8" x2={at(stages.length)} y2="8" stroke="var(--rule)" strokeWidth="2" />
      <line x1="2" y1="8" x2={at(reached)} y2="8" stroke="var(--ink)" strokeWidth="3" />
      {stages.map((item, index) => (
        <line
          key={item}
          x1={at(index + 1)}
          y1="3"
          x2={at(index + 1)}
          y2="13"
          stroke={index < reached ? "var(--ink)" : "var(--rule)"}
          strokeWidth="2"
        />
      ))}
      <path d={`M${at(reached) - 4} 2h8l3 12h-14z`} fill="var(--ink)" />
    </svg>
  );
}
