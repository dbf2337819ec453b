"""Predicted values to lay over the drawing: what each point would show if one unit were at fault."""

from __future__ import annotations

from typing import Any

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.diagnosis.assess import fault_words
from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.hypotheses import NONE
from sondar.core.diagnosis.predictions import Predictor, displays_of
from sondar.core.diagnosis.tests import Test
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments import VOLTMETER
from sondar.core.quantities import format_si


def ghost_values(predictor: Predictor, belief: Belief, unit: str, setup: Setup) -> dict[str, Any]:
    """``title`` and ``values`` (point -> label) under the unit's most likely fault, or of a healthy circuit for ``none``.

    Raises:
        UnknownReferenceError: no suspect of that unit.
    """
    hypotheses, circuit = belief.hypotheses, predictor.circuit
    inside = [h for h, suspect in enumerate(hypotheses.suspects[:-1]) if suspect.unit == unit]
    if not inside:
        raise UnknownReferenceError("suspect", unit, list(hypotheses.units[:-1]))
    h = max(inside, key=lambda index: belief.now[index])
    black = circuit.black_reference
    node = circuit.node(black)
    tests = [
        Test(VOLTMETER.id, point.ref, black, setup)
        for point in circuit.points.values()
        if point.reachable(setup) and point.node != node
    ]
    shown = displays_of(circuit, setup, tests, [hypotheses.changes[h]], hypotheses.blown[h : h + 1], samples=1)[VOLTMETER.id]
    values = {}
    for column, test in enumerate(tests):
        floats = shown.words[0, column].sum() > 0.3
        values[test.red] = "floats" if floats else format_si(float(np.round(shown.nominal[0, column], 2)), "V")
    suspect = hypotheses.suspects[h]
    title = "Healthy" if unit == NONE else fault_words(circuit, suspect)
    return {"title": title, "values": values}
