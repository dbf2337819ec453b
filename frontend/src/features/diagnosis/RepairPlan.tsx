import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type JobDetail, type Schema, unwrap } from "../../api/client";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";
import { useAnswer } from "../job/useAnswer";
import { HarnessRepairs } from "./HarnessRepairs";
import { Bypasses, PartsFitted, RemovedParts, SettingsChanged } from "./RepairRecords";

type Step = Schema["RepairStepView"];

const STAGES: Record<Step["stage"], string> = {
  before: "Before anything is undone",
  repair: "The repair",
  after: "Afterwards",
};
interface Props {
  detail: JobDetail;
  diagnosisId: string;
  units: { unit: string; title: string }[];
  canWrite: boolean;
}

/** What the repair consists of, ticked off step by step or left out with a reason, and the parts that were fitted. */
export function RepairPlan(props: Props) {
  const { diagnosisId, units } = props;
  const ids = units.map((one) => one.unit).join(",");
  const plan = useQuery({
    queryKey: ["repair-plan", diagnosisId, ids],
    enabled: ids !== "",
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: async () =>
      unwrap(
        await api.GET("/api/v1/diagnoses/{diagnosis_id}/repair-plan", {
          params: { path: { diagnosis_id: diagnosisId }, query: { units: ids } },
        }),
      ),
  });
  if (!plan.data) return null;
  return (
    <section aria-label="Repair">
      <h3 className="mb-1 text-lg">The repair, step by step</h3>
      <Steps {...props} steps={plan.data.steps} />
      <HarnessRepairs {...props} wires={units.filter((one) => one.title.startsWith("Wire "))} />
      <PartsFitted {...props} />
      <RemovedParts {...props} />
      <SettingsChanged {...props} />
      <Bypasses {...props} />
    </section>
  );
}

function Steps({ detail, diagnosisId, canWrite, steps }: Props & { steps: Step[] }) {
  const held = useAnswer<string[]>(detail, "repair_steps", []);
  const [leaving, setLeaving] = useState<string | null>(null);
  const [why, setWhy] = useState("");
  const said = (key: string) =>
    held.value.find((line) => line.startsWith(`${diagnosisId} | ${key} | `))?.split(" | ")[2] ?? "";
  const say = (key: string, word: string) => {
    const rest = held.value.filter((line) => !line.startsWith(`${diagnosisId} | ${key} | `));
    held.answer(word ? [...rest, `${diagnosisId} | ${key} | ${word}`] : rest);
    setLeaving(null);
    setWhy("");
  };
  const open = steps.filter((step) => said(step.key) === "").length;
  return (
    <>
      <p className="text-sm text-soft" data-testid="steps-open">
        {open === 0
          ? "Every step is done or left out with a reason."
          : `${open} of ${steps.length} steps are open.`}
      </p>
      {held.problem && <Notice tone="problem">{held.problem.detail}</Notice>}
      {(Object.keys(STAGES) as Step["stage"][]).map((stage) => (
        <div key={stage} className="mt-2">
          <h4 className="text-sm text-soft">{STAGES[stage]}</h4>
          <ul>
            {steps
              .filter((step) => step.stage === stage)
              .map((step) => {
                const word = said(step.key);
                return (
                  <li key={step.key} className="border-t border-rule py-1" data-step={step.key}>
                    <div className="flex items-start gap-3">
                      <label className="flex min-h-11 flex-1 items-center gap-3">
                        <input
                          type="checkbox"
                          className="size-6 shrink-0"
                          disabled={!canWrite || held.saving}
                          checked={word === "done"}
                          onChange={(event) => say(step.key, event.target.checked ? "done" : "")}
                        />
                        <span>
                          {step.caution && <strong className="mr-2 font-[700]">Caution</strong>}
                          {step.text}
                          {word !== "" && word !== "done" && (
                            <span className="block text-soft">Left out: {word}</span>
                          )}
                        </span>
                      </label>
                      {canWrite && step.routine && word === "" && (
                        <Link
                          to={`/jobs/${detail.job.id}?view=recordings&routine=${step.routine}`}
                          className="inline-flex min-h-11 items-center rounded-sm border border-ink/60 bg-raised px-4"
                        >
                          Start it
                        </Link>
                      )}
                      {canWrite && word !== "done" && (
                        <Button
                          kind="quiet"
                          aria-label={`Leave out: ${step.text}`}
                          onClick={() => (word ? say(step.key, "") : setLeaving(step.key))}
                        >
                          {word ? "take up again" : "leave out"}
                        </Button>
                      )}
                    </div>
                    {leaving === step.key && (
                      <form
                        className="flex items-end gap-2 pb-2"
                        onSubmit={(event) => {
                          event.preventDefault();
                          if (why.trim()) say(step.key, why.trim().replaceAll("|", "/").slice(0, 200));
                        }}
                      >
                        <div className="flex-1">
                          <TextField
                            label="Why is it left out?"
                            value={why}
                            maxLength={200}
                            onChange={(event) => setWhy(event.target.value)}
                          />
                        </div>
                        <Button type="submit" disabled={!why.trim()}>
                          Leave out
                        </Button>
                      </form>
                    )}
                  </li>
                );
              })}
          </ul>
        </div>
      ))}
    </>
  );
}
