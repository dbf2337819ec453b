import { ToggleGroup } from "radix-ui";
import type { Circuit, TestIn } from "../../../api/client";

interface Props {
  circuit: Circuit;
  test: TestIn;
  instruments: string[];
  /** What the workshop has; the rest can still be chosen. */
  atHand: string[];
  onChange: (test: TestIn) => void;
}

const ITEM =
  "min-h-11 border border-ink/50 px-3 data-[state=on]:bg-ink data-[state=on]:text-paper -ml-px first:ml-0";

function hasProbes(circuit: Circuit, instrument: string): boolean {
  return circuit.instruments.find((item) => item.id === instrument)?.probes ?? true;
}

/** The same test with another instrument, pointed at something that this one can measure. */
function withInstrument(circuit: Circuit, test: TestIn, instrument: string): TestIn {
  const before = hasProbes(circuit, test.instrument);
  if (!hasProbes(circuit, instrument)) {
    const target = circuit.targets.find((item) => item.instrument === instrument);
    return { ...test, instrument, red: target?.ref ?? test.red, black: circuit.black_reference };
  }
  const point = circuit.points.find((item) => item.ref !== circuit.black_reference && item.when === "any");
  return before ? { ...test, instrument } : { ...test, instrument, red: point?.ref ?? test.red };
}

/** Everything of a test that can be changed: instrument, controls, connectors disconnected. */
export function SetupBar({ circuit, test, instruments, atHand, onChange }: Props) {
  const controls = test.setup.controls ?? {};
  const probes = hasProbes(circuit, test.instrument);
  return (
    <fieldset className="flex flex-wrap gap-x-5 gap-y-2" aria-label="Change the test">
      <label className="block text-sm text-soft">
        Instrument
        <select
          className="block min-h-11 border border-ink/50 bg-raised px-2 text-base text-ink"
          value={test.instrument}
          onChange={(event) => onChange(withInstrument(circuit, test, event.target.value))}
        >
          {(
            [
              ["At hand", true],
              ["Not ticked in the workshop", false],
            ] as const
          ).map(([title, here]) => (
            <optgroup key={title} label={title}>
              {circuit.instruments
                .filter((item) => instruments.includes(item.id) && atHand.includes(item.id) === here)
                .map((item) => (
                  <option key={item.id} value={item.id}>
                    {item.title}
                  </option>
                ))}
            </optgroup>
          ))}
        </select>
      </label>
      {!probes && (
        <label className="block text-sm text-soft">
          Look at
          <select
            className="block min-h-11 border border-ink/50 bg-raised px-2 text-base text-ink"
            value={test.red}
            onChange={(event) => onChange({ ...test, red: event.target.value })}
          >
            {circuit.targets
              .filter((target) => target.instrument === test.instrument)
              .map((target) => (
                <option key={target.ref} value={target.ref}>
                  {target.title}
                </option>
              ))}
          </select>
        </label>
      )}
      {(probes ? (["red", "black"] as const) : []).map((probe) => (
        <label key={probe} className="block text-sm text-soft">
          {probe === "red" ? "Red probe" : "Black probe"}
          <select
            className="block min-h-11 border border-ink/50 bg-raised px-2 text-base text-ink"
            value={test[probe]}
            onChange={(event) => onChange({ ...test, [probe]: event.target.value })}
          >
            {circuit.points
              .filter(
                (point) =>
                  point.when === "any" || (test.setup.unplugged ?? []).includes(point.connector ?? ""),
              )
              .map((point) => (
                <option key={point.ref} value={point.ref}>
                  {point.ref}
                </option>
              ))}
          </select>
        </label>
      ))}
      {circuit.controls.map((control) => (
        <Choice
          key={control.id}
          label={control.title}
          value={controls[control.id] ?? control.values[0] ?? ""}
          values={control.values.map((value) => [value, value])}
          onPick={(value) =>
            onChange({ ...test, setup: { ...test.setup, controls: { ...controls, [control.id]: value } } })
          }
        />
      ))}
      <div>
        <span className="block text-sm text-soft" id="disconnected-label">
          Disconnected
        </span>
        <ToggleGroup.Root
          type="multiple"
          aria-labelledby="disconnected-label"
          value={test.setup.unplugged ?? []}
          onValueChange={(unplugged) => onChange({ ...test, setup: { ...test.setup, unplugged } })}
        >
          {circuit.connectors.map((connector) => (
            <ToggleGroup.Item
              key={connector.id}
              value={connector.id}
              className={ITEM}
              aria-label={`Disconnect ${connector.title || connector.id}`}
            >
              {connector.id}
            </ToggleGroup.Item>
          ))}
        </ToggleGroup.Root>
      </div>
    </fieldset>
  );
}

function Choice(props: {
  label: string;
  value: string;
  values: [string, string][];
  onPick: (value: string) => void;
}) {
  return (
    <div>
      <span className="block text-sm text-soft">{props.label}</span>
      <ToggleGroup.Root
        type="single"
        aria-label={props.label}
        value={props.value}
        onValueChange={(value) => value && props.onPick(value)}
      >
        {props.values.map(([value, title]) => (
          <ToggleGroup.Item key={value} value={value} className={ITEM}>
            {title}
          </ToggleGroup.Item>
        ))}
      </ToggleGroup.Root>
    </div>
  );
}
