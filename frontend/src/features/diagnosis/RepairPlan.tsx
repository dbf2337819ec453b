import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type JobDetail, type Schema, unwrap } from "../../api/client";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";
import { useAnswer } from "../job/useAnswer";
import { HarnessRepairs } from "./HarnessRepairs";
import { FIELD } from "./RecordedLines";
import { Bypasses, RemovedParts, SettingsChanged } from "./RepairRecords";

type Step = Schema["RepairStepView"];

const STAGES: Record<Step["stage"], string> = {
  before: "Before anything is undone",
  repair: "The repair",
  after: "Afterwards",
};
const CONDITIONS = [
  "new",
  "reconditioned",
  "used",
  "repaired by a specialist",
  "mechanical fixing made good",
];
const CHECKED = ["not checked", "good", "bad"];

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
      <Parts {...props} />
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

const EMPTY = {
  old: "",
  fitted: "",
  condition: CONDITIONS[0] as string,
  supplier: "",
  price: "",
  checked: CHECKED[0] as string,
  note: "",
};

function Parts({ detail, units, canWrite }: Props) {
  const held = useAnswer<string[]>(detail, "parts", []);
  const [what, setWhat] = useState("");
  const [part, setPart] = useState(EMPTY);
  const named = what || units[0]?.title || "";
  const set = (changes: Partial<typeof EMPTY>) => setPart({ ...part, ...changes });
  const clean = (text: string) => text.trim().replaceAll("|", "/").slice(0, 200);
  const add = () => {
    const line = [
      named,
      part.old,
      part.fitted,
      part.condition,
      part.supplier,
      part.price,
      part.checked,
      part.note,
    ];
    held.answer([...held.value, line.map(clean).join(" | ")]);
    setPart(EMPTY);
  };
  const differs =
    part.old.trim() !== "" && part.fitted.trim() !== "" && part.old.trim() !== part.fitted.trim();
  return (
    <div className="mt-4" data-testid="parts">
      <h4 className="text-sm text-soft">Parts fitted</h4>
      <ul aria-label="Parts fitted">
        {held.value.map((line) => {
          const [title, old, fitted, condition, supplier, price, checked, note] = line.split(" | ");
          const told = [
            condition,
            old && `number on the old one ${old}`,
            fitted && `fitted ${fitted}`,
            supplier && `from ${supplier}`,
            price,
            checked === "bad" ? "" : `checked: ${checked}`,
            note,
          ].filter(Boolean);
          return (
            <li key={line} className="flex flex-wrap items-center gap-3 border-t border-rule py-1">
              <span className="min-w-0 flex-1">
                {title}
                <span className="text-soft">, {told.join(", ")}</span>
                {checked === "bad" && (
                  <strong className="block font-[700]">This new part is bad: it does not go in.</strong>
                )}
              </span>
              {canWrite && (
                <Button
                  kind="quiet"
                  aria-label={`Take off the list: ${title}`}
                  onClick={() => held.answer(held.value.filter((one) => one !== line))}
                >
                  take off
                </Button>
              )}
            </li>
          );
        })}
      </ul>
      {held.problem && <Notice tone="problem">{held.problem.detail}</Notice>}
      {canWrite && (
        <details className="mt-1">
          <summary className="min-h-11 content-center underline underline-offset-4">Add a part</summary>
          <div className="grid gap-3 text-sm text-soft sm:grid-cols-2">
            <label>
              Part
              <input
                className={FIELD}
                value={named}
                maxLength={200}
                onChange={(event) => setWhat(event.target.value)}
              />
            </label>
            <label>
              Condition
              <select
                className={FIELD}
                value={part.condition}
                onChange={(event) => set({ condition: event.target.value })}
              >
                {CONDITIONS.map((word) => (
                  <option key={word}>{word}</option>
                ))}
              </select>
            </label>
            {(
              [
                ["old", "Number on the old one"],
                ["fitted", "Number of the one fitted"],
                ["supplier", "Supplier"],
                ["price", "Price"],
              ] as const
            ).map(([name, label]) => (
              <label key={name}>
                {label}
                <input
                  className={FIELD}
                  value={part[name]}
                  maxLength={80}
                  onChange={(event) => set({ [name]: event.target.value })}
                />
              </label>
            ))}
            <label>
              Checked before it goes in
              <select
                className={FIELD}
                value={part.checked}
                onChange={(event) => set({ checked: event.target.value })}
              >
                {CHECKED.map((word) => (
                  <option key={word}>{word}</option>
                ))}
              </select>
            </label>
            <label>
              Note
              <input
                className={FIELD}
                value={part.note}
                maxLength={200}
                placeholder="7.4 Ω on the bench"
                onChange={(event) => set({ note: event.target.value })}
              />
            </label>
          </div>
          {part.condition === "used" && (
            <Notice tone="caution">
              A used module may be locked to its former vehicle, and a used restraint part is not fitted. Ask
              the maker&apos;s instructions before it is bought.
            </Notice>
          )}
          {differs && (
            <Notice tone="note">
              The numbers differ. Make sure that the new one replaces the old one on this vehicle.
            </Notice>
          )}
          <Button className="mt-2" onClick={add} disabled={named === "" || held.saving}>
            Add the part
          </Button>
        </details>
      )}
    </div>
  );
}
