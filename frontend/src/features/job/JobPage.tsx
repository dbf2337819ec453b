import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import type { JobDetail } from "../../api/client";
import { jobQuery, listsQuery } from "../../api/queries";
import { useMe } from "../../api/session";
import { Headline } from "../../app/Headline";
import { when } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { JobRecordings } from "../recordings/JobRecordings";
import { VerificationView } from "../verification/VerificationView";
import { CameBack } from "./CameBack";
import { Codes } from "./Codes";
import { EraseDialog } from "./EraseDialog";
import { HandOver } from "./HandOver";
import { Known } from "./Known";
import { Maintenance } from "./Maintenance";
import { Modules } from "./Modules";
import { PutBack } from "./PutBack";
import { ShareDialog } from "./ShareDialog";
import { TestFirst } from "./TestFirst";
import { TimelineList } from "./TimelineList";
import { useAnswer } from "./useAnswer";
import { useJobEvents } from "./useJobEvents";

/** A job: what is known, which codes, what to test first; and its timeline. */
export function JobPage() {
  const { jobId = "" } = useParams();
  const [params, setParams] = useSearchParams();
  const { data: detail, error } = useQuery(jobQuery(jobId));
  const role = useMe().data?.role;
  const canWrite = role !== "read-only";
  const [erasing, setErasing] = useState(false);
  const [sharing, setSharing] = useState(false);
  useJobEvents(jobId, detail?.job.last_seq);
  if (error && !detail) {
    return (
      <main className="mx-auto max-w-3xl p-6">
        <h1 className="mb-3 text-2xl">This job cannot be opened</h1>
        <Notice tone="problem">{error.message} What was recorded is kept.</Notice>
      </main>
    );
  }
  if (!detail)
    return (
      <main className="p-6" aria-busy="true">
        Reading the job …
      </main>
    );
  // Upright, what to test first stands above what is known as soon as there is something to go by.
  const begun = detail.scans.length > 0 || detail.answers.symptoms !== undefined;
  const view = params.get("view") ?? "";
  const timeline = view === "timeline";
  return (
    <main className="flex h-full flex-col">
      <Headline>
        <div className="flex flex-wrap items-baseline gap-x-4 text-sm leading-tight">
          <h1 className="text-lg">{detail.job.plate || `Job ${detail.job.number}`}</h1>
          <span className="min-w-0 flex-1 truncate text-soft">
            {[detail.job.make, detail.job.model, detail.job.year].filter(Boolean).join(" ")}.{" "}
            {detail.job.complaint}
          </span>
        </div>
      </Headline>
      <div className="flex flex-wrap items-center gap-x-5 gap-y-1 border-b border-rule px-5 py-1 text-sm">
        <Stage detail={detail} canWrite={canWrite} />
        {detail.diagnoses.map((diagnosis) => (
          <Link
            key={diagnosis.id}
            to={diagnosis.conclusion ? `/measure/${diagnosis.id}/diagnosis` : `/measure/${diagnosis.id}`}
            className="flex min-h-11 items-center gap-2 underline underline-offset-4"
            data-diagnosis-link={diagnosis.slug}
          >
            {diagnosis.title}
            <span className="text-soft no-underline">
              {diagnosis.conclusion
                ? "conclusion"
                : `${diagnosis.readings} reading${diagnosis.readings === 1 ? "" : "s"}`}
            </span>
          </Link>
        ))}
        <span className="ml-auto flex gap-4">
          <Button
            kind="quiet"
            aria-pressed={view === "recordings"}
            onClick={() => setParams(view === "recordings" ? {} : { view: "recordings" }, { replace: true })}
          >
            {view === "recordings" ? "Back to the job" : "Commands and recordings"}
          </Button>
          <Button
            kind="quiet"
            aria-pressed={view === "verify"}
            onClick={() => setParams(view === "verify" ? {} : { view: "verify" }, { replace: true })}
          >
            {view === "verify" ? "Back to the job" : "Verification"}
          </Button>
          <Button
            kind="quiet"
            aria-pressed={view === "hand-over"}
            onClick={() => setParams(view === "hand-over" ? {} : { view: "hand-over" }, { replace: true })}
          >
            {view === "hand-over" ? "Back to the job" : "Hand-over and report"}
          </Button>
          <Button
            kind="quiet"
            aria-pressed={timeline}
            onClick={() => setParams(timeline ? {} : { view: "timeline" }, { replace: true })}
          >
            {timeline ? "Back to the job" : "Timeline and notes"}
          </Button>
          {canWrite && (
            <Button kind="quiet" onClick={() => setSharing(true)}>
              Share
            </Button>
          )}
          {role === "lead" && (
            <Button kind="quiet" onClick={() => setErasing(true)}>
              Erase personal data
            </Button>
          )}
        </span>
      </div>
      {detail.job.erased_at && (
        <p className="border-b border-rule bg-raised px-5 py-1 text-sm">
          Personal data was erased on {when(detail.job.erased_at)}. What was measured and concluded is kept.
        </p>
      )}
      <CameBack detail={detail} />
      <PutBack detail={detail} canWrite={canWrite} />
      {view === "hand-over" ? (
        <div className="relative min-h-0 flex-1 overflow-auto">
          <HandOver detail={detail} canWrite={canWrite} />
        </div>
      ) : view === "verify" ? (
        <div className="relative min-h-0 flex-1 overflow-auto">
          <VerificationView detail={detail} canWrite={canWrite} />
        </div>
      ) : view === "recordings" ? (
        <div className="relative min-h-0 flex-1 overflow-auto">
          <JobRecordings detail={detail} canWrite={canWrite} />
        </div>
      ) : timeline ? (
        <div className="relative min-h-0 flex-1 overflow-auto">
          <TimelineList detail={detail} canWrite={canWrite} />
        </div>
      ) : (
        <div className="grid min-h-0 flex-1 grid-cols-1 overflow-auto lg:grid-cols-[minmax(360px,27rem)_1fr] lg:overflow-hidden">
          <div
            // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable by keyboard
            tabIndex={0}
            className="relative border-r border-rule px-5 py-4 lg:overflow-auto"
          >
            <h2 className="mb-3 text-xl">Vehicle, complaint and conditions</h2>
            <Known detail={detail} canWrite={canWrite} />
            <Maintenance detail={detail} canWrite={canWrite} />
          </div>
          <div
            // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable by keyboard
            tabIndex={0}
            className={`relative px-5 py-4 lg:overflow-auto ${begun ? "max-lg:order-first" : ""}`}
          >
            <TestFirst detail={detail} canWrite={canWrite}>
              <Codes detail={detail} canWrite={canWrite} />
            </TestFirst>
            <Modules detail={detail} canWrite={canWrite} />
          </div>
        </div>
      )}
      <EraseDialog job={detail.job} open={erasing} onClose={() => setErasing(false)} />
      <ShareDialog jobId={jobId} open={sharing} onClose={() => setSharing(false)} />
    </main>
  );
}

function Stage({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  const lists = useQuery(listsQuery);
  const held = useAnswer<string>(detail, "stage", detail.job.stage);
  return (
    <div className="flex min-w-0 items-center gap-3">
      {held.problem && (
        <span role="alert" className="min-w-0 border-l-4 border-ink bg-buff px-2 py-1 text-sm text-ink">
          {held.problem.detail}
        </span>
      )}
      <label className="flex items-center gap-2 text-soft">
        Stage
        <select
          value={detail.job.stage}
          disabled={!canWrite}
          onChange={(event) => held.answer(event.target.value)}
          className="min-h-11 rounded-sm border border-ink/60 bg-raised px-2 text-ink"
        >
          {(lists.data?.stages ?? [detail.job.stage]).map((stage) => (
            <option key={stage}>{stage}</option>
          ))}
        </select>
      </label>
    </div>
  );
}
