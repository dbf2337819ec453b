import type { Proposal } from "../../../api/client";
import { minutes } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { asTest, testKey } from "../draft/tests";

/** Other good tests with their value against the best. */
export function Alternatives(props: {
  proposals: Proposal[];
  chosen: number;
  onChoose: (index: number) => void;
  onNoTool: (instrument: string) => void;
}) {
  const best = props.proposals[0]?.saving_per_min ?? 1;
  return (
    <div>
      <h2 className="text-base">
        Other good tests{" "}
        <span className="text-sm font-[400] text-soft">↑ ↓ to choose; value against the best</span>
      </h2>
      <ul className="border-t border-rule text-sm">
        {props.proposals.map((proposal, index) => (
          <li key={testKey(asTest(proposal))} className="flex border-b border-rule">
            <button
              type="button"
              aria-pressed={index === props.chosen}
              onClick={() => props.onChoose(index)}
              className={`grid min-h-11 flex-1 grid-cols-[1fr_auto_auto] items-center gap-3 text-left ${index === props.chosen ? "bg-depth-1" : ""}`}
            >
              <span className="px-1">
                <strong className="font-[600]">
                  {proposal.test.instrument_title} {proposal.test.red}
                </strong>{" "}
                <span className="text-soft">{proposal.test.setup.text}</span>
              </span>
              <span>{minutes(proposal.minutes)}</span>
              <span className="w-14 text-right">
                {Math.round(100 * Math.min(1, proposal.saving_per_min / best))} %
              </span>
            </button>
            <Button
              kind="quiet"
              className="px-2 text-sm"
              onClick={() => props.onNoTool(proposal.test.instrument)}
            >
              Not at hand
            </Button>
          </li>
        ))}
      </ul>
    </div>
  );
}

/** What else can be read at once, since the connector is open and the set-up made. */
export function SameSetup(props: {
  proposals: Proposal[];
  /** Where the black probe usually is. */
  black: string;
  onChoose: (proposal: Proposal) => void;
}) {
  const { proposals, black, onChoose } = props;
  if (!proposals.length) return null;
  return (
    <p className="text-sm leading-snug">
      <span className="text-soft">Also in this set-up: </span>
      {proposals.map((proposal, index) => (
        <span key={testKey(asTest(proposal))}>
          {index > 0 && ", "}
          <button
            type="button"
            className="min-h-6 font-[600] underline underline-offset-4"
            onClick={() => onChoose(proposal)}
          >
            {proposal.test.instrument_title.toLowerCase()} {proposal.test.red}
            {proposal.test.probes && proposal.test.black !== black && ` to ${proposal.test.black}`}
          </button>{" "}
          <span className="text-soft">(+{minutes(proposal.minutes)})</span>
        </span>
      ))}
    </p>
  );
}
