import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, type JobDetail, type Schema, unwrap } from "../../api/client";
import { jobQuery } from "../../api/queries";
import { sendOnce } from "../../lib/keys";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";
import { useAnswer } from "../job/useAnswer";

type Shown = Schema["EstimateView"];
type Line = Shown["lines"][number];

const KINDS: Line["kind"][] = ["labour", "part", "other"];
const FIELD = "min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-2 text-ink";

interface Props {
  detail: JobDetail;
  canWrite: boolean;
}

const written = (line: Line) => `${line.what} | ${line.kind} | ${line.amount} | ${line.unit_price}`;

/** The estimate: lines that are written or follow from the work, what it comes to, and who accepted it. */
export function Estimate({ detail, canWrite }: Props) {
  const jobId = detail.job.id;
  const lines = useAnswer<string[]>(detail, "estimate", []);
  const found = useQuery({
    queryKey: ["estimate", jobId, detail.job.last_seq],
    placeholderData: (before: Shown | undefined) => before,
    queryFn: async () =>
      unwrap(
        await api.GET("/api/v1/jobs/{job_id}/estimate", {
          params: { path: { job_id: jobId }, query: { form: "json" } },
        }),
      ),
  });
  const shown = found.data;
  if (!shown) return null;
  const keep = (next: Line[]) => lines.answer(next.map(written));
  return (
    <section aria-label="Estimate" className="space-y-2">
      <h2 className="text-xl">Estimate</h2>
      {shown.lines.length > 0 && (
        <table className="w-full text-sm">
          <thead>
            <tr className="text-left text-soft">
              <th className="font-normal">What</th>
              <th className="w-16 text-right font-normal">Amount</th>
              <th className="w-20 text-right font-normal">Each</th>
              <th className="w-24 text-right font-normal">{shown.currency}</th>
              <th className="w-20" />
            </tr>
          </thead>
          <tbody>
            {shown.lines.map((line, index) => (
              <tr key={`${line.what} ${line.amount}`} className="border-t border-rule">
                <td className="py-1">{line.what}</td>
                <td className="figure text-right text-base">
                  {line.amount}
                  {line.kind === "labour" && " h"}
                </td>
                <td className="figure text-right text-base">{line.unit_price}</td>
                <td className="figure text-right text-base">{line.price}</td>
                <td className="text-right">
                  {canWrite && (
                    <Button
                      kind="quiet"
                      aria-label={`Take off the estimate: ${line.what}`}
                      disabled={lines.saving}
                      onClick={() => keep(shown.lines.filter((_, at) => at !== index))}
                    >
                      take off
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
          <tfoot>
            {shown.discount !== "0.00" && (
              <Sum
                shown={shown}
                label={`Discount ${shown.discount_percent} %`}
                value={`−${shown.discount}`}
              />
            )}
            <Sum shown={shown} label="Net" value={shown.net} />
            <Sum shown={shown} label={`Tax ${shown.tax_percent} %`} value={shown.tax} />
            <Sum shown={shown} label="To pay" value={shown.gross} strong />
          </tfoot>
        </table>
      )}
      {lines.problem && <Notice tone="problem">{lines.problem.detail}</Notice>}
      {canWrite && shown.proposed.length > 0 && (
        <div className="flex flex-wrap items-center gap-2">
          <span className="text-sm text-soft">From the work:</span>
          {shown.proposed.map((line) => (
            <Button
              key={line.what}
              disabled={lines.saving}
              onClick={() => keep([...shown.lines, line])}
            >{`${line.what}, ${line.amount} × ${line.unit_price}`}</Button>
          ))}
        </div>
      )}
      {canWrite && <NewLine saving={lines.saving} onLine={(line) => keep([...shown.lines, line])} />}
      {shown.lines.length > 0 && (
        <>
          <div className="flex flex-wrap items-end gap-3">
            <Percent detail={detail} field="estimate_discount" label="Discount, %" canWrite={canWrite} />
            <Percent detail={detail} field="estimate_tax" label="Tax, %" canWrite={canWrite} />
            <a
              className="inline-flex min-h-11 items-center underline underline-offset-4"
              href={`/api/v1/jobs/${jobId}/estimate?form=csv`}
            >
              For the invoice program (CSV)
            </a>
          </div>
          <Acceptance detail={detail} shown={shown} canWrite={canWrite} />
        </>
      )}
    </section>
  );
}

function Sum(props: { shown: Shown; label: string; value: string; strong?: boolean }) {
  return (
    <tr className={`border-t border-rule ${props.strong ? "font-[650]" : "text-soft"}`}>
      <td className="py-1" colSpan={3}>
        {props.label}
      </td>
      <td className="figure text-right text-base" data-sum={props.label}>
        {props.value}
      </td>
      <td />
    </tr>
  );
}

function NewLine({ saving, onLine }: { saving: boolean; onLine: (line: Line) => void }) {
  const [what, setWhat] = useState("");
  const [kind, setKind] = useState<Line["kind"]>("part");
  const [amount, setAmount] = useState("1");
  const [price, setPrice] = useState("");
  return (
    <form
      className="grid grid-cols-[minmax(0,1fr)_6rem_4.5rem_6rem_auto] items-end gap-2 text-sm text-soft max-md:grid-cols-2"
      onSubmit={(event) => {
        event.preventDefault();
        const text = what.trim().replaceAll("|", "/");
        if (!text || !price.trim()) return;
        onLine({ what: text, kind, amount: amount.trim(), unit_price: price.trim(), price: "" });
        setWhat("");
        setPrice("");
        setAmount("1");
      }}
    >
      <label>
        Another line
        <input
          className={FIELD}
          value={what}
          maxLength={120}
          onChange={(event) => setWhat(event.target.value)}
        />
      </label>
      <label>
        Kind
        <select
          className={FIELD}
          value={kind}
          onChange={(event) => setKind(event.target.value as Line["kind"])}
        >
          {KINDS.map((one) => (
            <option key={one}>{one}</option>
          ))}
        </select>
      </label>
      <label>
        {kind === "labour" ? "Hours" : "Pieces"}
        <input
          className={FIELD}
          inputMode="decimal"
          value={amount}
          onChange={(event) => setAmount(event.target.value)}
        />
      </label>
      <label>
        Each
        <input
          className={FIELD}
          inputMode="decimal"
          value={price}
          onChange={(event) => setPrice(event.target.value)}
        />
      </label>
      <Button type="submit" disabled={saving || !what.trim() || !price.trim()}>
        Add
      </Button>
    </form>
  );
}

function Percent(props: { detail: JobDetail; field: string; label: string; canWrite: boolean }) {
  const held = useAnswer<number | null>(props.detail, props.field, null);
  return (
    <div className="w-28">
      <TextField
        key={String(held.value)}
        label={props.label}
        inputMode="decimal"
        defaultValue={held.value ?? ""}
        disabled={!props.canWrite}
        problem={held.problem?.detail}
        onBlur={(event) => {
          const text = event.target.value.trim().replace(",", ".");
          const value = text === "" ? null : Number(text);
          if (value !== held.value && !Number.isNaN(value)) held.answer(value);
        }}
      />
    </div>
  );
}

function Acceptance({ detail, shown, canWrite }: Props & { shown: Shown }) {
  const client = useQueryClient();
  const jobId = detail.job.id;
  const [name, setName] = useState("");
  const accept = useMutation({
    mutationFn: () =>
      sendOnce(["accept", jobId, name, shown.gross], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/jobs/{job_id}/estimate/acceptance", {
            params: { path: { job_id: jobId } },
            body: { client_key, name, gross: shown.gross },
          }),
        ),
      ),
    onSuccess: () => client.invalidateQueries(jobQuery(jobId)),
  });
  const { accepted } = shown;
  return (
    <div className="space-y-2">
      {accepted && (
        <p data-accepted={accepted.same}>
          {accepted.same
            ? `✓ ${accepted.name} accepted ${accepted.gross} ${shown.currency}, ${accepted.at} UTC.`
            : `${accepted.name} accepted ${accepted.gross} ${shown.currency}, ${accepted.at} UTC. It comes to ${shown.gross} now: ask again.`}
        </p>
      )}
      {canWrite && !accepted?.same && (
        <form
          className="flex items-end gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            accept.mutate();
          }}
        >
          <div className="flex-1">
            <TextField
              label="Accepted by"
              value={name}
              maxLength={120}
              onChange={(event) => setName(event.target.value)}
            />
          </div>
          <Button type="submit" disabled={!name.trim() || accept.isPending}>
            {`Accept ${shown.gross} ${shown.currency}`}
          </Button>
        </form>
      )}
      {accept.error && (
        <Notice tone="problem">
          {accept.error instanceof ApiError ? accept.error.problem.detail : "The server does not answer."}
        </Notice>
      )}
    </div>
  );
}
