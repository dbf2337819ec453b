import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { RadioGroup } from "radix-ui";
import { type ReactNode, useRef, useState } from "react";
import { ApiError, api, type CircuitSummary, unwrap } from "../../api/client";
import { circuitsQuery } from "../../api/queries";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { isCalled } from "../circuits/search";

/** Straight to one circuit: found by any of its names, or loaded from a file. */
export function CircuitPicker(props: {
  /** The make entered so far; others' circuits are left out. */
  make: string;
  chosen: string;
  onChoose: (versionId: string) => void;
}) {
  const { make, chosen, onChoose } = props;
  const client = useQueryClient();
  const circuits = useQuery(circuitsQuery);
  const [sought, setSought] = useState("");
  const loadFile = useMutation({
    mutationFn: async (text: string) => unwrap(await api.POST("/api/v1/circuits", { body: { text } })),
    onSuccess: async (made) => {
      await client.invalidateQueries(circuitsQuery);
      onChoose(made.version_id);
    },
  });
  const fitting = circuits.data?.circuits.filter(
    (circuit) =>
      circuit.version_id === chosen ||
      ((!make || circuit.make.toLowerCase() === make.trim().toLowerCase()) && isCalled(circuit, sought)),
  );
  return (
    <details className="md:col-span-2" open={chosen !== "" || undefined}>
      <summary className="min-h-11 cursor-pointer py-2 text-lg font-[650]">
        Straight to one circuit{" "}
        <span className="text-sm font-[400] text-soft">
          if it is clear already which, or its file is at hand
        </span>
      </summary>
      {circuits.error && (
        <Notice tone="problem">The circuits cannot be read: {circuits.error.message}</Notice>
      )}
      <label className="mb-2 block max-w-md text-sm text-soft">
        Find by any of its names, e.g. MAF or outside temperature
        <input
          value={sought}
          onChange={(event) => setSought(event.target.value)}
          className="mt-1 block min-h-11 w-full border border-ink/60 bg-raised px-3 text-base text-ink"
        />
      </label>
      {fitting?.length === 0 && <p className="text-sm">No circuit of that name and make is known.</p>}
      <RadioGroup.Root
        value={chosen}
        onValueChange={onChoose}
        aria-label="Circuit"
        className="grid max-h-96 gap-x-6 overflow-auto border-y border-rule md:grid-cols-2"
      >
        {fitting?.map((circuit) => (
          <CircuitChoice key={circuit.version_id} circuit={circuit} />
        ))}
      </RadioGroup.Root>
      <FileLoader onText={(text) => loadFile.mutate(text)} busy={loadFile.isPending} />
      {loadFile.data && !loadFile.isPending && (
        <div className="mt-2 text-sm" role="status">
          <strong>Loaded:</strong> {loadFile.data.title}, version {loadFile.data.version}. It is chosen above.
          {(loadFile.data.notes ?? []).map((note) => (
            <p key={`${note.field}-${note.message}`}>
              {note.line ? `Line ${note.line}: ` : ""}
              {note.message}
            </p>
          ))}
        </div>
      )}
      {loadFile.error && <FileProblems error={loadFile.error} />}
    </details>
  );
}

function CircuitChoice({ circuit }: { circuit: CircuitSummary }) {
  return (
    <RadioGroup.Item
      value={circuit.version_id}
      className="group flex w-full items-start gap-3 border-b border-rule px-2 py-3 text-left data-[state=checked]:bg-depth-1"
    >
      <span
        aria-hidden="true"
        className="mt-1 h-4 w-4 shrink-0 rounded-full border-2 border-ink group-data-[state=checked]:border-[5px]"
      />
      <span>
        <span className="block font-[600]">{circuit.title}</span>
        <span className="block text-sm text-soft">
          {circuit.make}
          {circuit.example && " (example)"}, version {circuit.version} · {circuit.parts} parts,{" "}
          {circuit.points} points to probe, {circuit.faults} faults known
        </span>
        {circuit.complaint && <span className="block text-sm">{circuit.complaint}</span>}
      </span>
    </RadioGroup.Item>
  );
}

function FileLoader({ onText, busy }: { onText: (text: string) => void; busy: boolean }): ReactNode {
  const input = useRef<HTMLInputElement>(null);
  return (
    <div className="mt-4">
      <input
        ref={input}
        type="file"
        accept=".yaml,.yml,.txt"
        className="sr-only"
        tabIndex={-1}
        aria-label="Circuit file"
        onChange={async (event) => {
          const file = event.target.files?.[0];
          if (file) onText(await file.text());
          event.target.value = "";
        }}
      />
      <Button onClick={() => input.current?.click()} disabled={busy}>
        {busy ? "Checking …" : "Load a circuit file …"}
      </Button>
      <span className="ml-3 text-sm text-soft">YAML, see docs/circuit-format.md</span>
    </div>
  );
}

function FileProblems({ error }: { error: Error }) {
  const problem = error instanceof ApiError ? error.problem : null;
  return (
    <div className="mt-3 space-y-2">
      <Notice tone="problem">{problem?.detail ?? error.message}</Notice>
      {problem?.errors && (
        <ol className="max-h-56 overflow-auto text-sm" aria-label="Problems in the file">
          {problem.errors.map((item) => (
            <li
              key={`${item.line}-${item.field}-${item.message}`}
              className="flex gap-3 border-b border-rule py-1"
            >
              <span className="w-16 shrink-0 font-[600]">{item.line ? `line ${item.line}` : "file"}</span>
              <span>
                <strong>{item.field}</strong>: {item.message}
              </span>
            </li>
          ))}
        </ol>
      )}
    </div>
  );
}
