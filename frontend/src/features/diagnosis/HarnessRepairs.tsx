import { useState } from "react";
import type { JobDetail } from "../../api/client";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";
import { useAnswer } from "../job/useAnswer";

const METHODS = [
  "crimped and sealed",
  "soldered and sealed",
  "new length with two joints",
  "new contact",
  "new wire beside the harness",
];
const FIELD = "mt-1 block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-2 text-ink";
const EMPTY = { place: "", added: "", method: METHODS[0] as string, seal: "", before: "", after: "" };

interface Props {
  detail: JobDetail;
  wires: { unit: string; title: string }[];
  canWrite: boolean;
}

/** How a wire was repaired: where, by how much it was lengthened, how it was joined and sealed, with its pictures. */
export function HarnessRepairs({ detail, wires, canWrite }: Props) {
  const held = useAnswer<string[]>(detail, "harness_repairs", []);
  const [wire, setWire] = useState("");
  const [one, setOne] = useState(EMPTY);
  const set = (change: Partial<typeof EMPTY>) => setOne((now) => ({ ...now, ...change }));
  const named = wire || wires[0]?.title || "";
  if (wires.length === 0 && held.value.length === 0) return null;
  const add = () => {
    const clean = (text: string) => text.trim().replaceAll("|", "/");
    const fields = [named, one.place, one.added, one.method, one.seal, one.before, one.after].map(clean);
    held.answer([...held.value, fields.join(" | ")]);
    setOne(EMPTY);
  };
  return (
    <div className="mt-4" data-testid="harness">
      <h4 className="text-sm text-soft">Harness repairs</h4>
      <ul>
        {held.value.map((line, index) => {
          const [title = "", place = "", added = "", method = "", seal = "", before = "", after = ""] =
            line.split(" | ");
          return (
            <li
              key={line}
              className="flex flex-wrap items-center gap-x-4 gap-y-1 border-t border-rule py-2 text-sm"
            >
              <span className="min-w-60 flex-1">
                <strong className="font-[650]">{title}</strong>: {method}
                {place && `, ${place}`}
                {added && `, ${added} mm added`}
                {seal && `, ${seal}`}
              </span>
              {[
                { id: before, words: "before" },
                { id: after, words: "after" },
              ]
                .filter((picture) => picture.id)
                .map((picture) => (
                  <a
                    key={picture.words}
                    href={`/api/v1/jobs/${detail.job.id}/photos/${picture.id}`}
                    target="_blank"
                    rel="noreferrer"
                  >
                    <img
                      src={`/api/v1/jobs/${detail.job.id}/photos/${picture.id}?size=thumbnail`}
                      alt={`${title}, ${picture.words}`}
                      className="h-14 border border-rule"
                    />
                  </a>
                ))}
              {canWrite && (
                <Button kind="quiet" onClick={() => held.answer(held.value.filter((_, at) => at !== index))}>
                  take off
                </Button>
              )}
            </li>
          );
        })}
      </ul>
      {held.problem && <Notice tone="problem">{held.problem.detail}</Notice>}
      {canWrite && wires.length > 0 && (
        <details className="mt-1">
          <summary className="flex min-h-11 cursor-pointer items-center">
            Record how a wire was repaired
          </summary>
          <div className="grid gap-3 text-sm text-soft sm:grid-cols-2">
            <label>
              Wire
              <select className={FIELD} value={named} onChange={(event) => setWire(event.target.value)}>
                {wires.map((item) => (
                  <option key={item.unit}>{item.title}</option>
                ))}
              </select>
            </label>
            <label>
              How
              <select
                className={FIELD}
                value={one.method}
                onChange={(event) => set({ method: event.target.value })}
              >
                {METHODS.map((method) => (
                  <option key={method}>{method}</option>
                ))}
              </select>
            </label>
            <TextField
              label="Where"
              value={one.place}
              maxLength={120}
              placeholder="20 cm behind X12, under the bumper"
              onChange={(event) => set({ place: event.target.value })}
            />
            <TextField
              label="Lengthened by, mm"
              inputMode="decimal"
              value={one.added}
              onChange={(event) => set({ added: event.target.value })}
            />
            <TextField
              label="Sealed with"
              value={one.seal}
              maxLength={80}
              placeholder="shrink tube with adhesive"
              onChange={(event) => set({ seal: event.target.value })}
            />
            {(["before", "after"] as const).map((side) => (
              <label key={side}>
                Picture {side}
                <select
                  className={FIELD}
                  value={one[side]}
                  onChange={(event) => set({ [side]: event.target.value })}
                >
                  <option value="">none</option>
                  {detail.photos.map((photo) => (
                    <option key={photo.id} value={photo.id}>
                      {photo.caption || "without a caption"}
                    </option>
                  ))}
                </select>
              </label>
            ))}
          </div>
          <Button className="mt-2" onClick={add} disabled={held.saving}>
            Add the harness repair
          </Button>
        </details>
      )}
    </div>
  );
}
