import { useQuery } from "@tanstack/react-query";
import { useHotkeys } from "react-hotkeys-hook";
import { Link, useNavigate, useParams } from "react-router";
import type { Measuring } from "../../api/client";
import { jobQuery, measuringQuery } from "../../api/queries";
import { meQuery } from "../../api/session";
import { Headline } from "../../app/Headline";
import { depthTint, groupName, minutes, percent } from "../../lib/format";
import { Notice } from "../../ui/Notice";
import { ThenAndNow } from "../measure/panels/ThenAndNow";
import { ThreeWayField } from "../measure/panels/ThreeWayField";
import { ToVerify } from "../measure/panels/ToVerify";
import { RecordRepair } from "./RecordRepair";
import { RepairPlan } from "./RepairPlan";

/** The conclusion: what is wrong, how sure, what speaks for and against, what would change it, what now. */
export function DiagnosisPage() {
  const { diagnosisId = "" } = useParams();
  const { data: measuring, error } = useQuery(measuringQuery(diagnosisId));
  const { data: me } = useQuery(meQuery);
  const canWrite = me?.role !== "read-only";
  const navigate = useNavigate();
  useHotkeys("b", () => navigate(`/measure/${diagnosisId}`));
  if (error && !measuring) {
    return (
      <main className="mx-auto max-w-3xl p-6">
        <Notice tone="problem">The conclusion cannot be read: {error.message}</Notice>
      </main>
    );
  }
  if (!measuring) return <main className="p-6">Reading the record …</main>;
  const { conclusion, suspects } = measuring.assessment;
  const since = measuring.repairs.at(-1)?.seq ?? 0;
  const counted = measuring.readings.filter(
    (item) => item.voided_because === null && item.seq > since,
  ).length;
  const leading = suspects.find((suspect) => suspect.unit === conclusion.units[0]);
  const more = measuring.assessment.proposals[0];
  return (
    <main className="mx-auto grid max-w-6xl gap-x-10 gap-y-6 px-5 py-5 lg:grid-cols-[1fr_320px]">
      <Headline>
        <div className="flex items-baseline gap-4 text-sm">
          <h1 className="shrink-0 text-lg">{measuring.job.plate || `Job ${measuring.job.number}`}</h1>
          <span className="min-w-0 truncate text-soft">
            {measuring.job.make} {measuring.job.model}. {measuring.job.complaint}
          </span>
        </div>
      </Headline>
      <div className="min-w-0 space-y-6">
        <section>
          <p className="text-soft">
            {conclusion.settled ? "Diagnosis" : "No conclusion yet"}, from {counted} reading
            {counted === 1 ? "" : "s"}
            {since > 0 && " since the repair"}
          </p>
          <h2 className="text-3xl leading-tight" data-testid="conclusion">
            {conclusion.sentence}
          </h2>
          <p className="mt-2">
            {conclusion.settled
              ? `Further measuring is not needed: ${conclusion.reason}.`
              : `No conclusion yet: ${conclusion.reason}.`}{" "}
            Repairing now costs {minutes(conclusion.expected_loss_min)} on average through a wrong diagnosis.
            {more && (
              <>
                {" "}
                One more test, the {more.test.instrument_title.toLowerCase()} at {more.test.red}, takes{" "}
                {minutes(more.minutes)} and saves {minutes(Math.max(0, more.expected_saving_min))} of that:{" "}
                <strong className="font-[650]">
                  {more.expected_saving_min <= more.minutes
                    ? "repairing now is cheaper"
                    : conclusion.settled
                      ? "it would confirm this"
                      : "it is worth its time"}
                </strong>
                .
              </>
            )}
          </p>
          {conclusion.inseparable && (
            <p className="mt-2">
              {conclusion.units.join(", ")} show the same at every point that can be reached with these tools,
              so they are called together: look at the places themselves, the quickest first.
            </p>
          )}
          <ThenAndNow measuring={measuring} />
        </section>
        <SecondOpinion measuring={measuring} />
        <section>
          <h3 className="mb-1 text-lg">What to do</h3>
          <ol className="list-decimal space-y-1 pl-5">
            {conclusion.actions.map((action) => (
              <li key={action}>{action}</li>
            ))}
          </ol>
          <div className="mt-3 space-y-1">
            {conclusion.cautions.map((caution) => (
              <Notice key={caution} tone="caution">
                {caution}
              </Notice>
            ))}
          </div>
        </section>
        <ToVerify measuring={measuring} />
        <Repair measuring={measuring} canWrite={canWrite} />
        {canWrite && <RecordRepair measuring={measuring} />}
        <EvidenceTable measuring={measuring} leading={leading} />
      </div>
      <aside className="space-y-6">
        <ThreeWayField track={measuring.assessment.track} />
        <section>
          <h3 className="mb-1 text-lg">What else it could be</h3>
          {conclusion.alternatives.length === 0 ? (
            <p className="text-sm text-soft">Nothing above 1 %.</p>
          ) : (
            <ul className="border-t border-rule">
              {conclusion.alternatives.map((other) => (
                <li key={other.unit} className="border-b border-rule py-2 text-sm">
                  <div className="flex justify-between gap-2">
                    <strong className="font-[600]">{other.title}</strong>
                    <span className="figure text-base">{percent(other.probability)}</span>
                  </div>
                  <div className="text-soft">Distinguished by: {other.distinguished_by}</div>
                </li>
              ))}
            </ul>
          )}
        </section>
        <section>
          <h3 className="mb-1 text-lg">What would change it</h3>
          <p>{conclusion.would_change}</p>
        </section>
        <Link
          to={`/measure/${diagnosisId}`}
          className="inline-flex min-h-11 items-center rounded-sm border border-ink/60 px-4"
        >
          Back to measuring (B)
        </Link>
      </aside>
    </main>
  );
}

