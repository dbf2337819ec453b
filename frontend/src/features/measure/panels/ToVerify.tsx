import { Link } from "react-router";
import type { Measuring, TestIn } from "../../../api/client";

interface Props {
  measuring: Measuring;
  /** Left out where nothing can be set up. */
  onTest?: (test: TestIn) => void;
}

/** After a repair: the tests that failed before it, each with what it shows now. */
export function ToVerify({ measuring, onTest }: Props) {
  const { repairs, to_verify: tests } = measuring;
  if (repairs.length === 0) return null;
  const left = tests.filter((item) => item.passed !== true).length;
  return (
    <section className="border-l-4 border-rule px-3 text-sm" aria-label="After the repair">
      {repairs.map((repair) => (
        <p key={repair.id}>
          <strong className="font-[650]">{repair.substituted ? "Substituted" : "Repaired"}:</strong>{" "}
          {repair.titles.join(", ")}. {repair.action}
          {repair.by && <span className="text-soft"> ({repair.by})</span>}
        </p>
      ))}
      <p>
        {tests.length === 0
          ? "No test had failed before it: reproduce the complaint and see that it is gone."
          : left === 0
            ? "Every test that failed before is within the expected range now: the repair is proved."
            : `To verify, ${left} of ${tests.length} left. The job is closed as fixed when all are within the expected range.`}{" "}
        <Link to={`/jobs/${measuring.job.id}?view=verify`} className="underline underline-offset-4">
          Verification of the job
        </Link>
      </p>
      <ul>
        {tests.map((item) => (
          <li
            key={item.reading}
            className="flex flex-wrap items-baseline gap-x-3 border-t border-rule py-1"
            data-passed={item.passed}
          >
            <span className="min-w-0 flex-1">{item.label}</span>
            <span className="text-soft">was {item.before}</span>
            <span>
              {item.now === null
                ? `expected ${item.expected}`
                : item.passed
                  ? `✓ now ${item.now}`
                  : `✕ now ${item.now}, expected ${item.expected}`}
            </span>
            {onTest && item.passed !== true && (
              <button
                type="button"
                className="min-h-8 px-1 underline underline-offset-4 pointer-coarse:min-h-11"
                onClick={() => onTest(asTestIn(item.test))}
              >
                Measure
              </button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

function asTestIn(test: Measuring["to_verify"][number]["test"]): TestIn {
  const { controls, unplugged } = test.setup;
  return { instrument: test.instrument, red: test.red, black: test.black, setup: { controls, unplugged } };
}
