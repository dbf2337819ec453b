import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, type TestIn, unwrap } from "../../../api/client";
import { procedureQuery, proceduresQuery } from "../../../api/queries";
import { minutes, percent } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { Notice } from "../../../ui/Notice";

interface Props {
  diagnosisId: string;
  slug: string;
  readings: number;
  canWrite: boolean;
  onTest: (test: TestIn) => void;
}

/** A manufacturer's procedure: entered as text, followed step by step, laid beside Sondar's own order. */
export function ProcedurePanel({ diagnosisId, slug, readings, canWrite, onTest }: Props) {
  const client = useQueryClient();
  const procedures = useQuery(proceduresQuery(diagnosisId));
  const [chosen, setChosen] = useState<string | null>(null);
  const [entering, setEntering] = useState(false);
  const [text, setText] = useState("");
  const procedureId = chosen ?? procedures.data?.procedures[0]?.id ?? null;
  const procedure = useQuery(procedureQuery(diagnosisId, procedureId, readings));
  const compared = useQuery({
    queryKey: ["comparison", diagnosisId, procedureId, readings],
    enabled: false,
    queryFn: async () =>
      unwrap(
        await api.GET("/api/v1/diagnoses/{diagnosis_id}/procedures/{procedure_id}/comparison", {
          params: { path: { diagnosis_id: diagnosisId, procedure_id: procedureId as string } },
        }),
      ),
  });
  const keep = useMutation({
    mutationFn: async () =>
      unwrap(
        await api.POST("/api/v1/diagnoses/{diagnosis_id}/procedures", {
          params: { path: { diagnosis_id: diagnosisId } },
          body: { text },
        }),
      ),
    onSuccess: (made) => {
      client.invalidateQueries({ queryKey: ["procedures", diagnosisId] });
      setChosen(made.id);
      setEntering(false);
      setText("");
    },
  });
  const problem = keep.error instanceof ApiError ? keep.error.problem : null;
  const open = procedure.data?.path.find((step) => step.decision === "open" || step.decision === "in doubt");
  return (
    <div className="space-y-2 text-sm">
      {(procedures.data?.procedures.length ?? 0) > 1 && (
        <select
          aria-label="Diagnostic procedure"
          className="min-h-11 w-full border border-ink/50 bg-raised px-2 text-base"
          value={procedureId ?? ""}
          onChange={(event) => setChosen(event.target.value)}
        >
          {procedures.data?.procedures.map((item) => (
            <option key={item.id} value={item.id}>
              {item.title}
            </option>
          ))}
        </select>
      )}
      {procedures.data?.procedures.length === 0 && !entering && (
        <p className="text-soft">
          No procedure yet. Enter the manufacturer's steps once and follow them here; Sondar shows what each
          step saves beside its own order.
        </p>
      )}
      {procedure.data && procedureId && (
        <>
          <h3 className="text-base leading-tight">{procedure.data.title}</h3>
          {procedure.data.source && <p className="text-soft">{procedure.data.source}</p>}
          <ol className="border-t border-rule" aria-label="Steps of the procedure">
            {procedure.data.path.map((step) => (
              <li
                key={step.id}
                className="border-b border-rule py-1 leading-tight"
                data-step={step.id}
                data-decision={step.decision}
              >
                <div className="font-[600]">
                  {step.id}. {step.do}
                </div>
                <div className="text-soft">
                  {step.test}; {step.range}
                </div>
                <div>
                  {step.decision === "open"
                    ? "to be measured"
                    : `${step.decision === "pass" ? "✓ yes" : step.decision === "fail" ? "✕ no" : "? in doubt"}: ${step.shown}`}
                  {compared.data?.saving_per_min[step.id] !== undefined && (
                    <span className="text-soft">
                      {" "}
                      · saves {compared.data.saving_per_min[step.id]?.toFixed(1)} min per minute now
                    </span>
                  )}
                </div>
              </li>
            ))}
            {procedure.data.end && (
              <li className="py-1 font-[650]" data-step="end">
                {procedure.data.end}
                <span className="block font-[400]">{procedure.data.agrees}</span>
              </li>
            )}
          </ol>
          {open && (
            <Button
              onClick={() =>
                onTest({
                  instrument: open.instrument,
                  red: open.red,
                  black: open.black,
                  setup: { controls: open.setup.controls, unplugged: open.setup.unplugged },
                })
              }
            >
              Set up step {open.id}
            </Button>
          )}{" "}
          <Button kind="quiet" onClick={() => compared.refetch()} disabled={compared.isFetching}>
            {compared.isFetching ? "Calculating …" : "Compare with Sondar's order"}
          </Button>
          {compared.data && (
            <table className="w-full" aria-label="Procedure against Sondar's own order">
              <thead className="text-soft">
                <tr>
                  <th scope="col" />
                  <th scope="col">procedure</th>
                  <th scope="col">Sondar</th>
                </tr>
              </thead>
              <tbody className="text-right">
                {(
                  [
                    [
                      "minutes to the end",
                      minutes(compared.data.procedure_minutes),
                      minutes(compared.data.own_minutes),
                    ],
                    [
                      "ends at the faulty unit",
                      percent(compared.data.procedure_right),
                      percent(compared.data.own_right),
                    ],
                    [
                      "replaces a good unit",
                      percent(compared.data.procedure_wrong),
                      percent(compared.data.own_wrong),
                    ],
                    [
                      "expected cost of a wrong conclusion",
                      minutes(compared.data.procedure_loss),
                      minutes(compared.data.own_loss),
                    ],
                  ] as const
                ).map(([title, theirs, ours]) => (
                  <tr key={title} className="border-t border-rule">
                    <th scope="row" className="py-1 text-left font-[400]">
                      {title}
                    </th>
                    <td className="figure pl-2">{theirs}</td>
                    <td className="figure pl-2">{ours}</td>
                  </tr>
                ))}
              </tbody>
              <caption className="caption-bottom text-left text-soft">
                Over the faults that hold {percent(compared.data.covered)} of the probability now.
              </caption>
            </table>
          )}
        </>
      )}
      {canWrite && !entering && (
        <Button kind="quiet" onClick={() => setEntering(true)}>
          Enter a procedure
        </Button>
      )}
      {entering && (
        <form
          onSubmit={(event) => {
            event.preventDefault();
            keep.mutate();
          }}
        >
          <label className="block text-soft">
            Steps as text, or a file
            <textarea
              className="mt-1 block h-56 w-full border border-ink/60 bg-raised p-2 font-mono text-xs text-ink"
              value={text}
              placeholder={example(slug)}
              onChange={(event) => setText(event.target.value)}
              spellCheck={false}
            />
          </label>
          <input
            type="file"
            accept=".yaml,.yml,.json,text/*"
            aria-label="Procedure file"
            className="my-1 block w-full"
            onChange={async (event) => setText((await event.target.files?.[0]?.text()) ?? text)}
          />
          {problem && (
            <Notice tone="problem">
              {problem.detail}
              <ul>
                {problem.errors?.map((item) => (
                  <li key={`${item.field}${item.message}`}>
                    {item.line ? `Line ${item.line}, ` : ""}
                    {item.field}: {item.message}
                  </li>
                ))}
              </ul>
            </Notice>
          )}
          <div className="mt-1 flex gap-2">
            <Button type="submit" disabled={!text.trim() || keep.isPending}>
              Check and save
            </Button>
            <Button onClick={() => setText(example(slug))}>Start from an example</Button>
            <Button kind="quiet" onClick={() => setEntering(false)}>
              Cancel
            </Button>
          </div>
        </form>
      )}
    </div>
  );
}

function example(slug: string): string {
  return `sondar_procedure: 1
title: What the manufacturer calls it
circuit: ${slug}
steps:
  1: {do: "Battery voltage?", red: BAT.pos, min: 11.8,
      if_pass: 2, if_fail: {unit: BAT}}
  2: {do: "…", red: BAT.pos, when: {key: "on"}, min: 11.5,
      if_pass: {text: "…"}, if_fail: {text: "…"}}
`;
}
