import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type JobDetail, unwrap } from "../../api/client";
import { timelineQuery } from "../../api/queries";
import { when } from "../../lib/format";
import { sendOnce } from "../../lib/keys";
import { type Unit, useUnits } from "../../lib/units";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { VirtualList } from "../../ui/VirtualList";
import { useWords } from "./words";

const FIELD: Record<string, string> = {
  recent_work: "worked on",
  recent_work_text: "recent work",
  opinion_by: "second opinion of",
  opinion_said: "they concluded",
  opinion_parts: "they name",
  battery_v: "battery, V",
  temperature_c: "part temperature",
  mileage_km: "mileage",
  environment: "surroundings",
  starting: "switched on with",
  vin: "VIN",
};

/** Everything that happened in a job, newest first, by whom; and a line for a note. */
export function TimelineList({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  const jobId = detail.job.id;
  const words = useWords(detail);
  const client = useQueryClient();
  const found = useQuery(timelineQuery(jobId));
  const entries = [...(found.data?.entries ?? [])].reverse();
  const { distance, temperature } = useUnits();
  const units: Record<string, Unit> = { mileage_km: distance, temperature_c: temperature };
  const [text, setText] = useState("");
  const add = useMutation({
    mutationFn: (body: string) =>
      sendOnce(["note", jobId, body], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/jobs/{job_id}/notes", {
            params: { path: { job_id: jobId } },
            body: { client_key, body },
          }),
        ),
      ),
    onSuccess: (answer) => {
      setText("");
      client.setQueryData(timelineQuery(jobId).queryKey, answer);
    },
  });
  return (
    <section aria-label="Timeline" className="mx-auto max-w-3xl px-5 py-4">
      {canWrite && (
        <form
          className="mb-4 flex gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            if (text.trim()) add.mutate(text.trim());
          }}
        >
          <label className="min-w-0 flex-1">
            <span className="sr-only">Note</span>
            <input
              value={text}
              onChange={(event) => setText(event.target.value)}
              placeholder="Write a note"
              className="block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-3 placeholder:text-soft"
            />
          </label>
          <Button type="submit" disabled={!text.trim() || add.isPending}>
            Add
          </Button>
        </form>
      )}
      {add.error && <Notice tone="problem">{add.error.message}. The note is still in its field.</Notice>}
      {found.error && <Notice tone="problem">{found.error.message}</Notice>}
      <div className="border-l-2 border-ink" data-testid="timeline">
        <VirtualList
          items={entries}
          keyOf={(entry) => `${entry.seq}-${entry.kind}-${entry.ref}`}
          estimate={62}
          label="Timeline, newest first"
          render={(entry) => (
            <div className="relative py-2 pl-6">
              <span aria-hidden="true" className="absolute top-4 left-0 h-0.5 w-3 bg-ink" />
              <div className="text-sm text-soft">
                {when(entry.at)}
                {entry.by && `, ${entry.by}`} · {entry.kind}
              </div>
              <div>
                {entry.kind === "answer" ? (
                  <>
                    <span className="first-letter:uppercase">
                      {FIELD[entry.text] ?? entry.text.replaceAll("_", " ")}
                    </span>
                    :{" "}
                    <strong className="font-[600]">
                      {plain(entry.detail, words, units[entry.text]).replace(/@\d+/g, "")}
                    </strong>
                  </>
                ) : (
                  entry.text
                )}
                {entry.kind !== "answer" && entry.detail && (
                  <span className="text-soft"> · {entry.detail}</span>
                )}
                {entry.kind === "circuit diagnosis opened" && (
                  <Link to={`/measure/${entry.ref}`} className="ml-2 underline underline-offset-4">
                    open
                  </Link>
                )}
              </div>
            </div>
          )}
        />
      </div>
    </section>
  );
}

function plain(json: string, words: Map<string, string>, unit?: Unit): string {
  const value: unknown = JSON.parse(json);
  if (unit && typeof value === "number") return `${unit.show(value)} ${unit.label}`;
  if (Array.isArray(value)) return value.map((item) => words.get(item) ?? item).join(", ") || "nothing";
  if (value === true) return "yes";
  if (value === false) return "no";
  return value === null ? "nothing" : String(value);
}
