"""What an oscilloscope would draw at two points: the healthy trace, and that of the leading suspect.

A set-up that pulses has switching states with shares of the time (``Circuit.phases``). Of several parts that pulse the one that moves
the point most gives the period; the others count by their mean. Edges are drawn square: this physics has no rise time.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.hypotheses import Suspect
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.base import Test
from sondar.core.instruments.voltmeter import shown_volts
from sondar.core.solving.operating_points import Waves
from sondar.core.solving.solver import solve_waves

PERIODS = 3
Corners = list[tuple[float, float]]


@dataclass(frozen=True)
class Waveform:
    """Corners as (milliseconds, volts); ``frequency_hz`` is 0 if nothing pulses."""

    frequency_hz: float
    healthy: Corners
    suspect: Corners
    suspected: Suspect


def waveform_of(predictor: Predictor, belief: Belief, test: Test) -> Waveform:
    """The trace at a test's points, healthy and for the leading suspect."""
    circuit, hypotheses = predictor.circuit, belief.hypotheses
    pair = (circuit.point(test.red).node, circuit.point(test.black).node)
    h = 1 + int(np.argmax(belief.now[1:-1]))
    rows = [0, h]
    waves = solve_waves(circuit, test.setup, [pair], [hypotheses.changes[r] for r in rows], hypotheses.blown[rows], samples=1)
    volts = np.stack([seen[0, :, 0] for seen in shown_volts(waves)])  # (n_states, 2)
    part, frequency_hz = _mover(waves, volts)
    healthy, suspect = (_corners(waves, volts[:, column], part, frequency_hz) for column in (0, 1))
    return Waveform(frequency_hz, healthy, suspect, hypotheses.suspects[h])


def _level(waves: Waves, volts: np.ndarray[Any, Any], part: str, high: bool) -> tuple[float, float]:
    """Mean voltage while a part is in one phase, and that phase's share of the time."""
    inside = [i for i, pulses in enumerate(waves.pulses) if pulses.get(part) is high]
    share = sum(waves.shares[i] for i in inside)
    return float(sum(waves.shares[i] * volts[i] for i in inside) / share), share


def _mover(waves: Waves, volts: np.ndarray[Any, Any]) -> tuple[str, float]:
    """The pulsing part that moves the healthy point most, with its frequency; ("", 0) if none pulses."""
    swings = {
        part: abs(_level(waves, volts[:, 0], part, True)[0] - _level(waves, volts[:, 0], part, False)[0])
        for part in waves.frequency_hz
    }
    if not swings:
        return "", 0.0
    part = max(swings, key=swings.__getitem__)
    return part, float(waves.frequency_hz[part])


def _corners(waves: Waves, volts: np.ndarray[Any, Any], part: str, frequency_hz: float) -> list[tuple[float, float]]:
    if not frequency_hz:
        steady = float(volts[0])
        return [(0.0, steady), (10.0, steady)]
    (top, share), (bottom, _) = _level(waves, volts, part, True), _level(waves, volts, part, False)
    period = 1e3 / frequency_hz
    found = []
    for index in range(PERIODS):
        start = index * period
        found += [(start, top), (start + share * period, top), (start + share * period, bottom), (start + period, bottom)]
    return found
