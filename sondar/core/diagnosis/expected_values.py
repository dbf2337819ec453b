"""Predicted voltages to lay over the drawing: what each point would show if one unit were at fault."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.hypotheses import Suspect
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments import displays
from sondar.core.instruments.base import Population, Test
from sondar.core.instruments.voltmeter import Voltmeter

FLOATS_ABOVE = 0.3


@dataclass(frozen=True)
class ExpectedValues:
    """Voltage of every reachable point against the black reference; None where it floats. ``suspect`` is whose prediction it is."""

    suspect: Suspect
    volts: dict[str, float | None]


def expected_values(predictor: Predictor, belief: Belief, unit: str, setup: Setup) -> ExpectedValues:
    """Predictions under the unit's most likely fault, or of a healthy circuit for ``none``.

    Raises:
        UnknownReferenceError: no suspect of that unit.
    """
    hypotheses, circuit = belief.hypotheses, predictor.circuit
    inside = [h for h, suspect in enumerate(hypotheses.suspects[:-1]) if suspect.unit == unit]
    if not inside:
        raise UnknownReferenceError("suspect", unit, list(hypotheses.units[:-1]))
    h = max(inside, key=lambda index: belief.now[index])
    black = circuit.black_reference
    tests = [
        Test(Voltmeter.id, point.ref, black, setup)
        for point in circuit.points.values()
        if point.reachable(setup) and point.node != circuit.node(black)
    ]
    population = Population(circuit, setup, [hypotheses.changes[h]], hypotheses.blown[h : h + 1], samples=1)
    shown = displays(population, tests)[Voltmeter.id]
    volts = {
        test.red: None if shown.words[0, column].sum() > FLOATS_ABOVE else float(np.round(shown.nominal[0, column], 2))
        for column, test in enumerate(tests)
    }
    return ExpectedValues(hypotheses.suspects[h], volts)
