from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sondar.core.diagnosis.belief import unit_log_bayes_factors, update
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.errors import QuantityError
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading, check_reading


def reading(
    predictor: Predictor, red: str, value: float | None, state: str | None = None, device: str = "voltmeter", **where: object
) -> Reading:
    circuit = predictor.circuit
    setup = circuit.setup({"key": "on", **where.get("controls", {})}, frozenset(where.get("unplugged", ())))  # type: ignore[arg-type, dict-item]
    return Reading(f"{red}{value}{state}", Test(device, red, circuit.black_reference, setup), value, state, 0.005)


POINTS = ["X31.1", "X31.2", "X12.7", "X12.7/c", "X12.8", "X2.11", "X2.12"]
readings_lists = st.lists(
    st.tuples(st.sampled_from(POINTS), st.one_of(st.floats(-1, 15), st.just("unstable")), st.booleans()), max_size=5
)


def made(predictor: Predictor, items: list[tuple[str, float | str, bool]]) -> list[Reading]:
    return [
        reading(predictor, red, None if seen == "unstable" else float(seen), "unstable" if seen == "unstable" else None,
                unplugged=("X31",) if apart else ())
        for red, seen, apart in items
    ]  # fmt: skip


@settings(max_examples=30, deadline=None)
@given(items=readings_lists)
def test_belief_sums_to_one_whatever_is_read(ambient_predictor: Predictor, items: list[tuple[str, float | str, bool]]) -> None:
    belief = update(ambient_predictor, made(ambient_predictor, items))
    assert belief.steps.sum(axis=1) == pytest.approx(np.ones(len(items) + 1))
    assert sum(belief.groups().values()) == pytest.approx(1.0)
    assert belief.units().sum() == pytest.approx(1.0)
    assert (belief.now > 0).all(), "no hypothesis is ever ruled out for good: a reading may be wrong"


@settings(max_examples=20, deadline=None)
@given(items=readings_lists)
def test_a_repeat_that_is_taken_back_leaves_no_trace(
    ambient_predictor: Predictor, items: list[tuple[str, float | str, bool]]
) -> None:
    once = made(ambient_predictor, [*items, ("X2.30", 0.4, False)])
    twice = [*once, once[-1]]
    after_retraction = twice[:-1]
    assert update(ambient_predictor, after_retraction).now == pytest.approx(update(ambient_predictor, once).now)
    # Even standing, the same figure twice says no more than once: it is the same vehicle and the same tolerances.
    assert update(ambient_predictor, twice).now == pytest.approx(update(ambient_predictor, once).now)


def test_one_reading_agrees_with_bayes_by_hand(fan_predictor: Predictor) -> None:
    """Two hypotheses picked out, likelihoods written down from the normal density and the mixture of probe and reading errors."""
    circuit = fan_predictor.circuit
    seen = Reading("r", Test("voltmeter", "X3.86", "BAT.neg", circuit.setup({"key": "on"})), 11.95, None, 0.005)
    hypotheses, forecast = fan_predictor.hypotheses, fan_predictor.forecast(seen.test)
    elsewhere = fan_predictor.setup(seen.test.setup).displays["voltmeter"]
    corroded = hypotheses.index("F7.resistance", "10 Ω")[0]
    belief = update(fan_predictor, [seen])
    battery = np.hypot(0.95, 0.12) ** 2  # charge, and key on, in volts; the tables count it as measured to 15 %

    def likelihood(h: int) -> float:
        bound = 0.005 * 11.95 + 0.02
        slope = forecast.slope[h].copy()
        slope[forecast.parameters.index("meter: volts, gain")] = 0.006 * 11.95
        variance = slope @ slope + (0.9 * bound) ** 2 / 3 + forecast.drift[h] ** 2 + 0.005**2 / 3
        density = np.exp(-0.5 * (11.95 - forecast.mean[h]) ** 2 / variance) / np.sqrt(2 * np.pi * variance)
        # A misplaced probe: half of the time the mean over what the voltmeter shows elsewhere, 0.3 no contact (a word), 0.2 anything.
        assert elsewhere.shared is not None
        wide = elsewhere.sd[h] ** 2 + elsewhere.shared[0, h] ** 2 * battery + elsewhere.shared[1, h] ** 2 * 13.0**2 + 0.005**2 / 3
        others = np.exp(-0.5 * (11.95 - elsewhere.mean[h]) ** 2 / wide) / np.sqrt(2 * np.pi * wide)
        error = 0.5 * float(np.mean(others * (1 - elsewhere.words[h].sum(axis=1)))) + 0.2 / 17
        return float(0.98 * density * (1 - forecast.words()[h].sum()) + 0.02 * error)

    ratio = belief.now[corroded] / belief.now[0]
    by_hand = hypotheses.prior[corroded] * likelihood(corroded) / (hypotheses.prior[0] * likelihood(0))
    assert ratio == pytest.approx(by_hand, rel=1e-3)


def test_a_healthy_reading_speaks_against_what_would_change_it(ambient_predictor: Predictor) -> None:
    belief = update(ambient_predictor, [reading(ambient_predictor, "X2.11", 2.75)])
    names = belief.hypotheses.units
    factors = dict(zip(names, unit_log_bayes_factors(belief, 0), strict=True))
    assert factors["none"] > 0.3
    assert factors["W1"] < -0.1
    assert factors["B9"] < -0.1, "its drift is not much against a temperature that nobody has measured"


def test_impossible_readings_end_in_not_on_the_drawing(ambient_predictor: Predictor) -> None:
    strange = [reading(ambient_predictor, p, v) for p, v in (("X31.1", 9.0), ("X31.2", 7.0), ("X12.8", 3.0), ("X2.11", 11.0))]
    belief = update(ambient_predictor, strange)
    assert belief.groups()["unknown"] > 0.8


@pytest.mark.parametrize(
    ("device", "value", "state", "match"),
    [
        ("lamp-5w", 12.0, None, "bright or dim or off"),
        ("voltmeter", None, "OL", "unstable"),
        ("ohmmeter", -5.0, None, "0 Ω or more"),
        ("voltmeter", 1240.0, None, "between"),
        ("voltmeter", None, None, "a figure or a word"),
    ],
)
def test_a_reading_must_fit_its_instrument(
    ambient_predictor: Predictor, device: str, value: float | None, state: str | None, match: str
) -> None:
    with pytest.raises(QuantityError, match=match):
        check_reading(reading(ambient_predictor, "X31.1", value, state, device))
