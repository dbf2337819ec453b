import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useEffect, useRef, useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { api, unwrap } from "../../api/client";
import { circuitQuery, jobQuery, measuringQuery } from "../../api/queries";
import { Headline } from "../../app/Headline";
import { sendOnce } from "../../lib/keys";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";
import { Preview } from "./Preview";
import { SheetFields } from "./SheetFields";
import { SheetPictures } from "./SheetPictures";
import { SheetRows } from "./SheetRows";
import { emptySheet, ofKind, type Sheet, type Template, withTable } from "./sheet";
import { TableDialog, type TableFile } from "./TableDialog";
import { useHistory } from "./useHistory";

const SETTLED_MS = 350;

/** What the circuit is described for: a job that begins with it, or a diagnosis that goes on with it. */
interface Purpose {
  jobId: string;
  diagnosisId: string;
  reason: string;
}

/** Describing a circuit from its wiring sheet: what part it is, then its plug cavity by cavity; the circuit follows as one types. */
export default function DescribePage() {
  const { versionId } = useParams();
  const [query] = useSearchParams();
  const diagnosisId = query.get("diagnosis") ?? "";
  const jobId = query.get("job") ?? "";
  const job = useQuery({ ...jobQuery(jobId), enabled: jobId !== "" });
  const measuring = useQuery({ ...measuringQuery(diagnosisId), enabled: diagnosisId !== "" });
  const version = versionId ?? measuring.data?.diagnosis.circuit_version_id;
  const circuit = useQuery({ ...circuitQuery(version), enabled: version !== undefined });
  const trouble = circuit.error ?? job.error ?? measuring.error;
  if (trouble) {
    return (
      <main className="mx-auto max-w-3xl p-6">
        <Notice tone="problem">{trouble.message}</Notice>
      </main>
    );
  }
  const waiting = (jobId && !job.data) || (diagnosisId && !measuring.data) || (version && !circuit.data);
  if (waiting) return <main className="p-6">…</main>;
  const about = job.data?.job ?? measuring.data?.job;
  const part = query.get("part") ?? circuit.data?.title.replace(/, typical$/, "") ?? "";
  const first = circuit.data?.sheet ?? emptySheet(about?.make ?? "", about?.model ?? "", part);
  return (
    <Describing
      key={version ?? "new"}
      first={first}
      purpose={{ jobId, diagnosisId, reason: query.get("code") ?? "" }}
    />
  );
}

