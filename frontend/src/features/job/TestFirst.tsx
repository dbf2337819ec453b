import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { useNavigate } from "react-router";
import { api, type JobDetail, type Schema, unwrap } from "../../api/client";
import { circuitsQuery, triageQuery } from "../../api/queries";
import { depthTint, minutes, percent } from "../../lib/format";
import { sendOnce } from "../../lib/keys";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { CauseMap } from "./CauseMap";
import { MeasurePart, type PartWanted } from "./MeasurePart";

type Candidate = Schema["Candidate"];

/** What the triage goes by: when this changes, it is asked again. */
function stateOf(detail: JobDetail): string {
  const used = ["complaint", "symptoms", "denied", "conditions", "environment", "recent_work", "battery_v"];
  return [
    ...used.map((field) => detail.answers[field]?.seq ?? 0),
    detail.scans.length,
    detail.cleared_at ?? "",
  ].join(".");
}

/** One cause or several, which circuit to test first, and the check that splits the candidates. */
export function TestFirst(props: { detail: JobDetail; canWrite: boolean; children: ReactNode }) {
  const { detail, canWrite } = props;
  const navigate = useNavigate();
  const client = useQueryClient();
  const answer = useQuery(triageQuery(detail.job.id, stateOf(detail)));
  const open = useMutation({
    mutationFn: ({ version, reason }: { version: string; reason: string }) =>
      sendOnce(["open", detail.job.id, version, reason], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/jobs/{job_id}/diagnoses", {
            params: { path: { job_id: detail.job.id } },
            body: { client_key, circuit_version_id: version, reason, carry: true },
          }),
        ),
      ),
    onSuccess: (diagnosis) => {
      client.invalidateQueries({ queryKey: ["job", detail.job.id] });
      navigate(`/measure/${diagnosis.id}`);
    },
  });
  const [wanted, setWanted] = useState<PartWanted | null>(null);
  const triage = answer.data?.triage ?? null;
  const diagnosis = (item: Candidate) => {
    const circuit = detail.circuits.find((option) => option.slug === item.open_circuit);
    if (circuit)
      open.mutate({ version: circuit.version_id, reason: `${item.title}: ${item.reason}`.slice(0, 500) });
  };
  const first = triage?.candidates[0];
  const trouble = answer.error ?? open.error;
  return (
    <div className="space-y-4" aria-busy={answer.isFetching}>
      {trouble && <Notice tone="problem">{trouble.message}</Notice>}
      {triage && (
        <section aria-label="Test this circuit first" className="space-y-2">
          <div className="flex items-start justify-between gap-x-5 gap-y-3 max-sm:flex-col">
            <div>
              <h2 className="text-2xl leading-tight" data-testid="triage">
                {triage.sentence}
              </h2>
              <p className="mt-1 text-sm text-soft">
                One cause {percent(triage.one_share)}, several {percent(triage.several_share)}
                {triage.none_share > 0.005 && `, nothing wrong now ${percent(triage.none_share)}`}
                {triage.unexplained.length > 0 && `. Not in these circuits: ${triage.unexplained.join(", ")}`}
              </p>
            </div>
            {canWrite && first && (
              <Button
                kind="next"
                className="shrink-0 text-left"
                onClick={() => diagnosis(first)}
                disabled={open.isPending}
              >
                Test this circuit first
              </Button>
            )}
          </div>
          <CauseMap triage={triage} detail={detail} />
        </section>
      )}
      {props.children}
      {!triage && (
        <section aria-label="Test this circuit first">
          <h2 className="text-xl">Test this circuit first</h2>
          <p className="text-soft">
            {answer.isPending
              ? "Calculating which codes every fault of this vehicle would set …"
              : answer.data?.reason}
          </p>
          {answer.data && (
            <WithoutCircuits parts={answer.data.parts} canWrite={canWrite} onMeasure={setWanted} />
          )}
        </section>
      )}
      {triage && (
        <section aria-label="Reasons and alternatives">
          <h2 className="text-xl">Reasons and alternatives</h2>
          <ol className="border-t border-rule">
            {triage.candidates.map((item) => (
              <li
                key={item.id}
                className="flex items-start gap-3 border-b border-rule py-2"
                data-candidate={item.id}
              >
                <span
                  aria-hidden="true"
                  className="mt-1 h-9 w-2.5 shrink-0 border border-ink/50"
                  style={{ background: depthTint(item.probability) }}
                />
                <div className="min-w-0 flex-1 text-sm">
                  <div className="text-base">
                    <strong className="font-[650]">{item.title}</strong>{" "}
                    <span className="figure">{percent(item.probability)}</span>
                  </div>
                  <div className="first-letter:uppercase">{item.reason}</div>
                  <div className="text-soft">Most likely there: {item.units.join(" · ")}</div>
                </div>
                {canWrite && (
                  <Button onClick={() => diagnosis(item)} disabled={open.isPending}>
                    Test this circuit
                  </Button>
                )}
              </li>
            ))}
          </ol>
        </section>
      )}
      {triage?.split && <Split split={triage.split} />}
      {triage && triage.prior_reasons.length > 0 && (
        <p className="text-sm text-soft">Also considered: {triage.prior_reasons.join("; ")}.</p>
      )}
      {canWrite && (
        <Button onClick={() => setWanted({ code: "", name: "" })}>
          Measure a part that is not described here
        </Button>
      )}
      <MeasurePart detail={detail} wanted={wanted} onClose={() => setWanted(null)} />
      {canWrite && (
        <OtherCircuit detail={detail} onOpen={(version) => open.mutate({ version, reason: "" })} />
      )}
    </div>
  );
}

