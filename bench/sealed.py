"""Sealed cases: a hidden fault on any library circuit, a technician who does what is proposed until a call is made.

A case is drawn from the prior of its circuit. Its strength is *between* the strengths Sondar knows (a resistance is scaled by a
random factor of up to ¼ decade either way), the vehicle has its own tolerances, the meter its error, and one reading in fifty is
taken at a wrong point. Reported: was the unit right (or the class that no allowed test divides), was a good part condemned, was
*I do not know* said, and is what is stated what comes true (Brier score; expected calibration error over ten bins, at the call and
over every step on the way). On a part of the cases the same is done in the order of the file, and by information gain per minute.
Run: ``./run bench sealed`` (``--cases 1000 --compare 100 --seed 11``).
"""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Change, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Belief, Reading, update
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN
from sondar.core.diagnosis.plan import Bench, Plan, candidate_setups, evaluate, make_plan
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.tests import Test
from sondar.core.instruments import INSTRUMENTS, ORDINARY
from sondar.devices.standins.vehicle import SimulatedVehicle
from sondar.documents import library_circuits, load_circuit_text

Array = npt.NDArray[np.float64]

WRONG_POINT = 0.02
OFF_GRID_DECADES = 0.25
LIMIT = 40
TOOLS = (*ORDINARY, "scan-value", "ac-voltmeter", "frequency", "duty")


@dataclass(frozen=True)
class Case:
    """One hidden fault; ``changes`` is its own strength, off the grid."""

    circuit: str
    fault: str
    severity: str
    unit: str
    changes: tuple[Change, ...]
    seed: int


@dataclass(frozen=True)
class Outcome:
    """How a case ended.

    Attributes:
        called: units of the class that was called; empty if none was certain enough.
        certainty: stated at the end; right: the hidden unit is in the leading class.
        steps: (stated probability of the leading unit, it was the hidden one) after every reading.
    """

    called: tuple[str, ...]
    certainty: float
    right: bool
    minutes: float
    readings: int
    steps: tuple[tuple[float, bool], ...]


def off_grid(change: Change, rng: np.random.Generator) -> Change:
    """A strength between those of the grid; breaks and shorts stay what they are."""
    factor = float(10.0 ** rng.uniform(-OFF_GRID_DECADES, OFF_GRID_DECADES))
    if change.add_ohm is not None and change.add_ohm < 1e7:
        return replace(change, add_ohm=change.add_ohm * factor)
    if change.set_ohm is not None and change.set_ohm < 1e7:
        return replace(change, set_ohm=change.set_ohm * factor)
    return change


def draw(predictors: dict[str, Predictor], count: int, seed: int) -> list[Case]:
    """Cases from the prior of each circuit in turn."""
    rng = np.random.default_rng(seed)
    names = list(predictors)
    cases = []
    for index in range(count):
        name = names[index % len(names)]
        hypotheses = predictors[name].hypotheses
        prior = hypotheses.prior.copy()
        prior[[0, -1]] = 0.0
        row = int(rng.choice(len(prior), p=prior / prior.sum()))
        suspect = hypotheses.suspects[row]
        changes = tuple(off_grid(change, rng) for change in hypotheses.changes[row])
        cases.append(Case(name, suspect.fault, suspect.severity, suspect.unit, changes, int(rng.integers(1 << 30))))
    return cases


def by_plan(_predictor: Predictor, plan: Plan, _belief: Belief, _bench: Bench) -> Test | None:
    """What Sondar proposes."""
    return plan.proposals[0].test if plan.proposals else None


def by_information(predictor: Predictor, _plan: Plan, belief: Belief, bench: Bench) -> Test | None:
    """The test with the greatest information about the unit per minute."""
    best: tuple[float, Test | None] = (0.0, None)
    member = belief.hypotheses.member

    def entropy(p: Array) -> Array:
        return -np.sum(p * np.log2(np.maximum(p, 1e-15)), axis=-1)

    for setup in candidate_setups(predictor, bench):
        predictions = predictor.setup(setup)
        joint = np.einsum("tkh,hu->tku", predictions.outcome * belief.now, member)
        total = joint.sum(axis=2)
        gain = entropy(belief.units()) - np.sum(total * entropy(joint / np.maximum(total, 1e-15)[..., None]), axis=1)
        for index in np.argsort(-gain)[:6]:
            test = predictions.tests[index]
            if test in bench.done or gain[index] <= 0.0:
                continue
            proposal = evaluate(predictor, belief, bench, test)
            assert proposal is not None
            if gain[index] / proposal.minutes > best[0]:
                best = (float(gain[index] / proposal.minutes), test)
    return best[1]


class InFileOrder:
    """Everything reachable in the order of the file: every position of the controls, then each connector apart in turn."""

    def __init__(self, predictor: Predictor) -> None:
        setups = [Setup(state) for state in predictor.control_states]
        for connector in predictor.circuit.document.connectors:
            setups += [Setup(state, frozenset({connector})) for state in predictor.control_states]
        self.queue: Iterator[Test] = (
            test for setup in setups for test in predictor.finder.tests(setup) if test.instrument in predictor.instruments
        )

    def __call__(self, _predictor: Predictor, _plan: Plan, _belief: Belief, _bench: Bench) -> Test | None:
        return next(self.queue, None)


