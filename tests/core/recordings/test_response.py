"""Responses to a command: parts that follow, stick, run at limited speed, or do not move at all."""

from __future__ import annotations

import math

import numpy as np
import pytest

from sondar.core.recordings.model import Channel
from sondar.core.recordings.response import Response, response

Rng = np.random.Generator
AT_S = 2.0


def seen(y: np.ndarray, t: np.ndarray, noise: float = 0.02, step: float = 0.0, seed: int = 1) -> Response:
    noisy = y + np.random.default_rng(seed).normal(0.0, noise, len(t))
    found = response(Channel("p", "kPa", t, np.round(noisy / step) * step if step else noisy), AT_S, 0.0, float(t[-1]))
    assert found is not None
    return found


def clock(rate_hz: float = 50.0, end_s: float = 10.0) -> np.ndarray:
    return np.arange(0.0, end_s, 1.0 / rate_hz)


def test_first_order_is_found_with_its_dead_time() -> None:
    t = clock()
    x = np.maximum(t - AT_S - 0.3, 0.0)
    found = seen(100.0 - 4.0 * (1.0 - np.exp(-x / 0.8)), t)
    assert found.moved
    assert found.settled
    for estimate, true in ((found.gain, -4.0), (found.dead, 0.3), (found.lag, 0.8), (found.reached, 0.3 + 0.8 * math.log(10))):
        assert estimate.low - 0.5 * estimate.sd <= true <= estimate.high + 0.5 * estimate.sd
        assert estimate.sd < 0.1


def test_limited_speed_is_told_from_a_lag() -> None:
    t = clock()
    found = seen(50.0 * np.clip((t - AT_S - 0.2) / 3.0, 0.0, 1.0), t, noise=0.1)
    assert found.shape.startswith("at limited speed")
    assert found.lag.value == pytest.approx(0.632 * 3.0, abs=0.1)


def test_a_part_that_sticks_begins_late_and_jumps() -> None:
    t = clock(100.0)
    x = t - AT_S - 0.75
    found = seen(np.where(x >= 0, 2.0 + 3.0 * (1.0 - np.exp(-np.maximum(x, 0.0) / 0.5)), 0.0), t)
    assert found.shape == "sticks, then gives way"
    assert found.dead.value == pytest.approx(0.75, abs=0.03)


def test_overshoot_is_said() -> None:
    t = clock()
    x = np.maximum(t - AT_S, 0.0)
    zeta, omega = 0.3, 4.0
    root = math.sqrt(1 - zeta**2)
    y = 1.0 - np.exp(-zeta * omega * x) * (np.cos(root * omega * x) + zeta / root * np.sin(root * omega * x))
    found = seen(10.0 * y, t, noise=0.05)
    assert found.overshoot.value == pytest.approx(math.exp(-math.pi * zeta / root), abs=0.05)


@pytest.mark.parametrize(("noise", "step"), [(0.05, 0.0), (0.02, 0.1), (0.0, 0.0)])
def test_what_does_not_move_is_said_not_to_move(noise: float, step: float) -> None:
    moved = [seen(np.full(500, 20.0), clock(), noise, step, seed).moved for seed in range(6)]
    assert not any(moved)


def test_a_channel_on_its_way_is_not_called_settled() -> None:
    t = clock(20.0, 8.0)
    found = seen(30.0 * (1.0 - np.exp(-np.maximum(t - AT_S, 0.0) / 6.0)), t, noise=0.05)
    assert not found.settled
    assert found.gain.sd > 0.1, "how far it will go is not well known yet"


def test_samples_that_resemble_their_neighbours_say_less() -> None:
    t, rng = clock(), np.random.default_rng(3)
    clean = 5.0 * (1.0 - np.exp(-np.maximum(t - AT_S, 0.0) / 0.5))
    slow = np.zeros(len(t))
    for i in range(1, len(t)):
        slow[i] = 0.9 * slow[i - 1] + math.sqrt(1 - 0.81) * rng.normal(0, 0.1)
    white, red = seen(clean + rng.normal(0, 0.1, len(t)), t, 0.0), seen(clean + slow, t, 0.0)
    assert red.gain.sd > 1.5 * white.gain.sd


def test_too_few_samples_give_no_response() -> None:
    t = np.array([0.0, 1.0, 2.5, 3.0])
    assert response(Channel("p", "kPa", t, t), AT_S, 0.0, 3.0) is None
