import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { ApiError, api, type Measuring, type Schema, unwrap } from "../../api/client";
import { calculatorsQuery } from "../../api/queries";
import { Button } from "../../ui/Button";
import { Sketch } from "./Sketch";

type Calculator = Schema["CalculatorView"];

interface Props {
  open: boolean;
  onClose: () => void;
  /** Readings that have not been voided, newest first: their figures fill a field by one tap. */
  readings: Measuring["readings"];
  /** Puts the calculation and its result into the note of the next reading. */
  onNote: (text: string) => void;
}

/** The calculations of the trade; the core does them. */
export function Calculators({ open, onClose, readings, onNote }: Props) {
  const calculators = useQuery({ ...calculatorsQuery, enabled: open });
  const [chosen, setChosen] = useState("source-resistance");
  const calculator = calculators.data?.calculators.find((item) => item.id === chosen);
  return (
    <Dialog.Root open={open} onOpenChange={(now) => !now && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content
          className="fixed z-20 top-4 left-1/2 grid max-h-[calc(100vh-2rem)] w-[min(56rem,96vw)] -translate-x-1/2 grid-rows-[auto_1fr] overflow-hidden rounded-sm bg-paper p-5 shadow-xl"
          aria-describedby={undefined}
          onOpenAutoFocus={(event) => {
            event.preventDefault();
            (event.currentTarget as HTMLElement | null)
              ?.querySelector<HTMLElement>("nav button, input")
              ?.focus();
          }}
        >
          <div className="mb-2 flex items-baseline justify-between">
            <Dialog.Title className="text-xl">Calculators</Dialog.Title>
            <Dialog.Close className="min-h-11 px-2 underline underline-offset-4">Close (Esc)</Dialog.Close>
          </div>
          <div className="grid min-h-0 grid-cols-1 gap-5 overflow-auto md:grid-cols-[15rem_1fr]">
            <nav aria-label="Calculators">
              <ul className="border-t border-rule">
                {calculators.data?.calculators.map((item) => (
                  <li key={item.id} className="border-b border-rule">
                    <button
                      type="button"
                      aria-current={item.id === chosen}
                      className={`min-h-11 w-full px-2 text-left leading-tight ${item.id === chosen ? "bg-depth-1 font-[650]" : ""}`}
                      onClick={() => setChosen(item.id)}
                    >
                      {item.title}
                    </button>
                  </li>
                ))}
              </ul>
            </nav>
            {calculator && (
              <CalculatorForm
                key={calculator.id}
                calculator={calculator}
                readings={readings}
                onNote={onNote}
              />
            )}
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function CalculatorForm({
  calculator,
  readings,
  onNote,
}: {
  calculator: Calculator;
  readings: Measuring["readings"];
  onNote: (text: string) => void;
}) {
  const [values, setValues] = useState<Record<string, string>>(() =>
    Object.fromEntries(calculator.inputs.map((item) => [item.name, item.default])),
  );
  const [field, setField] = useState(calculator.inputs[0]?.name ?? "");
  const worked = useQuery({
    queryKey: ["calculators", calculator.id, values],
    retry: false,
    placeholderData: (before) => before,
    queryFn: async () =>
      unwrap(
        await api.POST("/api/v1/calculators/{calculator_id}", {
          params: { path: { calculator_id: calculator.id } },
          body: { values },
        }),
      ),
  });
  const [noted, setNoted] = useState(false);
  // biome-ignore lint/correctness/useExhaustiveDependencies: any change of a figure makes the note stale
  useEffect(() => setNoted(false), [values]);
  const unit = calculator.inputs.find((item) => item.name === field)?.unit ?? "";
  const fitting = readings
    .filter((item) => item.voided_because === null && unit !== "" && item.label.endsWith(unit))
    .slice(-5)
    .reverse();
  const problem =
    worked.error instanceof ApiError ? worked.error.problem.detail : (worked.error?.message ?? "");
  const sum = () => {
    const given = calculator.inputs
      .filter((item) => values[item.name])
      .map((item) => `${item.label.toLowerCase()} ${values[item.name]} ${item.unit}`.trim());
    const found = worked.data?.results.map((item) => `${item.label.toLowerCase()} ${item.text}`) ?? [];
    return `${calculator.title}: ${given.join(", ")}; ${found.join(", ")}`;
  };
  return (
    <section aria-label={calculator.title}>
      <div className="grid grid-cols-[1fr_11rem] gap-4">
        <div>
          <p className="text-lg">{calculator.formula}</p>
          <p className="mb-2 text-sm text-soft">{calculator.source}</p>
          <div className="grid grid-cols-2 gap-x-3 gap-y-1">
            {calculator.inputs.map((item) => (
              <label key={item.name} className="block text-sm text-soft">
                {item.label}
                {item.optional && " (if known)"}
                <span className="flex items-baseline gap-1 border border-ink/60 bg-raised px-2">
                  <input
                    className="figure min-h-11 min-w-0 flex-1 bg-transparent text-xl text-ink focus:outline-none"
                    value={values[item.name] ?? ""}
                    onFocus={(event) => {
                      setField(item.name);
                      event.target.select();
                    }}
                    onChange={(event) => setValues({ ...values, [item.name]: event.target.value })}
                  />
                  <span>{item.unit}</span>
                </span>
              </label>
            ))}
          </div>
        </div>
        <Sketch name={calculator.drawing} />
      </div>
      {fitting.length > 0 && (
        <div className="mt-2 flex flex-wrap items-center gap-2 text-sm text-soft">
          From the readings:
          {fitting.map((item) => (
            <Button
              key={item.id}
              className="px-2"
              onClick={() => setValues({ ...values, [field]: item.label.replace("−", "-") })}
            >
              {item.label} at {item.red}
            </Button>
          ))}
        </div>
      )}
      <div aria-live="polite" className="mt-3">
        {problem ? (
          <p className="font-[600]">{problem}</p>
        ) : (
          <dl className="border-t border-rule">
            {worked.data?.results.map((item) => (
              <div key={item.label} className="flex items-baseline justify-between border-b border-rule py-1">
                <dt>{item.label}</dt>
                <dd className="figure text-2xl">{item.text}</dd>
              </div>
            ))}
          </dl>
        )}
      </div>
      {worked.data && !problem && (
        <Button
          className="mt-3"
          onClick={() => {
            onNote(sum());
            setNoted(true);
          }}
        >
          {noted ? "In the note of the next reading" : "Put it into the next reading's note"}
        </Button>
      )}
    </section>
  );
}
