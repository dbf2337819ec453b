import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { ApiError, api, type JobDetail } from "../../api/client";
import { when } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { CommandPanel } from "./CommandPanel";
import { type Recording, recordingsQuery } from "./calls";
import { FileDialog } from "./FileDialog";
import { announce, sendPieces } from "./sendFile";
import { TypedDialog } from "./TypedDialog";

/** Recordings of a job: files of loggers and scan tools, and what was recorded from the vehicle. */
export function JobRecordings({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  const jobId = detail.job.id;
  const client = useQueryClient();
  const list = useQuery(recordingsQuery(jobId));
  const chooser = useRef<HTMLInputElement>(null);
  const [looking, setLooking] = useState<Recording | null>(null);
  const [share, setShare] = useState<number | null>(null);
  const stop = useRef<AbortController | null>(null);
  const [typing, setTyping] = useState(false);
  const refresh = () => client.invalidateQueries({ queryKey: ["recordings", jobId] });
  const send = useMutation({
    mutationFn: async (file: File) => {
      stop.current = new AbortController();
      const recording = await announce(jobId, file);
      if (recording.state === "ready" || recording.state === "reading") return recording;
      await sendPieces(recording, file, list.data?.piece_bytes ?? 1, stop.current.signal, setShare);
      return recording;
    },
    onSuccess: (recording) => {
      if (recording.state === "arriving" || recording.state === "failed") setLooking(recording);
    },
    onSettled: () => {
      setShare(null);
      refresh();
    },
  });
  const leave = useMutation({
    mutationFn: async (recording: Recording) =>
      api.DELETE("/api/v1/recordings/{recording_id}", { params: { path: { recording_id: recording.id } } }),
    onSettled: refresh,
  });
  const found = list.data?.recordings ?? [];
  const trouble = send.error && send.error.name !== "AbortError" ? send.error : list.error;
  return (
    <div className="max-w-5xl px-5 py-4">
      <CommandPanel jobId={jobId} canWrite={canWrite} />
      <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h2 className="text-xl">Recordings</h2>
        {canWrite && (
          <Button onClick={() => chooser.current?.click()} disabled={send.isPending || !list.data}>
            Add a file
          </Button>
        )}
        {canWrite && <Button onClick={() => setTyping(true)}>Type figures in</Button>}
        <input
          ref={chooser}
          type="file"
          aria-label="File of a recording"
          className="sr-only"
          tabIndex={-1}
          onChange={(event) => {
            const file = event.target.files?.[0];
            if (file) send.mutate(file);
            event.target.value = "";
          }}
        />
      </div>
      {trouble && (
        <Notice tone="problem">
          {trouble instanceof ApiError
            ? trouble.problem.detail
            : "The connection was lost. What has arrived is kept: add the same file again, and it goes on from there."}
        </Notice>
      )}
      {share !== null && (
        <div className="my-2 flex items-center gap-3" role="status">
          <progress
            value={share}
            max={1}
            className="h-3 w-60"
            aria-label="Share of the file that has arrived"
          />
          {Math.round(100 * share)} % has arrived
          <Button kind="quiet" onClick={() => stop.current?.abort()}>
            Stop
          </Button>
        </div>
      )}
      {list.data && found.length === 0 && (
        <p className="max-w-2xl text-soft">
          A recording shows what a single figure cannot: whether a valve follows its command and how fast, a
          signal that drops out for a tenth of a second, two banks that drift apart until the oil is warm. Add
          a file from a logger, an oscilloscope or a scan tool: CSV, TSV or MDF 4.
        </p>
      )}
      {typing && <TypedDialog jobId={jobId} onClose={() => setTyping(false)} />}
      <ul aria-label="Recordings">
        {found.map((one) => (
          <li
            key={one.id}
            data-recording={one.name}
            className="flex flex-wrap items-baseline gap-x-4 border-t border-rule py-1"
          >
            {one.state === "ready" ? (
              <Link
                to={`/recordings/${one.id}`}
                className="flex min-h-11 items-center underline underline-offset-4"
              >
                {one.name}
              </Link>
            ) : (
              <span className="flex min-h-11 items-center">{one.name}</span>
            )}
            <span className="text-sm text-soft">{told(one)}</span>
            <span className="ml-auto text-sm text-soft">
              {when(one.created_at)} {one.by}
            </span>
            {canWrite && (one.state === "arriving" || one.state === "failed") && (
              <span className="flex gap-3">
                {one.arrived >= one.bytes ? (
                  <Button onClick={() => setLooking(one)}>Read it</Button>
                ) : (
                  <Button onClick={() => chooser.current?.click()}>Choose the same file to go on</Button>
                )}
                <Button kind="quiet" onClick={() => leave.mutate(one)}>
                  Give up
                </Button>
              </span>
            )}
          </li>
        ))}
      </ul>
      <FileDialog recording={looking} onClose={() => setLooking(null)} onReading={refresh} />
    </div>
  );
}

function told(one: Recording): string {
  if (one.state === "ready") {
    const notes = one.notes.length
      ? `; ${one.notes.length === 1 ? one.notes[0] : `${one.notes.length} notes`}`
      : "";
    return `${duration(one.end_s - one.start_s)}, ${one.samples.toLocaleString("en-GB")} samples${notes}`;
  }
  if (one.state === "reading") return "being read …";
  if (one.state === "failed") return `not read: ${one.problem}`;
  return one.arrived < one.bytes
    ? `${Math.floor((100 * one.arrived) / one.bytes)} % has arrived`
    : "has arrived, not read yet";
}

/** A length of time as people say it. */
export function duration(seconds: number): string {
  if (seconds < 120) return `${seconds.toFixed(seconds < 10 ? 2 : 1)} s`;
  return seconds < 7200 ? `${(seconds / 60).toFixed(1)} min` : `${(seconds / 3600).toFixed(1)} h`;
}
