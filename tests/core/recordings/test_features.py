"""Levels, slopes, decays, dropouts, words, pairs of channels; and what a recording offers of them."""

from __future__ import annotations

import math

import numpy as np
import pytest

from sondar.core.recordings.behaviour import clipped, counted, is_constant, range_of
from sondar.core.recordings.dropouts import chance_seen, dropouts
from sondar.core.recordings.estimate import Estimate, effective, settled_level
from sondar.core.recordings.model import Channel, Lane, resolution_of
from sondar.core.recordings.offered import compared, features
from sondar.core.recordings.together import line, together
from sondar.core.recordings.trend import decay, slope
from sondar.core.wording.recordings import figure

RNG = np.random.default_rng(11)


def channel(y: np.ndarray, rate_hz: float = 20.0, name: str = "p", unit: str = "kPa", **more: float) -> Channel:
    return Channel(name, unit, np.arange(len(y)) / rate_hz, np.asarray(y, dtype=float), bound=more.get("bound", 0.0))


def test_an_offset_at_rest_has_the_uncertainty_of_its_samples_and_of_the_instrument() -> None:
    y = 1.9 + RNG.normal(0.0, 0.1, 400)
    free, bound = settled_level(channel(y)), settled_level(channel(y, bound=0.3))
    assert free is not None
    assert bound is not None
    assert free.value == pytest.approx(1.9, abs=0.03)
    assert free.sd == pytest.approx(0.1 / math.sqrt(400), rel=0.4)
    assert bound.sd == pytest.approx(0.3 / math.sqrt(3.0), rel=0.05)


def test_a_coarse_display_does_not_become_sure_by_reading_it_often() -> None:
    found = settled_level(channel(np.full(5000, 19.0) + (np.arange(5000) % 977 == 0)))
    assert found is not None
    assert found.sd > 0.2


def test_samples_alike_are_worth_less() -> None:
    assert effective(1000, 0.0) == 1000
    assert effective(1000, 0.9) == pytest.approx(1000 * 0.1 / 1.9)


def test_slope_and_decay_of_a_pressure_that_is_held() -> None:
    t = np.arange(0.0, 60.0, 0.1)
    leak = slope(channel(30.0 - 0.02 * t + RNG.normal(0.0, 0.01, len(t)), 10.0))
    assert leak is not None
    assert leak.low <= -0.02 <= leak.high
    assert leak.unit == "kPa/s"
    towards = decay(channel(5.0 * np.exp(-t / 12.0) + RNG.normal(0.0, 0.01, len(t)), 10.0))
    assert towards is not None
    assert towards.lag.value == pytest.approx(12.0, rel=0.03)
    assert decay(channel(30.0 - 0.02 * t + RNG.normal(0.0, 0.01, len(t)), 10.0)) is None, "a straight line is no decay"


def test_a_short_dropout_is_seen_at_50_hz_and_its_chance_is_said_at_5_hz() -> None:
    t = np.arange(0.0, 30.0, 0.02)
    y = np.where((t >= 12.0) & (t < 12.1), 0.1, 2.5) + RNG.normal(0.0, 0.005, len(t))
    fast = dropouts(channel(y, 50.0, unit="V"))
    assert fast is not None
    [spell] = fast.spells
    assert spell.start_s == pytest.approx(12.0, abs=0.021)
    assert spell.least_s <= 0.1 <= spell.most_s
    assert fast.low < fast.per_minute < fast.high
    slow = dropouts(channel(y[5::10], 5.0, unit="V"))
    assert slow is not None
    assert slow.chance_seen(0.1, 2.0) == pytest.approx(1.0 - math.exp(-2.0 / 60.0 * slow.watched_s * 0.5))
    assert chance_seen(0.1, 2.0, 30.0, 0.02) > slow.chance_seen(0.1, 2.0)


def test_a_step_is_no_dropout() -> None:
    found = dropouts(channel(np.where(np.arange(600) < 300, 1.0, 4.0) + RNG.normal(0, 0.01, 600)))
    assert found is not None
    assert found.spells == ()


def test_words() -> None:
    assert is_constant(channel(np.full(100, 19.0)))
    assert not is_constant(channel(19.0 + RNG.normal(0, 0.1, 100)))
    swing = np.clip(np.sin(np.arange(400) / 20.0) * 3.0 + 2.5, 0.0, 5.0)
    assert clipped(channel(swing)) == "both"
    assert clipped(channel(np.sin(np.arange(400) / 20.0))) == ""
    assert range_of(channel(np.array([1.0, 5.0, 2.0]))).greatest == 5.0
    assert counted(channel(np.array([250.0, 254.0, 3.0])), 256.0) == 9.0
    assert counted(channel(np.array([7.0, 9.0, 1.0]))) == 3.0


def test_resolution_is_that_of_a_converter_and_not_of_positions() -> None:
    assert resolution_of(np.round(RNG.normal(0, 1, 500), 1)) == pytest.approx(0.1)
    assert resolution_of(np.array([0.0] * 50 + [60.0] * 50)) == 0.0
    assert resolution_of(RNG.normal(0, 1, 500)) == 0.0


