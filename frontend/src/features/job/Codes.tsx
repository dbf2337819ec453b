import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { ApiError, api, type Code, type JobDetail, unwrap } from "../../api/client";
import { jobQuery, listsQuery } from "../../api/queries";
import { sendOnce } from "../../lib/keys";
import { AskDialog } from "../../ui/AskDialog";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { Picks } from "../../ui/Picks";
import { type CodeFile, ImportDialog } from "./ImportDialog";
import { MeasurePart, type PartWanted } from "./MeasurePart";

const BEHAVIOUR: Record<string, string> = {
  hard: "Hard: there all the time",
  conditional: "Conditional",
  intermittent: "Intermittent",
  history: "History",
  "not run yet": "Not tested again yet",
  new: "New since clearing",
};

/** Codes: read, typed, imported; what each means and how it behaved since clearing; clear and re-read, guided. */
export function Codes({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  const client = useQueryClient();
  const jobId = detail.job.id;
  const [text, setText] = useState("");
  const [run, setRun] = useState<string[]>([]);
  const [describing, setDescribing] = useState<Code | null>(null);
  const [measuring, setMeasuring] = useState<PartWanted | null>(null);
  const [importing, setImporting] = useState<CodeFile | null>(null);
  const file = useRef<HTMLInputElement>(null);
  const take = (answer: JobDetail) => {
    client.setQueryData(jobQuery(jobId).queryKey, answer);
    client.invalidateQueries({ queryKey: ["jobs"] });
    setRun([]);
  };
  const path = { params: { path: { job_id: jobId } } };
  const conditions = detail.cleared_at ? run : [];
  const type = useMutation({
    mutationFn: (body: { text: string; none_stored?: boolean }) =>
      sendOnce(["scan", jobId, conditions, body], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/jobs/{job_id}/scans", {
            ...path,
            body: { client_key, conditions, none_stored: false, source: "typed", rows: null, ...body },
          }),
        ),
      ),
    onSuccess: (answer) => {
      setText("");
      take(answer);
    },
  });
  const read = useMutation({
    mutationFn: () =>
      sendOnce(["read", jobId, conditions], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/jobs/{job_id}/scans/vehicle", {
            ...path,
            body: { client_key, conditions },
          }),
        ),
      ),
    onSuccess: take,
  });
  const clear = useMutation({
    mutationFn: (by: "vehicle" | "hand") =>
      sendOnce(["clear", jobId, by], async (client_key) =>
        unwrap(await api.POST("/api/v1/jobs/{job_id}/clearing", { ...path, body: { client_key, by } })),
      ),
    onSuccess: take,
  });
  const describe = useMutation({
    mutationFn: async ({ code, title }: { code: string; title: string }) =>
      unwrap(
        await api.PUT("/api/v1/jobs/{job_id}/codes/{code}/meaning", {
          params: { path: { job_id: jobId, code } },
          body: { title, about: "" },
        }),
      ),
    onSuccess: take,
  });
  const trouble = [type.error, read.error, clear.error, describe.error].find(Boolean);
  const lines = type.error instanceof ApiError ? (type.error.problem.errors ?? []) : [];
  const last = detail.scans[detail.scans.length - 1];
  const modules = Object.entries(
    Object.assign({}, ...detail.scans.map((scan) => scan.modules)) as Record<string, boolean | string>,
  );
  return (
    <section aria-labelledby="codes-title">
      <div className="flex flex-wrap items-baseline justify-between gap-x-4">
        <h2 id="codes-title" className="text-xl">
          Codes
        </h2>
        {modules.length > 0 && (
          <p className="text-sm" data-testid="modules">
            {modules.map(([name, answered]) => (
              <span key={name} className="ml-3">
                <strong className="font-[650]">{name}</strong>{" "}
                {typeof answered === "string" ? (
                  <span className="border border-ink px-1">{answered}</span>
                ) : answered ? (
                  <span className="text-soft">answered</span>
                ) : (
                  <span className="bg-buff px-1 font-[650]">did not answer</span>
                )}
              </span>
            ))}
          </p>
        )}
      </div>
      {detail.codes.length === 0 && (
        <p className="text-sm text-soft">
          {last ? "No code is stored." : "None read yet. Read every module before anything is cleared."}
        </p>
      )}
      {detail.codes.length > 0 && (
        <ul className="border-t border-rule" aria-label="Codes">
          {detail.codes.map((code) => (
            <CodeLine
              key={`${code.module}-${code.code}-${code.failure_type}`}
              code={code}
              onDescribe={canWrite && code.known_from !== "library" ? () => setDescribing(code) : null}
              onMeasure={canWrite ? measureOf(code, detail.known_vehicle, setMeasuring) : null}
            />
          ))}
        </ul>
      )}
      {trouble && (
        <div className="mt-2">
          <Notice tone="problem">
            {trouble instanceof ApiError
              ? trouble.problem.detail
              : "The server does not answer. What you typed is still here."}
          </Notice>
          {lines.length > 1 && (
            <ul className="mt-1 text-sm">
              {lines.map((line) => (
                <li key={`${line.line}-${line.message}`}>
                  line {line.line}: {line.message}
                </li>
              ))}
            </ul>
          )}
        </div>
      )}
      {canWrite && (
        <div className="mt-2 space-y-2">
          {detail.cleared_at && <ReRead detail={detail} run={run} onRun={setRun} />}
          <div className="flex flex-wrap gap-2">
            {detail.interface && (
              <Button onClick={() => read.mutate()} disabled={read.isPending}>
                {read.isPending
                  ? "Asking every module …"
                  : detail.cleared_at
                    ? "Read the vehicle again"
                    : "Read the vehicle"}
              </Button>
            )}
            {detail.scans.length > 0 && !detail.cleared_at && (
              <>
                {detail.interface && (
                  <Button onClick={() => clear.mutate("vehicle")} disabled={clear.isPending}>
                    {clear.isPending ? "Clearing …" : "Clear and re-read"}
                  </Button>
                )}
                <Button kind="quiet" onClick={() => clear.mutate("hand")}>
                  I have cleared them by hand
                </Button>
              </>
            )}
            {detail.cleared_at && (
              <Button kind="quiet" onClick={() => type.mutate({ text: "", none_stored: true })}>
                Read by hand: none is back
              </Button>
            )}
          </div>
          <form
            className="flex items-stretch gap-2"
            onSubmit={(event) => {
              event.preventDefault();
              if (text.trim()) type.mutate({ text });
            }}
          >
            <label className="min-w-0 flex-1">
              <span className="sr-only">Type or paste codes</span>
              <textarea
                rows={Math.min(6, Math.max(1, text.split("\n").length))}
                value={text}
                onChange={(event) => setText(event.target.value)}
                placeholder="Type or paste codes, any number: P0480 U0100-87 …"
                className="block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-3 py-2 placeholder:text-soft"
                data-testid="codes-entry"
              />
            </label>
            <Button type="submit" disabled={!text.trim() || type.isPending}>
              Keep
            </Button>
            <input
              ref={file}
              type="file"
              accept=".csv,.json,.txt,.tsv"
              className="sr-only"
              tabIndex={-1}
              aria-label="File of codes"
              onChange={async (event) => {
                const chosen = event.target.files?.[0];
                if (chosen) setImporting({ name: chosen.name, text: await chosen.text() });
                event.target.value = "";
              }}
            />
            <Button onClick={() => file.current?.click()}>From a file …</Button>
          </form>
        </div>
      )}
      <MeasurePart detail={detail} wanted={measuring} onClose={() => setMeasuring(null)} />
      <ImportDialog
        jobId={jobId}
        file={importing}
        conditions={conditions}
        onClose={() => setImporting(null)}
        onKept={take}
      />
      <AskDialog
        open={describing !== null}
        title={`What does ${describing?.code ?? ""} mean on a ${detail.job.make}?`}
        choices={[]}
        accept="Keep it for the workshop"
        onClose={() => setDescribing(null)}
        onAccept={(title) => {
          if (describing) describe.mutate({ code: describing.code, title });
          setDescribing(null);
        }}
      >
        No circuit here knows this code. What you write is shown on every {detail.job.make} from now on.
      </AskDialog>
    </section>
  );
}

