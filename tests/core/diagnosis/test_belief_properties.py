"""Laws that hold whatever is read: order, taking back, repetition, bounds."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from sondar.core.diagnosis.belief import reading_error_of, starting_prior, update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.lookahead import rank_tests
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading

POINTS = ("X31.1", "X31.2", "X12.7", "X12.8", "X2.11", "X2.12")
CHECKED = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])

readings_of = st.lists(
    st.tuples(st.sampled_from(POINTS), st.floats(-1.0, 15.0, allow_nan=False), st.sampled_from((1.0, 0.6, 0.35))),
    min_size=0,
    max_size=6,
)


def made(predictor: Predictor, drawn: list[tuple[str, float, float]]) -> list[Reading]:
    setup = predictor.circuit.setup({"key": "on"})
    return [
        Reading(str(i), Test("voltmeter", point, "BAT.neg", setup), round(value, 2), None, 0.005, present)
        for i, (point, value, present) in enumerate(drawn)
    ]


@CHECKED
@given(drawn=readings_of)
def test_belief_is_a_distribution_at_every_step(ambient_predictor: Predictor, drawn: list[tuple[str, float, float]]) -> None:
    belief = update(ambient_predictor, made(ambient_predictor, drawn))
    assert np.allclose(belief.steps.sum(axis=1), 1.0)
    assert (belief.steps >= 0).all()
    assert len(belief.steps) == len(drawn) + 1
    assert sum(belief.groups().values()) == pytest.approx(1.0)
    assert belief.units().sum() == pytest.approx(1.0)


@pytest.mark.parametrize("seed", range(6))
def test_the_order_of_ordinary_readings_does_not_matter(fan_predictor: Predictor, seed: int) -> None:
    """Readings of a healthy vehicle with its battery at 11.6 V: learning is a Kalman filter, whose end does not depend on the order."""
    setup = fan_predictor.circuit.setup({"key": "on"})
    shown = {"BAT.pos": 11.61, "F14.1": 11.6, "F7.1": 11.58, "X3.86": 11.59, "X3.30": 11.6, "G1.stud": 0.0}
    readings = [Reading(point, Test("voltmeter", point, "BAT.neg", setup), value, None, 0.005) for point, value in shown.items()]
    mixed = [readings[i] for i in np.random.default_rng(seed).permutation(len(readings))]
    assert np.abs(update(fan_predictor, readings).units() - update(fan_predictor, mixed).units()).max() < 0.02


@CHECKED
@given(drawn=readings_of, point=st.sampled_from(POINTS), value=st.floats(0.0, 12.0))
def test_the_same_reading_again_teaches_nothing(
    ambient_predictor: Predictor, drawn: list[tuple[str, float, float]], point: str, value: float
) -> None:
    others = [r for r in made(ambient_predictor, drawn) if r.test.red != point]
    one = made(ambient_predictor, [(point, value, 1.0)])[0]
    once = update(ambient_predictor, [*others, one]).now
    assert np.allclose(once, update(ambient_predictor, [*others, one, one]).now, atol=1e-9)


@CHECKED
@given(drawn=readings_of)
def test_no_reading_rules_anything_out_for_ever(ambient_predictor: Predictor, drawn: list[tuple[str, float, float]]) -> None:
    """A measuring error is always possible, so one reading moves the odds of any two suspects by a bounded factor."""
    for weights in update(ambient_predictor, made(ambient_predictor, drawn)).log_likelihood:
        assert weights.max() - weights.min() < np.log(1e6)


@CHECKED
@given(drawn=readings_of)
def test_a_slip_is_a_probability(ambient_predictor: Predictor, drawn: list[tuple[str, float, float]]) -> None:
    readings = made(ambient_predictor, drawn)
    belief = update(ambient_predictor, readings)
    for index, reading in enumerate(readings):
        assert -1e-9 <= reading_error_of(ambient_predictor, belief, index, reading).probability <= 1.0 + 1e-9


@pytest.mark.parametrize("present", [0.0, 0.35, 0.6, 1.0])
def test_an_absent_fault_is_not_cleared_by_a_healthy_reading(ambient_predictor: Predictor, present: float) -> None:
    """The less surely the fault is there while reading, the less a healthy reading says."""
    prior = ambient_predictor.hypotheses.prior[:-1]
    healthy = made(ambient_predictor, [("X2.11", 2.75, present)])
    now = update(ambient_predictor, healthy).now[:-1]
    ratio = (now / now.sum()) / (prior / prior.sum())
    spread = float(np.log(ratio.max() / ratio.min()))
    if present == 0.0:
        assert spread < 0.05
    else:
        assert spread > 0.2
        sure = update(ambient_predictor, made(ambient_predictor, [("X2.11", 2.75, 1.0)])).now[:-1]
        sure_ratio = (sure / sure.sum()) / (prior / prior.sum())
        assert spread <= float(np.log(sure_ratio.max() / sure_ratio.min())) + 1e-9


@pytest.mark.parametrize("weights", [{}, {"B9.open|open": 0.9}, {"B9.open|open": 0.2, "W2.open|open": 0.1}])
def test_a_carried_prior_is_a_distribution_and_keeps_what_it_was_told(
    ambient_predictor: Predictor, weights: dict[str, float]
) -> None:
    hypotheses = ambient_predictor.hypotheses
    prior = starting_prior(hypotheses, weights, {"W2.open": 3.0})
    assert prior.sum() == pytest.approx(1.0)
    assert (prior > 0).all()
    for name, weight in weights.items():
        fault, severity = name.split("|")
        assert prior[hypotheses.index(fault, severity)].sum() == pytest.approx(weight, abs=0.05)
    if not weights:
        assert prior[hypotheses.index("W2.open")].sum() > hypotheses.prior[hypotheses.index("W2.open")].sum()


def test_proposals_fall_and_never_promise_more_than_there_is(ambient_predictor: Predictor) -> None:
    plan = rank_tests(ambient_predictor, update(ambient_predictor, []), Situation(ambient_predictor.circuit.rest_setup()))
    saving_per_min = [p.saving_per_min for p in plan.proposals]
    assert saving_per_min == sorted(saving_per_min, reverse=True)
    for proposal in plan.proposals:
        assert 0.0 < proposal.saving_min <= plan.expected_loss
        assert sum(o.probability for o in proposal.outcomes) == pytest.approx(1.0, abs=0.06), "all but what rounds to nothing"
        assert proposal.minutes >= proposal.setup_minutes
