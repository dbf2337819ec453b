"""Several ways in which the circuit may be built: each is judged for itself, and how well it foresaw the readings decides between them.

P(way | readings) ∝ share · Σ_h P(h | way) · P(readings | h, way), the evidence of a model (MacKay, *Information Theory, Inference, and
Learning Algorithms*, 2003, ch. 28). What is said of a unit counts the ways in which it may be at fault, so that a circuit that is only
built otherwise is not called a fault.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.special import logsumexp

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Array, Belief, update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.proposal import Proposal, Ranking
from sondar.core.diagnosis.ranking import candidate_setups, evaluate
from sondar.core.diagnosis.worth import allowed_tests
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.instruments.voltmeter import Voltmeter

NOT_THERE = 0.05
"""Likelihood of having measured at a point that a way does not have, as a share of a reading that can be anything."""

SAID_FROM = 0.15
"""Ways at least this likely are said."""

OFFERED_FROM = 0.8
"""A way at least this likely is offered to be taken for the drawing."""

TOLD_APART_FROM = 0.02
"""Ways below this are not told apart any more."""

SETUPS_TRIED = 6
LEAST_APART = 0.3
"""A test that tells ways apart shows them at least this far apart (Hellinger distance of what it shows, squared)."""


@dataclass(frozen=True, eq=False)
class Way:
    """Another way in which the circuit may be built; ``share``: how often it is, before anything was read."""

    id: str
    title: str
    share: float
    predictor: Predictor


@dataclass(frozen=True, eq=False)
class Standing:
    """How a way stands after the readings.

    Attributes:
        complete: it has all the points that have been measured at, so that it may be taken for the drawing.
    """

    way: Way
    probability: float
    belief: Belief
    complete: bool


@dataclass(frozen=True, eq=False)
class Ways:
    """Ways in which the circuit may be built, beside the one drawn."""

    drawn: float
    others: tuple[Standing, ...] = ()

    @property
    def likeliest(self) -> Standing | None:
        """The likeliest of the others."""
        return max(self.others, key=lambda one: one.probability, default=None)


AS_DRAWN = Ways(1.0)
"""Nothing but the circuit as it is drawn."""


def weigh(
    predictor: Predictor, belief: Belief, ways: Sequence[Way], readings: Sequence[Reading], known: Sequence[Reading] = (),
    prior: Callable[[Predictor], Array | None] = lambda _: None,
) -> Ways:  # fmt: skip
    """How the ways stand after the readings.

    Args:
        belief: about the circuit as drawn, after the same readings. prior: (H,) of a way's hypotheses; its own where it gives None.
    """
    if not ways or not readings:
        return AS_DRAWN
    logs = [np.log(max(1e-6, 1.0 - sum(way.share for way in ways))) + _evidence(belief)]
    beliefs, complete = [], []
    for way in ways:
        there = [reading for reading in readings if _has(way.predictor.circuit, reading.test)]
        found = update(way.predictor, there, prior(way.predictor), [one for one in known if _has(way.predictor.circuit, one.test)])
        missing = sum(np.log(NOT_THERE / reading.device.span) for reading in readings if reading not in there)
        logs.append(np.log(way.share) + _evidence(found) + float(missing))
        beliefs.append(found)
        complete.append(len(there) == len(readings))
    weights = np.exp(np.array(logs) - logsumexp(logs))
    return Ways(
        float(weights[0]),
        tuple(Standing(*one) for one in zip(ways, map(float, weights[1:]), beliefs, complete, strict=True)),
    )


def _evidence(belief: Belief) -> float:
    return float(logsumexp(np.log(belief.prior) + belief.log_likelihood.sum(axis=0)))


def _has(circuit: Circuit, test: Test) -> bool:
    try:
        circuit.point(test.red), circuit.point(test.black)
    except UnknownReferenceError:
        return False
    return test.setup.unplugged <= set(circuit.document.connectors)


def certainty_of(predictor: Predictor, units: Sequence[str], drawn: float, ways: Ways) -> float:
    """Probability that one of some units is at fault, over all ways; ``drawn``: as the circuit is drawn."""
    total = ways.drawn * drawn
    for one in ways.others:
        names, shares = one.belief.hypotheses.units, one.belief.units()
        same = [unit for unit in units if unit in names and _same_unit(predictor.circuit, one.way.predictor.circuit, unit)]
        total += one.probability * sum(float(shares[names.index(unit)]) for unit in same)
    return min(1.0, total)


def _same_unit(circuit: Circuit, other: Circuit, unit: str) -> bool:
    """True unless it is a wire that goes elsewhere in the other circuit."""
    one, two = circuit.document.wires.get(unit), other.document.wires.get(unit)
    return one is two or (one is not None and two is not None and {one.from_, one.to} == {two.from_, two.to})


def considered(predictor: Predictor, belief: Belief, ranking: Ranking, situation: Situation, ways: Ways) -> Ranking:
    """The ranking with all ways counted: nothing is called before it is known how the circuit is built, as far as that matters."""
    if not ways.others:
        return ranking
    certainty = certainty_of(predictor, ranking.leading, ranking.certainty, ways)
    if not ranking.settled or certainty >= situation.decision_threshold:
        return replace(ranking, certainty=certainty)
    first = telling(predictor, belief, situation, ways)
    if first is None:
        return replace(ranking, certainty=certainty, reason="no test" if ranking.reason == "certain" else ranking.reason)
    others = [proposal for proposal in ranking.proposals if proposal.test != first.test]
    return replace(ranking, certainty=certainty, settled=False, reason="ways", proposals=(first, *others), same_setup=())


def telling(predictor: Predictor, belief: Belief, situation: Situation, ways: Ways) -> Proposal | None:
    """The voltage that tells best, per minute, how the circuit is built; None if none does."""
    rivals = [one for one in ways.others if one.probability >= TOLD_APART_FROM]
    best: tuple[float, Proposal] | None = None
    for setup in candidate_setups(predictor, replace(situation, most_setups=SETUPS_TRIED)):
        predictions = predictor.setup(setup)
        allowed = allowed_tests(predictions, situation)
        for test in (test for test, may in zip(predictions.tests, allowed, strict=True) if may and test.instrument == Voltmeter.id):
            drawn = _shown(predictor, belief, test)
            apart = sum(
                one.probability * _apart(drawn, _shown(one.way.predictor, one.belief, test))
                for one in rivals
                if _has(one.way.predictor.circuit, test)
            ) / max(sum(one.probability for one in rivals), 1e-9)
            if apart < LEAST_APART:
                continue
            proposal = evaluate(predictor, belief, situation, test)
            if proposal is not None and (best is None or apart / proposal.minutes > best[0]):
                best = (apart / proposal.minutes, proposal)
    return best[1] if best else None


def _shown(predictor: Predictor, belief: Belief, test: Test) -> tuple[float, float, float]:
    """Mean, variance and chance of a word, as the likeliest fault of a way has them."""
    row = int(np.argmax(belief.now[:-1]))
    cell = int(np.argmax(belief.cells[:, row]))
    forecast = predictor.forecast(test, predictor.temperature_cells[cell][0])
    mean, variance = belief.filters[cell].expected(forecast)
    return float(mean[row]), float(variance[row]), float(forecast.words()[row].sum())


def _apart(one: tuple[float, float, float], two: tuple[float, float, float]) -> float:
    """Squared Hellinger distance of two displays: a normal figure, or a word instead."""
    total = one[1] + two[1]
    overlap = np.sqrt(2.0 * np.sqrt(one[1] * two[1]) / total) * np.exp(-((one[0] - two[0]) ** 2) / (4.0 * total))
    return 1.0 - float(np.sqrt((1.0 - one[2]) * (1.0 - two[2])) * overlap + np.sqrt(one[2] * two[2]))


def offered(ways: Ways) -> Standing | None:
    """The way that is to be taken for the drawing, as the readings have it; None while it is not clear."""
    best = ways.likeliest
    return best if best is not None and best.complete and best.probability >= OFFERED_FROM else None


def named(ways: Ways) -> list[Standing]:
    """Ways that are likely enough to be said, likeliest first."""
    return sorted((one for one in ways.others if one.probability >= SAID_FROM), key=lambda one: -one.probability)