def test_what_is_reported_against_a_reference() -> None:
    true = np.cumsum(RNG.normal(0.0, 0.2, 600)) + 100.0
    reported, gauge = channel(1.2 * true - 15.0 + RNG.normal(0, 0.05, 600)), channel(true, name="gauge")
    found = line(reported, gauge)
    assert found is not None
    assert found.gain.low <= 1.2 <= found.gain.high
    still = line(channel(np.full(200, 19.0) + RNG.normal(0, 0.1, 200)), channel(np.zeros(200), name="gauge"))
    assert still is not None
    assert still.error.value == pytest.approx(19.0, abs=0.1)
    assert math.isinf(still.gain.sd), "a reference that stands still says nothing of the gain"


def test_two_that_move_together_with_a_lag() -> None:
    walk = np.cumsum(RNG.normal(0.0, 1.0, 1500))
    found = together(channel(walk[20:1420]), channel(walk[:1400], name="q"))
    assert found is not None
    assert found.lag_s == pytest.approx(1.0, abs=0.06)
    assert found.r > 0.95
    apart = together(channel(RNG.normal(0, 1, 1000)), channel(RNG.normal(0, 1, 1000), name="q"))
    assert apart is not None
    assert apart.high - apart.low < 0.2


def purged(stuck_open: bool) -> tuple[Channel, Lane]:
    """Tank pressure with the vent shut: purge 0, 60, 0 %."""
    t = np.arange(0.0, 60.0, 0.1)
    rate = np.where((t >= 20.0) & (t < 40.0), 0.06, 0.02 if stuck_open else 0.0)
    y = 101.3 - np.cumsum(rate) * 0.1 + RNG.normal(0.0, 0.01, len(t))
    return Channel("Tank pressure", "kPa", t, np.round(y, 2)), Lane("Purge", ((0.0, "0 %"), (20.0, "60 %"), (40.0, "0 %")), True)


@pytest.mark.parametrize("stuck_open", [True, False])
def test_a_valve_that_is_stuck_open_shows_before_the_command(stuck_open: bool) -> None:
    pressure, lane = purged(stuck_open)
    falling = [f for f in features(pressure, [lane], 0.0, 60.0) if f.kind == "slope"]
    before = [f for f in falling if f.end_s <= 20.0]
    assert bool(before) is stuck_open
    if stuck_open:
        assert before[0].estimate is not None
        assert before[0].estimate.low <= -1.2 <= before[0].estimate.high


def test_features_are_where_they_are_and_only_commands_are_asked_about() -> None:
    pressure, lane = purged(False)
    state = Lane("Loop", ((0.0, "open"), (30.0, "closed")))
    found = features(pressure, [lane, state], 0.0, 60.0)
    changes = [f for f in found if f.kind == "slope change"]
    assert [f.word for f in changes] == ["Purge 0 % → 60 %", "Purge 60 % → 0 %"]
    assert changes[0].estimate is not None
    assert changes[0].estimate.low <= -3.6 <= changes[0].estimate.high
    assert not [f for f in found if f.kind in ("gain", "no movement")], "a pressure that is drawn down is no step"
    steady_or_not = [f for f in found if f.kind in ("level", "slope")]
    assert [(f.kind, dict(f.positions)["Loop"]) for f in steady_or_not] == [
        ("level", "open"), ("slope", "open"), ("slope", "closed"), ("level", "closed"),
    ]  # fmt: skip
    assert all(0.0 <= f.start_s < f.end_s <= 60.0 for f in found)
    assert features(pressure, [lane], 70.0, 80.0) == []


def test_bank_against_bank() -> None:
    left, right = (
        channel(np.full(300, 12.0) + RNG.normal(0, 0.1, 300)),
        channel(np.full(300, 7.5) + RNG.normal(0, 0.1, 300), name="q"),
    )
    [difference] = [f for f in compared(left, right, 0.0, 15.0) if f.kind == "difference"]
    assert difference.estimate is not None
    assert difference.estimate.low <= 4.5 <= difference.estimate.high


def test_figures_have_no_more_digits_than_they_are_sure_of() -> None:
    assert figure(Estimate(12.3456, 0.02, "kPa")) == "12.346 ± 0.039 kPa"
    assert figure(Estimate(-1234.5, 30.0, "rpm")) == "−1234 ± 59 rpm"
    assert figure(Estimate(1.0, math.inf)) == "not to be told from this recording"


def test_a_command_that_follows_a_slow_movement_is_told_from_where_that_has_come_to_rest() -> None:
    t = np.arange(0.0, 14.0, 0.04)
    up, down = 1.0 - np.exp(-np.maximum(t - 3.0, 0.0) / 0.8), 1.0 - np.exp(-np.maximum(t - 8.5, 0.0) / 0.8)
    y = np.round((0.9 + 3.2 * (up - down) + RNG.normal(0.0, 0.01, len(t))) / 0.005) * 0.005
    valve = Lane("valve", ((0.0, "closed"), (3.0, "open"), (8.5, "closed")), commands=True)
    lags = [f.estimate for f in features(Channel("position", "V", t, y), [valve], 0.0, 14.0) if f.kind == "lag"]
    assert [lag.value for lag in lags if lag] == pytest.approx([0.8, 0.8], rel=0.05)


def test_a_channel_that_never_comes_to_rest_is_judged_on_all_that_is_before_the_command() -> None:
    t = np.arange(0.0, 10.0, 0.04)
    y = 20.0 + 3.0 * np.sin(2.0 * np.pi * t / 7.0) + RNG.normal(0.0, 0.02, len(t))
    pump = Lane("pump", ((0.0, "off"), (5.0, "on")), commands=True)
    assert not [f for f in features(Channel("p", "kPa", t, y), [pump], 0.0, 10.0) if f.kind == "no movement"]