/** The steps of the repair: of what was repaired last, else of what is called. */
function Repair({ measuring, canWrite }: { measuring: Measuring; canWrite: boolean }) {
  const detail = useQuery(jobQuery(measuring.job.id)).data;
  const { conclusion, suspects } = measuring.assessment;
  const repair = measuring.repairs.at(-1);
  const units = (repair?.units ?? (conclusion.settled ? conclusion.units : [])).filter(
    (unit) => !["none", "unknown"].includes(unit),
  );
  if (!detail || units.length === 0) return null;
  const named = units.map((unit) => ({
    unit,
    title:
      repair?.titles[repair.units.indexOf(unit)] ??
      suspects.find((suspect) => suspect.unit === unit)?.title ??
      unit,
  }));
  return (
    <RepairPlan detail={detail} diagnosisId={measuring.diagnosis.id} units={named} canWrite={canWrite} />
  );
}

/** What the readings answer to somebody else's diagnosis. */
function SecondOpinion({ measuring }: { measuring: Measuring }) {
  const { opinion } = measuring;
  if (!opinion) return null;
  return (
    <section data-testid="opinion">
      <h3 className="mb-1 text-lg">Second opinion{opinion.by && ` on what was said by: ${opinion.by}`}</h3>
      {opinion.said && <p className="text-soft">They concluded: {opinion.said}</p>}
      {opinion.answers.length === 0 ? (
        <p className="text-sm">Name the parts they mean on the job page, and they are answered here.</p>
      ) : (
        <ul className="mt-1 border-t border-rule">
          {opinion.answers.map((answer) => (
            <li key={answer.part} className="border-b border-rule py-2 text-sm" data-verdict={answer.verdict}>
              <strong className="mr-2 font-[650]">
                {answer.title}: {answer.verdict}.
              </strong>
              {answer.sentence}
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

type Suspect = Measuring["assessment"]["suspects"][number];

/** Each reading's weight for or against the leading unit, as a bar to the right or the left. */
function EvidenceTable({ measuring, leading }: { measuring: Measuring; leading: Suspect | undefined }) {
  if (!leading) return null;
  const since = measuring.repairs.at(-1)?.seq ?? 0;
  const standing = measuring.readings.filter(
    (reading) => reading.voided_because === null && reading.seq > since,
  );
  if (standing.length === 0) return null;
  const largest = Math.max(1, ...leading.evidence.map((item) => Math.abs(item.weight_ban)));
  return (
    <section>
      <h3 className="text-lg">Evidence</h3>
      <p className="mb-1 text-sm text-soft">
        For (right) and against (left) {groupName(leading.group).toLowerCase()}: {leading.title}.
      </p>
      <table className="w-full text-sm">
        <tbody>
          {standing.map((reading) => {
            const weight = leading.evidence.find((item) => item.reading === reading.id)?.weight_ban ?? 0;
            const effect = measuring.assessment.effects.find((item) => item.reading === reading.id);
            const width = (Math.min(Math.abs(weight), largest) / largest) * 50;
            return (
              <tr key={reading.id} className="border-t border-rule align-top">
                <th scope="row" className="figure w-24 py-2 text-left text-lg">
                  {reading.label}
                </th>
                <td className="py-2 pr-3">
                  <strong className="font-[600]">{reading.red}</strong> to {reading.black},{" "}
                  {reading.setup_text}
                  <div className="text-soft">expected: {effect?.expected}</div>
                </td>
                <td className="w-44 py-3">
                  <div className="relative h-3 border border-rule" aria-hidden="true">
                    <div className="absolute top-0 left-1/2 h-full w-px bg-ink" />
                    <div
                      className="absolute top-0 h-full"
                      style={{
                        left: weight >= 0 ? "50%" : `${50 - width}%`,
                        width: `${width}%`,
                        background: depthTint(Math.abs(weight) / largest),
                      }}
                    />
                  </div>
                  <div className="text-center">
                    {Math.abs(weight) < 0.1
                      ? "says little"
                      : weight > 0
                        ? `for, ${odds(weight)}`
                        : `against, ${odds(weight)}`}
                  </div>
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </section>
  );
}

function odds(ban: number): string {
  const factor = 10 ** Math.abs(ban);
  return factor > 1000 ? "over 1000 to 1" : `${factor < 10 ? factor.toFixed(1) : factor.toFixed(0)} to 1`;
}
