import type { Circuit, Measuring, Proposal, TestIn } from "../../../api/client";
import { asTest, testKey, withConnector, withNextPosition, withProbe } from "./tests";

export type Reading = Measuring["readings"][number];
export type Probe = "red" | "black";

/** The test in preparation: which proposal is chosen, or which test of one's own, and what the entry will correct. */
export interface Draft {
  /** Which of the proposals, counted without those put off. */
  chosen: number;
  /** Keys of proposals put off for later. */
  later: string[];
  /** A test of one's own; null while a proposal is followed. */
  own: TestIn | null;
  /** The reading that the next entry will replace. */
  correcting: Reading | null;
  /** Which probe a tap on the drawing places. */
  nextProbe: Probe;
}

export type DraftChange =
  | { do: "own"; test: TestIn }
  | { do: "correct"; reading: Reading }
  | { do: "place"; ref: string; circuit: Circuit; test: TestIn | null; proposed: Proposal | undefined }
  | { do: "connector"; connector: string; test: TestIn }
  | { do: "control"; control: string; circuit: Circuit; test: TestIn }
  | { do: "probe" }
  | { do: "step"; by: number; of: number }
  | { do: "choose"; index: number }
  | { do: "later"; proposal: Proposal | undefined }
  | { do: "bring back" }
  | { do: "best first" }
  | { do: "cancel" }
  | { do: "recorded" };

export const EMPTY: Draft = { chosen: 0, later: [], own: null, correcting: null, nextProbe: "red" };

/** The draft after a change; every way to change a test goes through here. */
export function changed(draft: Draft, change: DraftChange): Draft {
  switch (change.do) {
    case "own":
      return { ...draft, own: change.test };
    case "correct":
      return { ...draft, own: testOf(change.reading), correcting: change.reading };
    case "place": {
      const { circuit, test, proposed, ref } = change;
      // A first tap starts a test of one's own: black goes back to its usual place.
      const fresh =
        !draft.own || (proposed?.test.red === draft.own.red && proposed.test.black === draft.own.black);
      const own = withProbe(circuit, test, draft.nextProbe, ref, fresh);
      const toRed = draft.nextProbe === "black" && ref !== test?.red;
      return { ...draft, own, nextProbe: toRed ? "red" : draft.nextProbe };
    }
    case "connector":
      return { ...draft, own: withConnector(change.test, change.connector) };
    case "control":
      return { ...draft, own: withNextPosition(change.circuit, change.test, change.control) };
    case "probe":
      return { ...draft, nextProbe: draft.nextProbe === "red" ? "black" : "red" };
    case "step":
      return {
        ...draft,
        own: null,
        chosen: (draft.chosen + change.by + change.of) % Math.max(1, change.of),
      };
    case "choose":
      return { ...draft, chosen: change.index };
    case "later": {
      const key = change.proposal && testKey(asTest(change.proposal));
      return { ...draft, own: null, chosen: 0, later: key ? [...draft.later, key] : draft.later };
    }
    case "bring back":
      return { ...draft, later: [] };
    case "best first":
      return { ...draft, chosen: 0 };
    case "cancel":
      return { ...draft, own: null, correcting: null };
    case "recorded":
      return { ...draft, own: null, correcting: null, chosen: 0 };
  }
}

/** The proposals but those put off; all of them when every one was. */
export function remaining(proposals: Proposal[], later: string[]): Proposal[] {
  const kept = proposals.filter((proposal) => !later.includes(testKey(asTest(proposal))));
  return kept.length ? kept : proposals;
}

/** The test that a reading was taken for. */
export function testOf(reading: Reading): TestIn {
  return {
    instrument: reading.instrument,
    red: reading.red,
    black: reading.black,
    setup: { controls: reading.controls, unplugged: reading.unplugged },
  };
}