function Describing(props: { first: Sheet; purpose: Purpose }) {
  const { jobId, diagnosisId, reason } = props.purpose;
  const navigate = useNavigate();
  const client = useQueryClient();
  const { now: sheet, change, undo, redo, canUndo, canRedo } = useHistory<Sheet>(props.first);
  const [sought, setSought] = useState(props.first.part || reason);
  const [file, setFile] = useState<TableFile | null>(null);
  const picker = useRef<HTMLInputElement>(null);
  const settled = useSettled(sheet);
  const kinds = useQuery({
    queryKey: ["templates", useDeferredValue(sought), "", null],
    placeholderData: keepPreviousData,
    queryFn: async () =>
      unwrap(await api.GET("/api/v1/templates", { params: { query: { said: sought, code: "" } } })),
  });
  const all = useQuery({
    queryKey: ["templates", "", "", null],
    staleTime: 600_000,
    queryFn: async () =>
      unwrap(await api.GET("/api/v1/templates", { params: { query: { said: "", code: "" } } })),
  });
  const template = all.data?.templates.find((one) => one.id === sheet.template) ?? null;
  const preview = useQuery({
    queryKey: ["sheet", settled],
    enabled: settled.template !== "" && settled.make.trim() !== "",
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: async () => unwrap(await api.POST("/api/v1/sheets/preview", { body: { sheet: settled } })),
  });
  const keep = useMutation({
    mutationFn: async () => {
      const kept = unwrap(await api.POST("/api/v1/sheets", { body: { sheet } }));
      const circuit_version_id = kept.version_id;
      if (diagnosisId) {
        const path = { params: { path: { diagnosis_id: diagnosisId } } };
        await sendOnce(["move", diagnosisId, circuit_version_id], async (client_key) =>
          unwrap(
            await api.PUT("/api/v1/diagnoses/{diagnosis_id}/circuit", {
              ...path,
              body: { client_key, version_id: circuit_version_id },
            }),
          ),
        );
        return { measure: diagnosisId, version: circuit_version_id };
      }
      if (!jobId) return { measure: null, version: circuit_version_id };
      const diagnosis = await sendOnce(["open", jobId, circuit_version_id], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/jobs/{job_id}/diagnoses", {
            params: { path: { job_id: jobId } },
            body: {
              client_key,
              circuit_version_id,
              reason: reason || "Described from the wiring sheet",
              carry: false,
            },
          }),
        ),
      );
      return { measure: diagnosis.id, version: circuit_version_id };
    },
    onSuccess: ({ measure, version }) => {
      client.invalidateQueries({ queryKey: ["circuits"] });
      client.invalidateQueries({ queryKey: ["job"] });
      if (diagnosisId) client.invalidateQueries(measuringQuery(diagnosisId));
      navigate(measure ? `/measure/${measure}` : `/circuits/${version}`);
    },
  });
  useEffect(() => {
    const keys = (event: KeyboardEvent) => {
      if (!(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== "z") return;
      event.preventDefault();
      (event.shiftKey ? redo : undo)();
    };
    window.addEventListener("keydown", keys);
    return () => window.removeEventListener("keydown", keys);
  }, [undo, redo]);
  const current = settled === sheet && !preview.isPlaceholderData;
  const problems = new Map(current ? preview.data?.problems.map((one) => [one.field, one.message]) : []);
  const elsewhere = [...problems].filter(([field]) => !/^(rows\.\d|figures\.|table|through)/.test(field));
  const ready = current && preview.data !== undefined && preview.data.circuit !== null;
  const trouble = preview.error ?? keep.error ?? kinds.error;
  return (
    <main className="grid gap-x-8 gap-y-5 px-5 py-4 lg:grid-cols-[minmax(0,1.25fr)_minmax(0,1fr)]">
      <Headline>
        <h1 className="text-lg">Describe a circuit</h1>
      </Headline>
      <div className="min-w-0 space-y-4">
        <section aria-label="Vehicle and part" className="grid gap-3 sm:grid-cols-[1fr_1fr_2fr]">
          <TextField
            label="Make"
            value={sheet.make}
            maxLength={60}
            onChange={(event) => change("make", (now) => ({ ...now, make: event.target.value }))}
          />
          <TextField
            label="Model"
            value={sheet.model ?? ""}
            maxLength={60}
            onChange={(event) => change("model", (now) => ({ ...now, model: event.target.value }))}
          />
          <TextField
            label="What the part is called"
            value={sheet.part ?? ""}
            maxLength={60}
            placeholder="oil-control valve, rear wiper, gear range switch …"
            onChange={(event) => {
              const part = event.target.value;
              setSought(part);
              change("part", (now) => ({ ...now, part }));
            }}
          />
        </section>
        {template ? (
          <p className="flex flex-wrap items-center gap-3">
            <span>
              Kind of part: <strong className="font-[650]">{template.title}</strong>
            </span>
            <Button kind="quiet" onClick={() => change("", (now) => ({ ...now, template: "" }))}>
              another kind
            </Button>
          </p>
        ) : (
          <Kinds
            likely={sought.trim() === "" ? [] : (kinds.data?.templates ?? [])}
            all={all.data?.templates ?? []}
            onChoose={(kind) => change("", (now) => ofKind(now, kind))}
          />
        )}
        {trouble && <Notice tone="problem">{trouble.message}</Notice>}
        {elsewhere.map(([field, message]) => (
          <Notice key={field} tone="note">
            {message}
          </Notice>
        ))}
        {template && (
          <>
            <SheetRows sheet={sheet} template={template} problems={problems} onChange={change} />
            <SheetFields sheet={sheet} template={template} problems={problems} onChange={change} />
          </>
        )}
        <div className="sticky bottom-0 flex flex-wrap items-center gap-3 border-t border-rule bg-paper py-2">
          <Button kind="next" disabled={!ready || keep.isPending} onClick={() => keep.mutate()}>
            {keep.isPending
              ? "Keeping …"
              : diagnosisId
                ? "Keep it and go on measuring"
                : jobId
                  ? "Keep it and measure"
                  : "Keep the circuit"}
          </Button>
          <Button onClick={undo} disabled={!canUndo}>
            Undo
          </Button>
          <Button onClick={redo} disabled={!canRedo}>
            Redo
          </Button>
          {template && (
            <Button kind="quiet" onClick={() => picker.current?.click()}>
              From a pin table (CSV, WireViz)
            </Button>
          )}
          <input
            ref={picker}
            type="file"
            accept=".csv,.tsv,.txt,.yml,.yaml"
            className="sr-only"
            aria-label="Pin table"
            tabIndex={-1}
            onChange={async (event) => {
              const chosen = event.target.files?.[0];
              if (chosen) setFile({ name: chosen.name, text: await chosen.text() });
              event.target.value = "";
            }}
          />
        </div>
      </div>
      <div className="min-w-0 space-y-5" aria-busy={preview.isFetching}>
        <SheetPictures
          pictures={sheet.pictures ?? []}
          onChange={(pictures) => change("", (now) => ({ ...now, pictures }))}
        />
        {preview.data && sheet.template !== "" && <Preview preview={preview.data} />}
      </div>
      <TableDialog
        file={file}
        onClose={() => setFile(null)}
        onUse={(table, connector) => {
          change("", (now) => withTable(now, table, connector));
          setFile(null);
        }}
      />
    </main>
  );
}

function Kinds(props: { likely: Template[]; all: Template[]; onChoose: (template: Template) => void }) {
  const likely = props.likely.filter((one) => one.wires > 0);
  const others = props.all.filter((one) => one.wires > 0 && !likely.some((two) => two.id === one.id));
  const list = (label: string, templates: Template[]) => (
    <ul className="border-t border-rule" aria-label={label}>
      {templates.map((template) => (
        <li key={template.id} className="border-b border-rule">
          <button
            type="button"
            data-template={template.id}
            className="block min-h-11 w-full py-2 text-left"
            onClick={() => props.onChoose(template)}
          >
            <strong className="font-[650]">{template.title}</strong>
            <span className="block text-sm text-soft">{template.carries.join(" · ")}</span>
          </button>
        </li>
      ))}
    </ul>
  );
  return (
    <section aria-label="Kind of part" className="max-h-[60vh] overflow-auto">
      <h2 className="text-base text-soft">Which is it most like?</h2>
      {list("Likely kinds", likely)}
      {likely.length === 0 && <p className="py-2">Nothing is called that. Another name, or one of these?</p>}
      {others.length > 0 && (
        <>
          <h2 className="mt-4 text-base text-soft">Other kinds</h2>
          {list("Other kinds", others)}
        </>
      )}
    </section>
  );
}

/** The value once it has not changed for a moment. */
function useSettled<T>(value: T): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), SETTLED_MS);
    return () => clearTimeout(timer);
  }, [value]);
  return settled;
}