const NAME_LENGTH = 60;

/** A code leads to a typical circuit by itself, or by what the workshop says that the scan tool calls it. */
function measureOf(code: Code, knownVehicle: boolean, measure: (wanted: PartWanted) => void) {
  if (code.template) return knownVehicle ? () => measure({ code: code.code, name: "" }) : null;
  if (code.known_from !== "workshop" || !code.title || code.danger) return null;
  return () => measure({ code: code.code, name: code.title.slice(0, NAME_LENGTH) });
}

function CodeLine(props: { code: Code; onDescribe: (() => void) | null; onMeasure: (() => void) | null }) {
  const { code, onDescribe, onMeasure } = props;
  return (
    <li
      className="grid grid-cols-[5.5rem_3rem_1fr] items-baseline gap-x-3 border-b border-rule py-1 text-sm xl:grid-cols-[5.5rem_3rem_minmax(0,1fr)_minmax(0,1.1fr)]"
      data-code={code.code}
      data-behaviour={code.behaviour ?? ""}
    >
      <span className="figure text-lg leading-6">
        <Link to={`/codes/${code.code}`} className="underline-offset-4 hover:underline">
          {code.code}
          {code.failure_type ? `-${code.failure_type}` : ""}
        </Link>
      </span>
      <span className="text-soft">{code.module || "–"}</span>
      <span>
        {code.title || <span className="text-soft">{code.why_not || `Not known here (${code.kind})`}</span>}
        {code.failure_words && <span className="text-soft">; {code.failure_words}</span>}
        {code.known_from === "generic" && <span className="text-soft"> (generic meaning)</span>}
        {onDescribe && (
          <button type="button" className="ml-2 min-h-6 underline underline-offset-4" onClick={onDescribe}>
            {code.title ? "change" : "describe it"}
          </button>
        )}
        {code.danger && (
          <span className="mt-1 block border-l-4 border-ink bg-buff px-2 py-1" role="note">
            <strong className="mr-2 font-[700]">Danger</strong>
            {code.danger} Nothing is measured here.
          </span>
        )}
      </span>
      <div className="flex items-center justify-between gap-3 max-xl:col-start-3">
        {code.behaviour ? (
          <span>
            <strong className="font-[650]">{BEHAVIOUR[code.behaviour] ?? code.behaviour}</strong>
            <span className="text-soft">
              {code.after_s !== null && `, back after ${Math.round(code.after_s)} s`}
              {code.behaviour_reason && `: ${code.behaviour_reason}`}
            </span>
          </span>
        ) : (
          <span className="text-soft">{code.status_words.join(", ") || "status not said"}</span>
        )}
        {onMeasure && (
          <Button className="shrink-0 px-3 text-sm" onClick={onMeasure}>
            Measure it
          </Button>
        )}
      </div>
    </li>
  );
}

/** Walks through the re-read: key first, then the complaint's own conditions. */
function ReRead(props: { detail: JobDetail; run: string[]; onRun: (run: string[]) => void }) {
  const again = props.detail.scans.filter((scan) => scan.after_s !== null).length;
  const open = props.detail.codes.filter((code) => code.behaviour === "not run yet").length;
  const lists = useQuery(listsQuery);
  const step =
    again === 0
      ? "Turn the key off and on, wait ten seconds, then read again: what is back at once is there all the time."
      : open > 0
        ? `${open} of the codes ${open === 1 ? "has" : "have"} not been tested again. Run the complaint's own conditions, say below which, and read again.`
        : "Every code has been sorted. Reading again after other conditions can still change it.";
  return (
    <div className="border-l-4 border-ink bg-depth-1 px-3 py-2 text-sm" data-testid="re-read">
      <p>
        <strong className="font-[650]">Cleared; the list from before is kept.</strong> {step}
      </p>
      <p className="mt-1 mb-1 text-soft">Run since clearing:</p>
      <Picks
        label="Run since clearing"
        options={(lists.data?.run_conditions ?? []).map((key) => ({ key, title: key }))}
        chosen={props.run}
        onChange={props.onRun}
      />
    </div>
  );
}
