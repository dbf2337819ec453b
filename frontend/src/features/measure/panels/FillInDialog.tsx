import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { ApiError, api, type Schema, unwrap } from "../../../api/client";
import { Button } from "../../../ui/Button";
import { Notice } from "../../../ui/Notice";
import { InWire } from "./InWire";
import { useFillIn } from "./useFillIn";

type Known = Schema["KnownView"];

const placeOf = (item: Known) => `${item.kind}.${item.id}.${item.field}`;

/** What is known of the circuit: figures, colours, places. What is filled in here moves no reading. */
export function FillInDialog(props: { diagnosisId: string; open: boolean; onClose: () => void }) {
  const { diagnosisId, open } = props;
  const path = { params: { path: { diagnosis_id: diagnosisId } } };
  const [typed, setTyped] = useState<Record<string, string>>({});
  useEffect(() => {
    if (open) setTyped({});
  }, [open]);
  const known = useQuery({
    queryKey: ["known", diagnosisId],
    enabled: open,
    staleTime: 0,
    queryFn: async () => unwrap(await api.GET("/api/v1/diagnoses/{diagnosis_id}/known", path)),
  });
  const items = known.data?.known ?? [];
  const changed = items.filter((item) => (typed[placeOf(item)] ?? item.value) !== item.value);
  const fill = useFillIn(diagnosisId, props.onClose);
  const send = () =>
    fill.mutate(
      changed.map((item) => ({
        kind: item.kind,
        id: item.id,
        field: item.field,
        value: typed[placeOf(item)] ?? "",
      })),
    );
  const problems = fill.error instanceof ApiError ? (fill.error.problem.errors ?? []) : [];
  const problemOf = (item: Known) => {
    const index = changed.indexOf(item);
    return problems.find((one) => one.field === `changes.${index}.value`)?.message;
  };
  const figures = items.filter((item) => item.kind === "part" && item.unit !== "");
  const sections: [string, Known[]][] = [
    ["Figures of the parts", figures],
    ["Colours and cross-sections", items.filter((item) => item.kind === "wire" && item.field !== "length_m")],
    [
      "Pin numbers of the vehicle's own plugs",
      items.filter((item) => item.kind === "connector" && item.field.startsWith("pin ")),
    ],
    [
      "Names and places",
      items.filter((item) => item.kind !== "wire" && item.unit === "" && !item.field.startsWith("pin ")),
    ],
    [
      "Lengths and minutes",
      items.filter((item) => item.field === "length_m" || (item.kind === "connector" && item.unit !== "")),
    ],
  ];
  const trouble = known.error ?? fill.error;
  return (
    <Dialog.Root open={open} onOpenChange={(now) => !now && props.onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed z-20 top-[5%] left-1/2 flex max-h-[90%] w-[min(56rem,96vw)] -translate-x-1/2 flex-col rounded-sm bg-paper p-5 shadow-xl">
          <Dialog.Title className="text-xl">What is known of this circuit</Dialog.Title>
          <Dialog.Description className="mb-2 text-soft">
            From a sheet, or seen at the vehicle. A figure may be a range (7 to 8). Readings stay as they are.
          </Dialog.Description>
          {trouble && problems.length === 0 && <Notice tone="problem">{trouble.message}</Notice>}
          <form
            className="flex min-h-0 flex-1 flex-col"
            onSubmit={(event) => {
              event.preventDefault();
              if (changed.length > 0) send();
            }}
          >
            <div className="min-h-0 flex-1 overflow-auto border-y border-rule py-2">
              {sections.map(([title, rows]) =>
                rows.length === 0 ? null : (
                  <section key={title} aria-label={title} className="mb-4">
                    <h3 className="mb-1 text-base font-[650]">{title}</h3>
                    <div className="grid items-end gap-x-6 gap-y-2 sm:grid-cols-2">
                      {rows.map((item) => (
                        <Field
                          key={placeOf(item)}
                          item={item}
                          value={typed[placeOf(item)] ?? item.value}
                          problem={problemOf(item)}
                          onChange={(value) => setTyped((now) => ({ ...now, [placeOf(item)]: value }))}
                        />
                      ))}
                    </div>
                  </section>
                ),
              )}
              <InWire
                diagnosisId={diagnosisId}
                wires={items.filter((item) => item.kind === "wire" && item.field === "length_m")}
                onDone={props.onClose}
              />
            </div>
            <div className="mt-3 flex items-center justify-end gap-3">
              <Link
                className="mr-auto min-h-11 py-2 text-soft underline underline-offset-4"
                to={`/describe?diagnosis=${diagnosisId}`}
              >
                I have the wiring sheet
              </Link>
              <Button kind="quiet" onClick={props.onClose}>
                Cancel
              </Button>
              <Button kind="next" type="submit" disabled={changed.length === 0 || fill.isPending}>
                {fill.isPending
                  ? "Filling in …"
                  : changed.length === 0
                    ? "Fill in"
                    : `Fill in ${changed.length === 1 ? "1 value" : `${changed.length} values`}`}
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Field(props: {
  item: Known;
  value: string;
  problem: string | undefined;
  onChange: (value: string) => void;
}) {
  const { item, value, problem } = props;
  const hint = `known-${placeOf(item)}`;
  return (
    <div data-known={placeOf(item)}>
      <label className="block text-sm text-soft">
        <strong className="font-[650] text-ink">{item.of}</strong> {item.label.toLowerCase()}
        {item.unit && `, ${item.unit}`}
        {item.open && <span className="ml-1 bg-buff px-1 text-ink">typical for the kind</span>}
        <input
          value={value}
          maxLength={80}
          onChange={(event) => props.onChange(event.target.value)}
          aria-invalid={problem !== undefined}
          aria-describedby={problem ? hint : undefined}
          className="mt-1 block min-h-11 w-full border border-ink/60 bg-raised px-3 text-base text-ink"
        />
      </label>
      {problem && (
        <p id={hint} role="alert" className="text-sm font-[600]">
          {problem}
        </p>
      )}
    </div>
  );
}
