import { useState } from "react";
import type { Circuit, Measuring, TestIn } from "../../../api/client";
import { percent } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { type Editing, LimitDialog } from "./LimitDialog";

type Limit = Measuring["limits"][number];

/** Marks by shape and word: nothing here depends on colour. */
const MARK: Record<string, { sign: string; word: string }> = {
  pass: { sign: "✓", word: "within limits" },
  fail: { sign: "✕", word: "outside limits" },
  "in doubt": { sign: "?", word: "in doubt" },
  open: { sign: "○", word: "not measured" },
};

interface Props {
  diagnosisId: string;
  circuit: Circuit;
  limits: Limit[];
  test: TestIn | null;
  where: string;
  canWrite: boolean;
  onTest: (test: TestIn) => void;
}

/** Every limit of the circuit with its condition and source, marked as readings come in; a tap sets the test up. */
export function LimitsCard({ diagnosisId, circuit, limits, test, where, canWrite, onTest }: Props) {
  const [editing, setEditing] = useState<Editing | null>(null);
  return (
    <>
      {limits.length > 0 ? (
        <List limits={limits} onTest={onTest} onChange={canWrite ? setEditing : null} />
      ) : (
        <p className="text-sm text-soft">
          No limits are known for this circuit yet; readings are compared with what Sondar predicts.
        </p>
      )}
      {canWrite && test && (
        <Button className="mt-2 w-full" onClick={() => setEditing({ limit: null, test, where })}>
          Write down a limit for what is set up
        </Button>
      )}
      {editing && (
        <LimitDialog
          diagnosisId={diagnosisId}
          circuit={circuit}
          editing={editing}
          onClose={() => setEditing(null)}
        />
      )}
    </>
  );
}

function asTest(limit: Limit): TestIn {
  return {
    instrument: limit.instrument,
    red: limit.red,
    black: limit.black,
    setup: { controls: limit.setup.controls, unplugged: limit.setup.unplugged },
  };
}

function List(props: {
  limits: Limit[];
  onTest: (test: TestIn) => void;
  onChange: ((editing: Editing) => void) | null;
}) {
  const { limits, onTest, onChange } = props;
  const read = limits.filter((limit) => limit.decision !== "open");
  return (
    <>
      <p className="mb-1 text-sm text-soft">
        {read.length} of {limits.length} measured
        {read.some((limit) => limit.decision === "fail") &&
          `, ${read.filter((limit) => limit.decision === "fail").length} outside`}
        . Tap one to set it up.
      </p>
      <ul className="border-t border-rule" aria-label="Limits">
        {limits.map((limit) => {
          const mark = MARK[limit.decision] ?? { sign: "", word: limit.decision };
          return (
            <li
              key={limit.id}
              className="border-b border-rule"
              data-limit={limit.id}
              data-decision={limit.decision}
            >
              <button
                type="button"
                className="relative grid min-h-11 w-full grid-cols-[1.4rem_1fr] gap-x-1 py-1 text-left text-[13px] leading-tight"
                onClick={() => onTest(asTest(limit))}
              >
                <span className="text-lg leading-5 font-[700]" aria-hidden="true">
                  {mark.sign}
                </span>
                <span>
                  <span className="font-[600]">{limit.title}</span>
                  <span className="mt-0.5 block">
                    <span className="figure text-base">{limit.range}</span>
                    {limit.typical && <span className="text-soft">, usually {limit.typical}</span>}
                    <span className="text-soft">; {limit.source}</span>
                  </span>
                  {limit.shown && (
                    <span className="block font-[600]">
                      {mark.word}: {limit.shown}
                      {limit.wrong !== null && limit.wrong > 0.005 && (
                        <span className="font-[400] text-soft"> (wrong with {percent(limit.wrong)})</span>
                      )}
                    </span>
                  )}
                  {!limit.shown && <span className="sr-only">{mark.word}</span>}
                  {limit.advice && <span className="block">{limit.advice}</span>}
                  {limit.note && <span className="block text-soft">{limit.note}</span>}
                </span>
              </button>
              {onChange && limit.entry && (
                <button
                  type="button"
                  className="mb-1 ml-[1.4rem] min-h-6 text-[13px] text-soft underline underline-offset-4"
                  onClick={() => onChange({ limit, test: asTest(limit), where: limit.condition })}
                >
                  change
                </button>
              )}
            </li>
          );
        })}
      </ul>
    </>
  );
}
