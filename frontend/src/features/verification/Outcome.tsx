import { useEffect, useState } from "react";
import type { JobDetail } from "../../api/client";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { Picks } from "../../ui/Picks";
import { TextField } from "../../ui/TextField";
import { useAnswer } from "../job/useAnswer";
import type { Verification } from "./calls";

interface Props {
  detail: JobDetail;
  data: Verification;
  canWrite: boolean;
}

const OUTCOMES = [
  { key: "fixed", title: "fixed" },
  { key: "partly", title: "partly: not good enough yet" },
  { key: "not fixed", title: "not fixed" },
];

/** What the technician says the outcome is, what is left, and the end of the job. */
export function Outcome({ detail, data, canWrite }: Props) {
  const outcome = useAnswer<string>(detail, "outcome", "");
  const left = useAnswer<string>(detail, "outcome_left", "");
  const stage = useAnswer<string>(detail, "stage", detail.job.stage);
  const [typed, setTyped] = useState<string | null>(null);
  const [closing, setClosing] = useState(false);
  const settled = !outcome.saving && !left.saving;
  const close = stage.answer;
  useEffect(() => {
    // What was said last must be kept before the job is closed with it.
    if (!closing || !settled) return;
    setClosing(false);
    close("closed");
  }, [closing, settled, close]);
  const contradicts = outcome.value === "fixed" && ["partly", "not fixed"].includes(data.standing.outcome);
  const asked = outcome.value === "partly" || outcome.value === "not fixed";
  const proposed = data.readings
    .filter((item) => item.passed === false)
    .map((item) => `${item.label}: ${item.now}${item.said ? `, ${item.said}` : ""}`)
    .join("; ");
  if (!data.repaired_at) return null;
  return (
    <section aria-label="Outcome" className="space-y-2">
      <h3 className="text-lg">Outcome</h3>
      <Picks
        label="Outcome"
        single
        disabled={!canWrite || outcome.saving}
        options={OUTCOMES}
        chosen={outcome.value ? [outcome.value] : []}
        onChange={([value = ""]) => outcome.answer(value)}
      />
      {outcome.problem && <Notice tone="problem">{outcome.problem.detail}</Notice>}
      {contradicts && <Notice tone="note">What was measured says otherwise: {data.standing.sentence}</Notice>}
      {asked && (
        <TextField
          area
          rows={3}
          label="What is left, how far from the limit, and what comes next"
          value={typed ?? left.value}
          disabled={!canWrite}
          maxLength={500}
          placeholder={proposed}
          problem={left.problem?.detail}
          onChange={(event) => setTyped(event.target.value)}
          onBlur={() => {
            if (typed !== null && typed.trim() !== left.value) left.answer(typed);
            setTyped(null);
          }}
        />
      )}
      {asked && left.value === "" && typed === null && proposed !== "" && canWrite && (
        <Button kind="quiet" onClick={() => left.answer(proposed.slice(0, 500))}>
          Take over what was measured
        </Button>
      )}
      {canWrite && detail.job.stage !== "closed" && outcome.value !== "" && (
        <Button disabled={closing || stage.saving} onClick={() => setClosing(true)}>
          Close the job
        </Button>
      )}
      {detail.job.stage === "closed" && <p className="text-sm text-soft">The job is closed.</p>}
      {stage.problem && <Notice tone="problem">{stage.problem.detail}</Notice>}
    </section>
  );
}
