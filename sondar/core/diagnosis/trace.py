"""What an oscilloscope would draw at two points: the healthy trace, and that of the leading suspect.

A set-up that pulses has instants with shares of the time (``Circuit.phases``). Of several parts that pulse the one that moves the point
most gives the period; the others count by their mean. Edges are drawn square: this physics has no rise time.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from sondar.core.circuit.solver import Waves, solve_waves
from sondar.core.diagnosis.assess import fault_words
from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.tests import Test
from sondar.core.instruments import SCOPE_TOP, loaded

PERIODS = 3


def trace_of(predictor: Predictor, belief: Belief, test: Test) -> dict[str, Any]:
    """``hertz`` (0 if nothing pulses), ``healthy`` and ``suspect`` as (milliseconds, volts) corners, ``suspect_title``."""
    circuit, hypotheses = predictor.circuit, belief.hypotheses
    pair = (circuit.point(test.red).node, circuit.point(test.black).node)
    h = 1 + int(np.argmax(belief.now[1:-1]))
    rows = [0, h]
    waves = solve_waves(circuit, test.setup, [pair], [hypotheses.changes[r] for r in rows], hypotheses.blown[rows], samples=1)
    volts = np.stack([loaded(points, SCOPE_TOP.load_ohm)[0, :, 0] for points in waves.instants])  # (instants, 2)
    part, hertz = _mover(waves, volts)
    suspect = hypotheses.suspects[h]
    title = fault_words(circuit, suspect)
    return {
        "hertz": hertz, "healthy": _corners(waves, volts[:, 0], part, hertz), "suspect": _corners(waves, volts[:, 1], part, hertz),
        "suspect_title": title,
    }  # fmt: skip


def _level(waves: Waves, volts: np.ndarray[Any, Any], part: str, high: bool) -> tuple[float, float]:
    """Mean voltage while a part is in one phase, and that phase's share of the time."""
    inside = [i for i, pulses in enumerate(waves.pulses) if pulses.get(part) is high]
    share = sum(waves.shares[i] for i in inside)
    return float(sum(waves.shares[i] * volts[i] for i in inside) / share), share


def _mover(waves: Waves, volts: np.ndarray[Any, Any]) -> tuple[str, float]:
    """The pulsing part that moves the healthy point most, with its frequency; ("", 0) if none pulses."""
    swings = {
        part: abs(_level(waves, volts[:, 0], part, True)[0] - _level(waves, volts[:, 0], part, False)[0]) for part in waves.hertz
    }
    if not swings:
        return "", 0.0
    part = max(swings, key=swings.__getitem__)
    return part, float(waves.hertz[part])


def _corners(waves: Waves, volts: np.ndarray[Any, Any], part: str, hertz: float) -> list[tuple[float, float]]:
    if not hertz:
        steady = float(volts[0])
        return [(0.0, steady), (10.0, steady)]
    (top, share), (bottom, _) = _level(waves, volts, part, True), _level(waves, volts, part, False)
    period = 1e3 / hertz
    found = []
    for index in range(PERIODS):
        start = index * period
        found += [(start, top), (start + share * period, top), (start + share * period, bottom), (start + period, bottom)]
    return found