def follow(predictor: Predictor, case: Case, choose: object, limit: int = LIMIT) -> Outcome:
    """Carry a policy to its call."""
    circuit = predictor.circuit
    vehicle = SimulatedVehicle(circuit, [], case.seed, case.changes)
    slips = np.random.default_rng(case.seed + 7)
    readings: list[Reading] = []
    bench = Bench(circuit.rest_setup())
    minutes, steps = 0.0, list[tuple[float, bool]]()
    patient = choose is not by_plan
    while True:
        belief = update(predictor, readings)
        units = belief.units()
        if readings:
            leading = int(units.argmax())
            steps.append((float(units[leading]), belief.hypotheses.units[leading] == case.unit))
        if isinstance(choose, InFileOrder) and units.max() < 0.4:
            plan = Plan((), False, "", (UNKNOWN,), 0.0, 0.0)  # far from a call: the fixed order needs no plan
        else:
            plan = make_plan(predictor, belief, bench)
        done = plan.certainty >= bench.boldness if patient else plan.settled
        test = None if done or len(readings) >= limit else choose(predictor, plan, belief, bench)  # type: ignore[operator]
        if test is None:
            named = plan.leading[0] not in (NONE, UNKNOWN)
            called = plan.leading if named and plan.certainty >= bench.boldness - 1e-9 else ()
            return Outcome(called, plan.certainty, case.unit in plan.leading and named, minutes, len(readings), tuple(steps))
        proposal = evaluate(predictor, belief, bench, test)
        assert proposal is not None
        minutes += proposal.minutes
        red = test.red
        if slips.random() < WRONG_POINT and INSTRUMENTS[test.instrument].probes:
            others = [p.ref for p in circuit.points.values() if p.reachable(test.setup) and p.ref not in (test.red, test.black)]
            red = str(slips.choice(others))
        value, word = vehicle.measure(test.instrument, red, test.black, test.setup)
        if INSTRUMENTS[test.instrument].kind == "ohms" and value is not None:
            value = max(value, 0.0)
        readings.append(Reading(str(len(readings)), test, value, word))
        places = {circuit.point(ref).place for ref in (test.red, test.black)}
        bench = Bench(test.setup, bench.opened | places | (bench.setup.unplugged ^ test.setup.unplugged), done=bench.done | {test})


def calibration(pairs: list[tuple[float, bool]]) -> dict[str, object]:
    """Brier score, expected calibration error over ten bins, and the bins: stated, true, count."""
    stated = np.array([p for p, _ in pairs])
    true = np.array([float(t) for _, t in pairs])
    bins = np.minimum((stated * 10).astype(int), 9)
    table = [(round(float(stated[bins == b].mean()), 3), round(float(true[bins == b].mean()), 3), int((bins == b).sum())) for b in range(10)
             if (bins == b).any()]  # fmt: skip
    error = sum(abs(s - t) * n for s, t, n in table) / len(pairs)
    return {"brier": round(float(np.mean((stated - true) ** 2)), 4), "ece": round(float(error), 4), "bins": table}


def summary(rows: list[tuple[Case, Outcome]]) -> dict[str, object]:
    """Shares and means."""
    count = len(rows)
    called = [o for _, o in rows if o.called]
    return {
        "cases": count,
        "right unit or class": round(sum(o.right for _, o in rows) / count, 4),
        "called at 95 %": round(len(called) / count, 4),
        "good part condemned": round(sum(not o.right for o in called) / count, 4),
        "no call": round(1.0 - len(called) / count, 4),
        "mean minutes": round(float(np.mean([o.minutes for _, o in rows])), 2),
        "mean readings": round(float(np.mean([o.readings for _, o in rows])), 2),
        "mean class": round(float(np.mean([len(o.called) for o in called])), 2) if called else None,
    }


def main() -> None:
    """Run and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--cases", type=int, default=1000)
    parser.add_argument("--compare", type=int, default=100)
    parser.add_argument("--seed", type=int, default=11)
    parser.add_argument("--list", action="store_true", help="Print every case that was not called right.")
    arguments = parser.parse_args()
    predictors = {name: Predictor(Circuit(load_circuit_text(text)), instruments=TOOLS) for name, text in library_circuits().items()}
    cases = draw(predictors, arguments.cases, arguments.seed)
    cases.sort(key=lambda case: case.circuit)
    rows: list[tuple[Case, Outcome]] = []
    others: dict[str, list[tuple[Case, Outcome]]] = {"Sondar": [], "file order": [], "information gain": []}
    every = max(1, len(cases) // max(arguments.compare, 1))
    for index, case in enumerate(cases):
        predictor = predictors[case.circuit]
        rows.append((case, follow(predictor, case, by_plan)))
        if arguments.list and not (rows[-1][1].right and rows[-1][1].called):
            outcome = rows[-1][1]
            print(f"{case.circuit} {case.fault} {case.severity}: {'+'.join(outcome.called) or 'no call'} {outcome.certainty:.2f} "
                  f"{'right' if outcome.right else 'WRONG'} after {outcome.readings}", flush=True)  # fmt: skip
        if arguments.compare and index % every == 0:
            others["Sondar"].append(rows[-1])
            others["file order"].append((case, follow(predictor, case, InFileOrder(predictor), 2000)))
            others["information gain"].append((case, follow(predictor, case, by_information)))
        if index + 1 == len(cases) or cases[index + 1].circuit != case.circuit:
            predictors[case.circuit] = Predictor(
                predictor.circuit, instruments=TOOLS
            )  # its set-ups are no longer needed: give the memory back
            print(f"{case.circuit}: {len(rows)} cases so far", flush=True)
    print(json.dumps(summary(rows), indent=2))
    print("at the call", json.dumps(calibration([(o.certainty, o.right) for _, o in rows])))
    print("every step", json.dumps(calibration([step for _, o in rows for step in o.steps])))
    for name, compared in others.items():
        if compared:
            print(f"same {len(compared)} cases, {name}:", json.dumps(summary(compared)))


if __name__ == "__main__":
    main()
