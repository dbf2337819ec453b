"""Sealed cases: a hidden fault on any library circuit, a technician who does what is proposed until a call is made.

A case is drawn from the prior of its circuit. Its severity is *between* the severities Sondar knows (a resistance is scaled by a
random factor of up to ¼ decade either way), the vehicle has its own tolerances, the meter its error, and one reading in fifty is
taken at a wrong point. Reported: was the unit right (or the class that no allowed test divides), was a good part condemned, was
*I do not know* said, and is what is stated what comes true (Brier score; expected calibration error over ten bins, at the call and
over every step on the way). On a part of the cases the same is done in the order of the file, and by information gain per minute.
Run: ``./run bench sealed`` (``--cases 1000 --compare 100 --seed 11``).
"""

from __future__ import annotations

import argparse
import json
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from benchmarks.technician import Case, InFileOrder, Outcome, by_plan, calibration, draw, follow
from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.model import Change
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.proposal import Ranking
from sondar.core.diagnosis.ranking import candidate_setups, evaluate
from sondar.core.instruments import INSTRUMENTS, ORDINARY
from sondar.core.instruments.base import Test

Array = npt.NDArray[np.float64]

WRONG_POINT = 0.02
OFF_GRID_DECADES = 0.25
LIMIT = 40
TOOLS = (*ORDINARY, "live-data", "module-communication", "ac-voltmeter", "frequency", "duty")


def off_grid(change: Change, rng: np.random.Generator) -> Change:
    """A severity between those of the grid."""
    factor = float(10.0 ** rng.uniform(-OFF_GRID_DECADES, OFF_GRID_DECADES))
    if change.add_ohm is not None:
        return replace(change, add_ohm=change.add_ohm * factor)
    if change.set_ohm is not None:
        return replace(change, set_ohm=change.set_ohm * factor)
    return change


def sealed_cases(predictors: dict[str, Predictor], count: int, seed: int) -> list[Case]:
    """Cases from the priors; faults that are a grid of resistances get a severity of their own, all others stay what they are."""
    rng = np.random.default_rng(seed)
    cases = []
    for case, row in draw(predictors, count, rng):
        hypotheses = predictors[case.circuit].hypotheses
        graded = hypotheses.milder[row] != row or hypotheses.worse[row] != row
        changes = hypotheses.changes[row]
        cases.append(replace(case, changes=tuple(off_grid(change, rng) for change in changes) if graded else changes))
    return cases


def by_information(predictor: Predictor, _plan: Ranking, belief: Belief, situation: Situation) -> Test | None:
    """The test with the greatest information about the unit per minute."""
    best: tuple[float, Test | None] = (0.0, None)
    member = belief.hypotheses.member

    def entropy(p: Array) -> Array:
        return -np.sum(p * np.log2(np.maximum(p, 1e-15)), axis=-1)

    for setup in candidate_setups(predictor, situation):
        predictions = predictor.setup(setup)
        joint = (predictions.chance * belief.now) @ member
        total = joint.sum(axis=1)
        left = np.add.reduceat(total * entropy(joint / np.maximum(total, 1e-15)[:, None]), predictions.first[:-1])
        gain = entropy(belief.units()) - left
        for index in np.argsort(-gain)[:6]:
            test = predictions.tests[index]
            if test in situation.done or gain[index] <= 0.0:
                continue
            proposal = evaluate(predictor, belief, situation, test)
            assert proposal is not None
            if gain[index] / proposal.minutes > best[0]:
                best = (float(gain[index] / proposal.minutes), test)
    return best[1]


def summary(rows: list[tuple[Case, Outcome]]) -> dict[str, object]:
    """Shares and means."""
    count = len(rows)
    called = [o for _, o in rows if o.condemns]
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
    parser.add_argument("--every-tool", action="store_true", help="A workshop that has everything, known-good parts included.")
    arguments = parser.parse_args()
    tools = tuple(INSTRUMENTS) if arguments.every_tool else TOOLS
    predictors = {name: Predictor(Circuit(load_circuit_text(text)), instruments=tools) for name, text in library_circuits().items()}
    cases = sealed_cases(predictors, arguments.cases, arguments.seed)
    cases.sort(key=lambda case: case.circuit)
    rows: list[tuple[Case, Outcome]] = []
    others: dict[str, list[tuple[Case, Outcome]]] = {"Sondar": [], "file order": [], "information gain": []}
    every = max(1, len(cases) // max(arguments.compare, 1))
    for index, case in enumerate(cases):
        predictor = predictors[case.circuit]
        rows.append((case, follow(predictor, case, by_plan, LIMIT, WRONG_POINT)))
        if arguments.list and not (rows[-1][1].right and rows[-1][1].condemns):
            outcome = rows[-1][1]
            called = "+".join(outcome.called) if outcome.condemns else "no call"
            conclusion = f"{called} {outcome.certainty:.2f} {'right' if outcome.right else 'WRONG'} after {outcome.readings}"
            print(f"{case.circuit} {case.fault} {case.severity}: {conclusion}", flush=True)
        if arguments.compare and index % every == 0:
            others["Sondar"].append(rows[-1])
            others["file order"].append((case, follow(predictor, case, InFileOrder(predictor), 2000, WRONG_POINT)))
            others["information gain"].append((case, follow(predictor, case, by_information, LIMIT, WRONG_POINT)))
        if index + 1 == len(cases) or cases[index + 1].circuit != case.circuit:
            predictors[case.circuit] = Predictor(
                predictor.circuit, instruments=tools
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
