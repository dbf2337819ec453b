"""The whole judgement in one call, as figures: belief, ranking, what each reading did, pairs when a diagnosis is due.

No sentence is made here (``wording``) and no view (``present``), so that every reader, the screen, the command line and a report,
is told the same from the same numbers.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from sondar.core.diagnosis.belief import Belief, Expected, ReadingError, reading_error_of, unit_log_bayes_factors, update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.hypotheses import UNKNOWN
from sondar.core.diagnosis.look_ups import LookUp, look_ups, put_off
from sondar.core.diagnosis.pairs import Pair, ranked_together
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.proposal import Ranking
from sondar.core.diagnosis.variants import AS_DRAWN, Way, Ways, considered, weigh
from sondar.core.instruments.reading import Reading

Array = npt.NDArray[np.float64]

EXPECTED_SDS = 2.5
"""A figure within this many standard deviations of the healthy prediction is within the expected range."""
WORD_EXPECTED_FROM = 0.2
TRIES = 3
"""A fault that comes and goes may be there at the second or third try of the same test."""
ERROR_SAID_ABOVE = 0.5
"""A reading that was more likely a probe or reading error than not, as all readings together have it, is told so."""


@dataclass(frozen=True, eq=False)
class Effect:
    """What one reading did.

    Attributes:
        expected: what a healthy vehicle would have shown, as far as the readings before it told.
        before, after: (U,) probability per unit.
        unlikely: nothing on the drawing explains it half as well as something that is not.
        error: how it may have been a probe or reading error; None unless that is likelier than not.
    """

    reading: Reading
    expected: Expected
    within_expected: bool
    before: Array
    after: Array
    unlikely: bool
    error: ReadingError | None


@dataclass(frozen=True, eq=False)
class Judgement:
    """Everything that follows from the readings that have not been voided.

    Attributes:
        factors: (R, U) log10 Bayes factor of each reading for each unit.
        pairs: two faults that together explain all readings, likeliest first; only looked for when a diagnosis is due.
        repaired: units that have been repaired before these readings.
        ways: how the circuit may be built, where that is not known.
        look_ups: published figures that would tell something, the most worth first.
    """

    predictor: Predictor
    readings: tuple[Reading, ...]
    situation: Situation
    belief: Belief
    ranking: Ranking
    effects: tuple[Effect, ...]
    factors: Array
    pairs: tuple[Pair, ...]
    repaired: tuple[str, ...] = ()
    ways: Ways = AS_DRAWN
    look_ups: tuple[LookUp, ...] = ()


def judge(
    predictor: Predictor,
    readings: Sequence[Reading],
    situation: Situation,
    prior: Array | None = None,
    known: Sequence[Reading] = (),
    ways: Sequence[Way] = (),
    prior_of_way: Callable[[Predictor], Array | None] = lambda _: None,
) -> Judgement:
    """Judge a circuit from its readings and rank what to do next; ``prior`` (H,) and ``known`` carry what was known before.

    Args:
        ways: other ways in which it may be built. prior_of_way: (H,) of the hypotheses of such a way.
    """
    belief = update(predictor, readings, prior, known)
    times = Counter(reading.test for reading in readings)
    often = 1 if situation.present >= 1.0 else TRIES
    situation = replace(situation, done=situation.done | frozenset(test for test, count in times.items() if count >= often))
    ranking, together = ranked_together(predictor, belief, readings, situation)
    weighed = weigh(predictor, belief, ways, readings, known, prior_of_way)
    ranking = considered(predictor, belief, ranking, situation, weighed)
    figures = look_ups(predictor, belief, situation)
    ranking = put_off(ranking, figures)
    factors = [unit_log_bayes_factors(belief, index) for index in range(len(readings))]
    return Judgement(
        predictor, tuple(readings), situation, belief, ranking,
        tuple(_effect(predictor, belief, reading, index) for index, reading in enumerate(readings)),
        np.array(factors).reshape(len(readings), len(belief.hypotheses.units)), together.pairs if together else (),
        ways=weighed, look_ups=figures,
    )  # fmt: skip


def is_within_expected(reading: Reading, expected: Expected) -> bool:
    """True if a healthy vehicle would show this, as far as the readings before it tell."""
    device = reading.device
    if reading.state is not None:
        behind = device.soft_words.get(reading.state, {reading.state: 1.0})
        chance = sum(weight * expected.words[device.words.index(word)] for word, weight in behind.items())
        return bool(chance > WORD_EXPECTED_FROM)
    assert reading.value is not None
    if expected.words.sum() > 0.8:
        return False
    distance = abs(float(device.working(reading.value)) - expected.mean)
    ends = device.working([reading.value - reading.resolution, reading.value + reading.resolution])
    return bool(distance <= EXPECTED_SDS * expected.sd + 0.5 * float(ends[1] - ends[0]))


def _effect(predictor: Predictor, belief: Belief, reading: Reading, index: int) -> Effect:
    weights = belief.log_likelihood[index]
    unlikely = bool(weights[:-1].max() < weights[-1] + np.log(0.5))
    error = reading_error_of(predictor, belief, index, reading)
    leads = belief.hypotheses.units[int(np.argmax(belief.units()))]
    told = error.probability > ERROR_SAID_ABOVE and leads != UNKNOWN
    expected = belief.expected[index]
    return Effect(
        reading, expected, is_within_expected(reading, expected), belief.units(index), belief.units(index + 1), unlikely,
        error if told else None,
    )  # fmt: skip
