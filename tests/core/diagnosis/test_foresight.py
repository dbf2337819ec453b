"""What is worked out for a likely result is what stands when that result is read."""

from __future__ import annotations

from itertools import pairwise

import pytest

from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.foresight import likely_results
from sondar.core.diagnosis.judge import judge
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.reading import Reading


@pytest.fixture
def situation(ambient_predictor: Predictor) -> Situation:
    return Situation(ambient_predictor.circuit.rest_setup(20.0))


def test_results_are_the_likeliest_and_apart(ambient_predictor: Predictor, situation: Situation) -> None:
    now = judge(ambient_predictor, [], situation)
    results = likely_results(now.belief, now.ranking.proposals[0])
    chances = [result.outcome.probability for result in results]
    assert 2 <= len(results) <= 3
    assert chances == sorted(chances, reverse=True)
    figures = sorted((r.low, r.high) for r in results if r.low is not None and r.high is not None)
    assert all(high <= following for (_, high), (following, _) in pairwise(figures)), figures


def test_a_typical_figure_lies_in_its_own_range(ambient_predictor: Predictor, situation: Situation) -> None:
    now = judge(ambient_predictor, [], situation)
    for proposal in now.ranking.proposals:
        for result in likely_results(now.belief, proposal):
            if result.reading.value is None:
                assert result.reading.state in result.reading.device.words
            else:
                assert result.low is not None
                assert result.high is not None
                assert result.low <= result.reading.value <= result.high


def test_what_follows_a_result_follows_any_reading_of_it(ambient_predictor: Predictor, situation: Situation) -> None:
    """The middle and both quarters of a result's range lead to the same unit as its typical figure."""
    now = judge(ambient_predictor, [], situation)
    for result in likely_results(now.belief, now.ranking.proposals[0]):
        if result.low is None or result.high is None or result.reading.value is None:
            continue
        leading = judge(ambient_predictor, [result.reading], situation).ranking.leading
        for share in (0.25, 0.5, 0.75):
            value = result.low + share * (result.high - result.low)
            reading = Reading("read", result.reading.test, value, None, 0.005)
            assert judge(ambient_predictor, [reading], situation).ranking.leading[0] == leading[0], value
