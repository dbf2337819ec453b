import { Link } from "react-router";
import type { Circuit, Proposal, TestIn } from "../../../api/client";
import { minutes, percent, shortName } from "../../../lib/format";
import { Notice } from "../../../ui/Notice";
import { Term } from "../../../ui/Term";

/** What, where, how, and why; the expected range; what can hurt. */
export function ProposalCard(props: {
  proposal: Proposal;
  circuit: Circuit;
  own: boolean;
  due: boolean;
  /** What Sondar would do instead, to set an own test against. */
  best: Proposal | undefined;
  /** Why measuring goes on although one suspect leads by far; empty before that. */
  why: string;
  jobId: string;
  onFace: (connector: string) => void;
}) {
  const { proposal, circuit, own, due, best } = props;
  const { test } = proposal;
  const usual = test.black === circuit.black_reference;
  return (
    <section
      aria-label={own ? "Your own test" : "Next test"}
      data-testid="proposal"
      data-test={JSON.stringify(test)}
    >
      <h2 className="text-2xl leading-tight">
        <span className={due ? "text-soft" : "text-next"}>
          {own ? "Your test. " : due ? "Optional further test. " : "Next. "}
        </span>
        {test.probes ? `${test.instrument_title} at ${test.red}` : `${test.instrument_title}: ${test.red}`}
        {test.probes && !usual && ` to ${test.black}`}
      </h2>
      <p className="leading-snug">
        {test.where}
        {connectorsOf(circuit, proposal).map((connector) => (
          <button
            key={connector}
            type="button"
            className="ml-2 min-h-6 underline underline-offset-4"
            onClick={() => props.onFace(connector)}
          >
            face of {connector}
          </button>
        ))}
        {test.recorded && (
          <Link
            to={`/jobs/${props.jobId}?view=recordings&control=${commanded(circuit, test)}`}
            className="ml-2 inline-block min-h-6 underline underline-offset-4"
          >
            command and record it
          </Link>
        )}
      </p>
      <p className="mt-1 leading-snug">
        <strong className="font-[650]">Set-up:</strong> {test.setup.text}
        {proposal.steps.length > 0 && <span> — to get there: {proposal.steps.join(", ")}</span>}
        <span className="text-soft">, {minutes(proposal.minutes)} in all</span>
      </p>
      <p className="mt-1 text-lg leading-snug">
        <Term name="expected range">Expected</Term>:{" "}
        <strong className="figure text-2xl">{proposal.expected}</strong>
      </p>
      {own && best && <p className="leading-snug">{whyNot(proposal, best)}</p>}
      {props.why && <p className="leading-snug text-soft">Why go on: {props.why}.</p>}
      {proposal.cautions.length > 0 && (
        <div className="mt-1 space-y-1">
          {proposal.cautions.map((caution) => (
            <Notice key={caution} tone="caution">
              {caution}
            </Notice>
          ))}
        </div>
      )}
    </section>
  );
}

/** The control that a test moves from where it is at rest. */
function commanded(circuit: Circuit, test: Proposal["test"]): string {
  const moved = circuit.controls.find(
    ({ id, values }) =>
      id !== "key" && test.setup.controls[id] !== undefined && test.setup.controls[id] !== values[0],
  );
  return moved?.id ?? "";
}

function connectorsOf(circuit: Circuit, proposal: Proposal): string[] {
  const places = [proposal.test.red, proposal.test.black].map(
    (ref) => circuit.points.find((point) => point.ref === ref)?.connector,
  );
  return [...new Set(places.filter((place): place is string => Boolean(place)))];
}

/** Why not this one? What it saves beside what the proposal saves. */
function whyNot(own: Proposal, best: Proposal): string {
  const mine = Math.max(0, own.saving_per_min);
  if (mine >= best.saving_per_min * 0.95) return "As good as Sondar's own next test.";
  const saved = `It should save ${Math.max(0, own.expected_saving_min).toFixed(1)} min for ${minutes(own.minutes)}`;
  const against = `${best.test.instrument_title.toLowerCase()} at ${best.test.red} saves ${best.expected_saving_min.toFixed(1)} for ${minutes(best.minutes)}`;
  const reason =
    own.expected_saving_min < 0.3 * best.expected_saving_min
      ? "most suspects predict the same"
      : own.minutes > 2 * best.minutes
        ? "it takes longer to set up"
        : "it separates the suspects less";
  return `Why not first: ${saved}; ${against}. Here ${reason}.`;
}

/** What each outcome would leave, as a small table. */
export function OutcomeTable({ proposal }: { proposal: Proposal }) {
  return (
    <table className="w-full text-sm" aria-label="What each result would mean">
      <caption className="text-left text-soft">
        If it shows … (expected saving {minutes(Math.max(0, proposal.expected_saving_min))} for{" "}
        {minutes(proposal.minutes)})
      </caption>
      <tbody>
        {proposal.outcomes.slice(0, 4).map((outcome) => (
          <tr key={outcome.label} className="border-t border-rule align-top">
            <th scope="row" className="w-36 py-1 pr-2 text-left font-[600]">
              {outcome.label}
              {outcome.within_expected && <span className="block font-[400] text-soft">expected</span>}
            </th>
            <td className="w-14 py-1 text-soft">{percent(outcome.probability)}</td>
            <td className="py-1">
              {outcome.suspects
                .map((suspect) => `${shortName(suspect.unit)} ${percent(suspect.probability)}`)
                .join(", ") || "nothing stands out"}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** A test of one's own while its prediction is on the way, or the reason why it cannot be made. */
export function OwnTest({ test, problem }: { test: TestIn; problem: string | null }) {
  return (
    <section aria-label="Your own test">
      <h2 className="text-2xl leading-tight">
        <span className="text-next">Your test. </span>
        {test.red} to {test.black}
      </h2>
      {problem ? (
        <Notice tone="note">{problem}</Notice>
      ) : (
        <p className="text-soft">Calculating what it should show …</p>
      )}
    </section>
  );
}
