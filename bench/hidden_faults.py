"""Hidden faults on the library circuits: Sondar's order against measuring everything in the order of the file.

A technician without judgement follows each policy to its call. Minutes count set-up changes and access alike for both.
Run: ``./run bench hidden-faults`` (``--cases 20 --seed 7``).
"""

from __future__ import annotations

import argparse
import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Belief, Reading, update
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN
from sondar.core.diagnosis.plan import Bench, Plan, evaluate, make_plan
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.tests import Test
from sondar.devices.standins.vehicle import SimulatedVehicle
from sondar.documents import load_circuit_text

CIRCUITS = Path(__file__).parent.parent / "sondar" / "library" / "circuits"
LIMIT = 60


@dataclass(frozen=True)
class Case:
    """One hidden fault on one circuit."""

    circuit: str
    fault: str
    severity: str
    unit: str
    seed: int


@dataclass(frozen=True)
class Outcome:
    """How one policy ended: the class called, whether it holds the hidden unit, minutes and readings used."""

    called: tuple[str, ...]
    certainty: float
    right: bool
    minutes: float
    readings: int


def load(name: str) -> Predictor:
    """A library circuit, ready to predict."""
    return Predictor(Circuit(load_circuit_text((CIRCUITS / f"{name}.yaml").read_text())))


def draw_cases(predictors: dict[str, Predictor], count: int, seed: int) -> list[Case]:
    """Cases drawn from the prior of each circuit in turn, so that common faults are common."""
    rng = np.random.default_rng(seed)
    cases = []
    for index in range(count):
        name = list(predictors)[index % len(predictors)]
        hypotheses = predictors[name].hypotheses
        prior = hypotheses.prior.copy()
        prior[[0, -1]] = 0.0
        suspect = hypotheses.suspects[int(rng.choice(len(prior), p=prior / prior.sum()))]
        cases.append(Case(name, suspect.fault, suspect.severity, suspect.unit, int(rng.integers(1 << 30))))
    return cases


def follow_plan(predictor: Predictor, case: Case) -> Outcome:
    """Do what Sondar proposes until it makes a call."""

    def propose(plan: Plan, _belief: Belief, _bench: Bench) -> Test | None:
        return plan.proposals[0].test

    return _run(predictor, case, propose)


def in_file_order(predictor: Predictor, case: Case) -> Outcome:
    """Measure everything reachable in the order of the file, stopping when Sondar's belief is certain.

    The order: every position of the controls, all plugged in, then each connector apart in turn; within each, the tests as
    the circuit file lists their points.
    """
    setups = [Setup(state) for state in predictor.control_states]
    for connector in predictor.circuit.document.connectors:
        setups += [Setup(state, frozenset({connector})) for state in predictor.control_states]
    queue: Iterator[Test] = (
        test for setup in setups for test in predictor.finder.tests(setup) if test.instrument in predictor.instruments
    )

    def next_in_file(_plan: Plan, _belief: Belief, _bench: Bench) -> Test | None:
        return next(queue, None)

    return _run(predictor, case, next_in_file, limit=2000, stop_when_not_paying=False)


def _run(
    predictor: Predictor, case: Case, choose: Callable[[Plan, Belief, Bench], Test | None], limit: int = LIMIT,
    stop_when_not_paying: bool = True,
) -> Outcome:  # fmt: skip
    circuit = predictor.circuit
    vehicle = SimulatedVehicle(circuit, [(case.fault, case.severity)] if case.fault else [], case.seed)
    readings: list[Reading] = []
    bench = Bench(circuit.rest_setup())
    minutes = 0.0
    while True:
        belief = update(predictor, readings)
        if not stop_when_not_paying and belief.units().max() < 0.4:
            plan = Plan((), False, "", (UNKNOWN,), 0.0, 0.0)  # far from a call: the fixed order needs no plan
        else:
            plan = make_plan(predictor, belief, bench)
        done = plan.settled if stop_when_not_paying else plan.certainty >= bench.boldness
        test = None if done or len(readings) >= limit else choose(plan, belief, bench)
        if test is None:
            right = case.unit in plan.leading and plan.leading[0] not in (NONE, UNKNOWN)
            return Outcome(plan.leading, plan.certainty, right, minutes, len(readings))
        proposal = evaluate(predictor, belief, bench, test)
        assert proposal is not None
        minutes += proposal.minutes
        value, word = vehicle.measure(test.instrument, test.red, test.black, test.setup)
        readings.append(Reading(str(len(readings)), test, value, word))
        places = {circuit.point(ref).place for ref in (test.red, test.black)}
        opened = bench.opened | places | (bench.setup.unplugged ^ test.setup.unplugged)
        bench = Bench(test.setup, opened, done=bench.done | {test})


def main() -> None:
    """Run the cases and print a table, or JSON."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--cases", type=int, default=20)
    parser.add_argument("--seed", type=int, default=7)
    parser.add_argument("--json", action="store_true")
    parser.add_argument("--no-baseline", action="store_true")
    arguments = parser.parse_args()
    predictors = {name: load(name) for name in ("radiator-fan-relay", "ambient-temperature")}
    rows = []
    for case in draw_cases(predictors, arguments.cases, arguments.seed):
        ours = follow_plan(predictors[case.circuit], case)
        fixed = None if arguments.no_baseline else in_file_order(predictors[case.circuit], case)
        rows.append((case, ours, fixed))
        if not arguments.json:
            baseline = "" if fixed is None else f"  file order {fixed.minutes:6.1f} min {'right' if fixed.right else 'WRONG'}"
            print(f"{case.circuit[:8]} {case.fault:24}{case.severity:12} {'right' if ours.right else 'WRONG'} {ours.certainty:4.0%} "
                  f"{ours.readings:3d} readings {ours.minutes:5.1f} min {'+'.join(ours.called)}{baseline}", flush=True)  # fmt: skip
    summary = {
        "cases": len(rows),
        "right": sum(o.right for _, o, _ in rows),
        "mean_minutes": float(np.mean([o.minutes for _, o, _ in rows])),
        "mean_class_size": float(np.mean([len(o.called) for _, o, _ in rows])),
    }
    baseline_rows = [f for _, _, f in rows if f is not None]
    if baseline_rows:
        summary["file_order_right"] = sum(f.right for f in baseline_rows)
        summary["file_order_mean_minutes"] = float(np.mean([f.minutes for f in baseline_rows]))
        summary["ratio"] = summary["mean_minutes"] / summary["file_order_mean_minutes"]
    print(json.dumps(summary, indent=None if arguments.json else 2))


if __name__ == "__main__":
    main()