/** What codes and symptoms say on a vehicle that nobody has described: an order with reasons, no percentages. */
function WithoutCircuits(props: {
  parts: Schema["PartFirstView"][];
  canWrite: boolean;
  onMeasure: (wanted: PartWanted) => void;
}) {
  if (props.parts.length === 0) return null;
  return (
    <>
      <p className="mt-1 text-sm text-soft">
        By the codes and by what was noticed, in this order. Known: the codes. Typical: the circuits, and what
        each kind of part does when it fails. Guessed: nothing.
      </p>
      <ol className="border-t border-rule" aria-label="Parts by codes and symptoms">
        {props.parts.map((part, index) => (
          <li
            key={`${part.part}-${part.template}-${part.codes.join()}`}
            className="flex items-center gap-3 border-b border-rule py-2"
            data-part={part.template}
          >
            <div className="min-w-0 flex-1 text-sm">
              <div className="text-base">
                <strong className="inline-block font-[650] first-letter:uppercase">{part.part}</strong>{" "}
                <span className="figure">{part.codes.join(", ")}</span>
              </div>
              <div className="first-letter:uppercase">{part.reason}</div>
            </div>
            {props.canWrite && (
              <Button
                kind={index === 0 ? "next" : "plain"}
                onClick={() => props.onMeasure({ code: part.code, name: part.code ? "" : part.part })}
              >
                Measure it
              </Button>
            )}
          </li>
        ))}
      </ol>
    </>
  );
}

function Split({ split }: { split: Schema["SplitCheck"] }) {
  const range = (low: number, high: number) =>
    high - low < 0.3
      ? `about ${((low + high) / 2).toFixed(1)} V`
      : `${low.toFixed(1)} to ${high.toFixed(1)} V`;
  return (
    <div className="border-l-4 border-depth-3 bg-depth-1 px-3 py-2 text-sm">
      <p>
        <strong className="font-[650]">Not sure which? One voltage tells most.</strong> {split.title} (
        {split.point}), against battery minus, {split.setup}. {minutes(split.minutes)}.
      </p>
      <ul>
        {split.outcomes.map((outcome) => (
          <li key={`${outcome.low}`}>
            <span className="figure inline-block w-32">{range(outcome.low, outcome.high)}</span>{" "}
            {outcome.points_to} <span className="text-soft">({percent(outcome.probability)})</span>
          </li>
        ))}
      </ul>
    </div>
  );
}

function OtherCircuit({ detail, onOpen }: { detail: JobDetail; onOpen: (version: string) => void }) {
  const all = useQuery(circuitsQuery);
  const own = detail.circuits.map((circuit) => ({ id: circuit.version_id, title: circuit.title }));
  const known = new Set(own.map((circuit) => circuit.id));
  const others = (all.data?.circuits ?? []).filter((circuit) => !known.has(circuit.version_id));
  return (
    <label className="block text-sm text-soft">
      Or choose a circuit to test{" "}
      <select
        className="mt-1 block min-h-11 w-full max-w-md rounded-sm border border-ink/60 bg-raised px-2 text-ink"
        value=""
        onChange={(event) => event.target.value && onOpen(event.target.value)}
      >
        <option value="">choose a circuit …</option>
        {own.length > 0 && (
          <optgroup label={`${detail.job.make} ${detail.job.model}`}>
            {own.map((circuit) => (
              <option key={circuit.id} value={circuit.id}>
                {circuit.title}
              </option>
            ))}
          </optgroup>
        )}
        {others.length > 0 && (
          <optgroup label="others">
            {others.map((circuit) => (
              <option key={circuit.version_id} value={circuit.version_id}>
                {circuit.title}, {circuit.make}
              </option>
            ))}
          </optgroup>
        )}
      </select>
    </label>
  );
}
