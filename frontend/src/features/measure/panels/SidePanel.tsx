import { Tabs } from "radix-ui";
import { useState } from "react";
import type { Circuit, Measuring, TestIn } from "../../../api/client";
import { minutes } from "../../../lib/format";
import { BeliefHistory } from "./BeliefHistory";
import { LimitsCard } from "./LimitsCard";
import { ProcedurePanel } from "./ProcedurePanel";
import { Suspects } from "./Suspects";
import { ThreeWayField } from "./ThreeWayField";

export type SideTab = "suspects" | "limits" | "procedure";

const TAB =
  "min-h-11 flex-1 px-2 data-[state=active]:border-b-4 data-[state=active]:border-ink data-[state=active]:font-[650]";

interface Props {
  measuring: Measuring;
  circuit: Circuit;
  canWrite: boolean;
  tab: SideTab;
  onTab: (tab: SideTab) => void;
  overlay: string | null;
  onOverlay: (unit: string | null) => void;
  onTest: (test: TestIn) => void;
  /** What is set up now, and in words. */
  test: TestIn | null;
  where: string;
}

/** What the readings told: suspects with the field, the limits card, a manufacturer's procedure. */
export function SidePanel(props: Props) {
  const { measuring, circuit, canWrite, tab, onTab, overlay, onOverlay, onTest, test, where } = props;
  const { conclusion } = measuring.assessment;
  const broken = measuring.limits.filter((limit) => limit.decision === "fail").length;
  return (
    <Tabs.Root value={tab} onValueChange={(value) => onTab(value as SideTab)}>
      <Tabs.List className="mb-1 flex border-b border-rule text-sm" aria-label="What the readings told">
        <Tabs.Trigger value="suspects" className={TAB}>
          Suspects
        </Tabs.Trigger>
        <Tabs.Trigger value="limits" className={TAB}>
          {broken > 0 ? `Limits ✕${broken}` : "Limits (L)"}
        </Tabs.Trigger>
        <Tabs.Trigger value="procedure" className={TAB}>
          Procedure
        </Tabs.Trigger>
      </Tabs.List>
      <Tabs.Content value="suspects" tabIndex={-1}>
        <ThreeWayField track={measuring.assessment.track} />
        {measuring.prior_reasons.length > 0 && (
          <details className="text-sm">
            <summary className="min-h-6 cursor-pointer text-soft">Known before the first reading</summary>
            <ul className="list-disc pl-5">
              {measuring.prior_reasons.map((reason) => (
                <li key={reason}>{reason}</li>
              ))}
            </ul>
          </details>
        )}
        <h2 className="mt-1 mb-1 text-base">
          Suspects <span className="text-sm font-[400] text-soft">by what would be replaced</span>
        </h2>
        <Suspects suspects={measuring.assessment.suspects} overlay={overlay} onOverlay={onOverlay} />
        {!conclusion.settled && (
          <p className="mt-2 text-sm text-soft">
            No conclusion yet: {conclusion.reason}. Replacing the leading suspect now would cost about{" "}
            {minutes(conclusion.expected_loss_min)} on average.
          </p>
        )}
        <BeliefHistory history={measuring.assessment.history} />
        <Service circuit={circuit} />
      </Tabs.Content>
      <Tabs.Content value="limits" tabIndex={-1}>
        <LimitsCard
          diagnosisId={measuring.diagnosis.id}
          circuit={circuit}
          limits={measuring.limits}
          test={test}
          where={where}
          canWrite={canWrite}
          onTest={onTest}
        />
      </Tabs.Content>
      <Tabs.Content value="procedure" tabIndex={-1}>
        <ProcedurePanel
          diagnosisId={measuring.diagnosis.id}
          slug={circuit.slug}
          readings={measuring.assessment.effects.length}
          canWrite={canWrite}
          onTest={onTest}
        />
      </Tabs.Content>
    </Tabs.Root>
  );
}

/** What the circuit does, and what is cleaned, replaced or taught in. */
function Service({ circuit }: { circuit: Circuit }) {
  const [open, setOpen] = useState(false);
  return (
    <details className="mt-2 text-sm" open={open} onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary className="min-h-6 cursor-pointer text-soft">About this circuit</summary>
      {circuit.about && <p className="my-1">{circuit.about}</p>}
      {circuit.synonyms.length > 0 && (
        <p className="my-1 text-soft">Synonyms: {circuit.synonyms.join(", ")}.</p>
      )}
      <ul>
        {circuit.service.map((note) => (
          <li key={note.part} className="border-t border-rule py-1">
            <strong className="font-[600]">{note.part}</strong>: {note.do}, {note.difficulty}. {note.note}
            {note.teach_in && <span> Initialise: {note.teach_in}</span>}
          </li>
        ))}
      </ul>
    </details>
  );
}
