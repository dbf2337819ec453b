import type { Circuit, Proposal, TestIn } from "../../../api/client";

/** A proposed test as the API takes it. */
export function asTest(proposal: Proposal): TestIn {
  const { instrument, red, black, setup } = proposal.test;
  return { instrument, red, black, setup: { controls: setup.controls, unplugged: setup.unplugged } };
}

/** One word for a test, to know it again in a list. */
export function testKey(test: TestIn): string {
  const controls = Object.entries(test.setup.controls ?? {}).sort();
  return JSON.stringify([
    test.instrument,
    test.red,
    test.black,
    controls,
    [...(test.setup.unplugged ?? [])].sort(),
  ]);
}

/** The test with a probe moved to a point; what measures without probes becomes a voltmeter there. */
export function withProbe(
  circuit: Circuit,
  test: TestIn | null,
  probe: "red" | "black",
  ref: string,
  fresh: boolean,
): TestIn {
  const probes = circuit.instruments.find((item) => item.id === test?.instrument)?.probes;
  const base =
    test && probes
      ? test
      : {
          instrument: "voltmeter",
          red: ref,
          black: circuit.black_reference,
          setup: test?.setup ?? { controls: {}, unplugged: [] },
        };
  if (probe === "black" && ref !== base.red) return { ...base, black: ref };
  const keepBlack = !fresh && base.black !== ref;
  return { ...base, red: ref, black: keepBlack ? base.black : circuit.black_reference };
}

/** The test with a connector disconnected or connected. */
export function withConnector(test: TestIn, connector: string): TestIn {
  const disconnected = test.setup.unplugged ?? [];
  const unplugged = disconnected.includes(connector)
    ? disconnected.filter((item) => item !== connector)
    : [...disconnected, connector];
  return { ...test, setup: { ...test.setup, unplugged } };
}

/** The test with a control at its next position. */
export function withNextPosition(circuit: Circuit, test: TestIn, control: string): TestIn {
  const values = circuit.controls.find((item) => item.id === control)?.values ?? [];
  const controls = test.setup.controls ?? {};
  const now = values.indexOf(controls[control] ?? values[0] ?? "");
  const next = values[(now + 1) % Math.max(1, values.length)] ?? "";
  return { ...test, setup: { ...test.setup, controls: { ...controls, [control]: next } } };
}
