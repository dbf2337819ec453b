import type { Circuit, Proposal, TestIn } from "../../api/client";

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

/** The test with a lead moved to a point; what looks without leads becomes a voltmeter there. */
export function withLead(
  circuit: Circuit,
  test: TestIn | null,
  lead: "red" | "black",
  ref: string,
  fresh: boolean,
): TestIn {
  const leads = circuit.instruments.find((item) => item.id === test?.instrument)?.leads;
  const base =
    test && leads
      ? test
      : {
          instrument: "voltmeter",
          red: ref,
          black: circuit.black_reference,
          setup: test?.setup ?? { controls: {}, unplugged: [] },
        };
  if (lead === "black" && ref !== base.red) return { ...base, black: ref };
  // A first tap starts a test of one's own: the black lead goes back to its usual place.
  const keepBlack = !fresh && base.black !== ref;
  return { ...base, red: ref, black: keepBlack ? base.black : circuit.black_reference };
}

/** The test with a connector parted or mated. */
export function withConnector(test: TestIn, connector: string): TestIn {
  const apart = test.setup.unplugged ?? [];
  const unplugged = apart.includes(connector)
    ? apart.filter((item) => item !== connector)
    : [...apart, connector];
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
