"""A technician without judgement of his own, who does what a policy says on a vehicle with a hidden fault, to the call."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from sondar.core.circuit.model import Change, Setup
from sondar.core.diagnosis.belief import Belief, update
from sondar.core.diagnosis.costs import Situation, made_in, reached_by
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN
from sondar.core.diagnosis.judge import TRIES
from sondar.core.diagnosis.look_ups import LookUp, look_ups, put_off
from sondar.core.diagnosis.pairs import ranked_together
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.proposal import Ranking
from sondar.core.diagnosis.ranking import evaluate
from sondar.core.diagnosis.variants import Way, considered, offered, weigh
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments import INSTRUMENTS, sensible_tests
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.wording.conclusion import PAIR_SAID_ABOVE
from sondar.simulators.vehicle import SimulatedVehicle

LIMIT = 60

Choose = Callable[[Predictor, Ranking, Belief, Situation], Test | None]
"""A policy: the next test, or None when it has no more."""


@dataclass(frozen=True)
class Case:
    """One hidden fault on one circuit; none if ``fault`` is empty.

    Attributes:
        changes: its own severity as changes of branches, in place of that of ``severity``.
    """

    circuit: str
    fault: str
    severity: str
    unit: str
    seed: int
    changes: tuple[Change, ...] = ()


@dataclass(frozen=True)
class Outcome:
    """How a case ended.

    Attributes:
        called: units of the leading class; certainty: stated for it; right: the hidden unit is in it.
        condemns: certain enough to act on, and it names a unit. cleared: certain that there is no fault here now.
        said: units that are named: the leading class, and all of pairs that are said to explain everything together.
        wrong_pair: pairs are said, and none of them is of units that are both at fault.
        steps: (stated probability of the leading unit, it was the hidden one) after every reading.
    """

    called: tuple[str, ...]
    certainty: float
    right: bool
    condemns: bool
    minutes: float
    readings: int
    steps: tuple[tuple[float, bool], ...]
    cleared: bool = False
    said: frozenset[str] = frozenset()
    wrong_pair: bool = False


def by_plan(_predictor: Predictor, plan: Ranking, _belief: Belief, _situation: Situation) -> Test | None:
    """What Sondar proposes."""
    return plan.proposals[0].test if plan.proposals else None


class InFileOrder:
    """Everything reachable in the order of the file: every position of the controls, then each connector disconnected in turn."""

    def __init__(self, predictor: Predictor) -> None:
        setups = [Setup(state) for state in predictor.control_states]
        for connector in predictor.circuit.document.connectors:
            setups += [Setup(state, frozenset({connector})) for state in predictor.control_states]
        self.queue: Iterator[Test] = (
            test for setup in setups for test in sensible_tests(predictor.circuit, setup, predictor.instruments)
        )

    def __call__(self, _predictor: Predictor, _plan: Ranking, _belief: Belief, _situation: Situation) -> Test | None:
        return next(self.queue, None)


Published = Callable[[LookUp], tuple[Predictor, Sequence[Way]]]
"""The circuit, and the ways in which it may be built, once a figure has been looked up."""


def follow(predictor: Predictor, case: Case, choose: Choose, limit: int = LIMIT, wrong_point: float = 0.0) -> Outcome:
    """Carry a policy to its call on the vehicle of a case; see ``follow_vehicle``."""
    hidden = [(case.fault, case.severity)] if case.fault and not case.changes else []
    vehicle = SimulatedVehicle(predictor.circuit, hidden, case.seed, case.changes, [case.fault] if case.changes else [])
    return follow_vehicle(predictor, vehicle, (frozenset({case.unit}),), choose, limit, wrong_point, case.seed)


def follow_vehicle(
    predictor: Predictor, vehicle: SimulatedVehicle, hidden: Sequence[frozenset[str]], choose: Choose, limit: int = LIMIT,
    wrong_point: float = 0.0, seed: int = 0, present: float = 1.0, ways: Sequence[Way] = (),
    published: Published | None = None,
) -> Outcome:  # fmt: skip
    """Carry a policy to its call.

    Sondar's plan also ends where nothing pays any more; other policies go on until they are certain or have no more tests.

    Args:
        hidden: per fault of the vehicle the units of which any one named is right; none for a healthy one.
        wrong_point: chance that a probe is put on another reachable point.
        present: chance that the fault is there while reading, as the technician has been told.
        ways: other ways in which the circuit may be built; one is taken for the drawing when it is offered.
        published: what follows from looking a figure up, done where that is worth more than the best test; nothing is looked up without.
    """
    circuit = predictor.circuit
    true = frozenset[str]().union(*hidden)
    slips = np.random.default_rng(seed + 7)
    readings: list[Reading] = []
    situation = Situation(circuit.rest_setup(), instruments=tuple(predictor.instruments), present=present)
    times = Counter[Test]()
    minutes, steps = 0.0, list[tuple[float, bool]]()
    while True:
        belief = update(predictor, readings)
        units = belief.units()
        if readings:
            leading = int(units.argmax())
            steps.append((float(units[leading]), belief.hypotheses.units[leading] in true))
        if isinstance(choose, InFileOrder) and units.max() < 0.4:
            plan, together = (
                Ranking((), False, "pays", (UNKNOWN,), 0.0, 0.0),
                None,
            )  # far from a diagnosis: the fixed order needs no plan
        else:
            plan, together = ranked_together(predictor, belief, readings, situation)
        weighed = weigh(predictor, belief, ways, readings)
        if (other := offered(weighed)) is not None:
            predictor, circuit, ways, published = other.way.predictor, other.way.predictor.circuit, (), None
            continue
        plan = considered(predictor, belief, plan, situation, weighed)
        if published is not None and (figures := look_ups(predictor, belief, situation)):
            plan = put_off(plan, figures)
            best = plan.proposals[0].saving_per_min if plan.proposals else 0.0
            if plan.reason == "look up" or (not plan.settled and figures[0].saving_per_min > best):
                predictor, ways = published(figures[0])
                circuit = predictor.circuit
                minutes += figures[0].minutes
                continue
        done = plan.settled if choose is by_plan else plan.certainty >= situation.decision_threshold
        test = None if done or len(readings) >= limit else choose(predictor, plan, belief, situation)
        if test is None:
            named = plan.leading[0] not in (NONE, UNKNOWN)
            certain = plan.certainty >= situation.decision_threshold - 1e-9
            pairs = [pair for pair in together.pairs if pair.probability >= PAIR_SAID_ABOVE] if together else []
            beside = bool(pairs) and not any(true.issuperset(pair.units) for pair in pairs)
            said = frozenset(plan.leading).union(*(pair.units for pair in pairs))
            return Outcome(
                plan.leading, plan.certainty, bool(true & set(plan.leading)) and named, named and certain, minutes, len(readings),
                tuple(steps), plan.leading[0] == NONE and certain, said, beside,
            )  # fmt: skip
        proposal = evaluate(predictor, belief, situation, test)
        assert proposal is not None
        minutes += proposal.minutes
        red = test.red
        if slips.random() < wrong_point and INSTRUMENTS[test.instrument].probes:
            others = [p.ref for p in circuit.points.values() if p.reachable(test.setup) and p.ref not in (test.red, test.black)]
            red = str(slips.choice(others))
        try:
            value, word = vehicle.measure(test.instrument, red, test.black, test.setup)
        except UnknownReferenceError as error:  # the drawing has it, this vehicle does not
            situation = replace(situation, refused=situation.refused | {error.name})
            continue
        digits = vehicle.conditions.decimals if INSTRUMENTS[test.instrument].accuracy_of == "volts" else -1
        half = 0.5 * 10.0**-digits if digits >= 0 else getattr(vehicle, "half_width", 0.0)
        readings.append(Reading(str(len(readings)), test, value, word, half, present))
        times[test] += 1
        done = situation.done | {test} if present >= 1.0 or times[test] >= TRIES else situation.done
        opened = situation.opened | reached_by(circuit, test) | (situation.setup.unplugged ^ test.setup.unplugged)
        situation = replace(situation, setup=made_in(circuit, situation.setup, test), opened=opened, done=done)


def calibration(pairs: Sequence[tuple[float, bool]]) -> dict[str, object]:
    """Brier score, expected calibration error over ten bins with its bootstrap interval, and the bins: stated, true, count."""
    stated = np.array([p for p, _ in pairs])
    true = np.array([float(t) for _, t in pairs])
    bins = np.minimum((stated * 10).astype(int), 9)
    table = [(round(float(stated[bins == b].mean()), 3), round(float(true[bins == b].mean()), 3), int((bins == b).sum())) for b in range(10)
             if (bins == b).any()]  # fmt: skip

    def error(index: np.ndarray[tuple[int], np.dtype[np.intp]]) -> float:
        s, t, k = stated[index], true[index], bins[index]
        return float(sum(abs(s[k == b].sum() - t[k == b].sum()) for b in range(10)) / len(index))

    rng = np.random.default_rng(1)
    spread = np.percentile([error(rng.integers(0, len(pairs), len(pairs))) for _ in range(400)], [2.5, 97.5])
    return {
        "brier": round(float(np.mean((stated - true) ** 2)), 4), "ece": round(error(np.arange(len(pairs))), 4),
        "ece interval": [round(float(x), 4) for x in spread], "bins": table,
    }  # fmt: skip


def draw(predictors: dict[str, Predictor], count: int, rng: np.random.Generator) -> list[tuple[Case, int]]:
    """Cases from the prior of each circuit in turn, so that common faults are common; with the row of the hypothesis."""
    names = list(predictors)
    cases = []
    for index in range(count):
        name = names[index % len(names)]
        hypotheses = predictors[name].hypotheses
        prior = hypotheses.prior.copy()
        prior[[0, -1]] = 0.0
        row = int(rng.choice(len(prior), p=prior / prior.sum()))
        suspect = hypotheses.suspects[row]
        cases.append((Case(name, suspect.fault, suspect.severity, suspect.unit, int(rng.integers(1 << 30))), row))
    return cases
