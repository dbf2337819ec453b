import type { Measuring, TestIn } from "../../../api/client";
import { percent } from "../../../lib/format";

type Limit = Measuring["limits"][number];

/** Marks by shape and word: nothing here depends on colour. */
const MARK: Record<string, { sign: string; word: string }> = {
  pass: { sign: "✓", word: "within limits" },
  fail: { sign: "✕", word: "outside limits" },
  "in doubt": { sign: "?", word: "in doubt" },
  open: { sign: "○", word: "not measured" },
};

/** Every limit of the circuit with its condition and source, marked as readings come in; a tap sets the test up. */
export function LimitsCard({ limits, onTest }: { limits: Limit[]; onTest: (test: TestIn) => void }) {
  if (!limits.length) {
    return (
      <p className="text-sm text-soft">
        This circuit's file has no limits yet. Add them under “limits” in the file; Sondar compares with its
        own prediction meanwhile.
      </p>
    );
  }
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
                onClick={() =>
                  onTest({
                    instrument: limit.instrument,
                    red: limit.red,
                    black: limit.black,
                    setup: { controls: limit.setup.controls, unplugged: limit.setup.unplugged },
                  })
                }
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
            </li>
          );
        })}
      </ul>
    </>
  );
}
