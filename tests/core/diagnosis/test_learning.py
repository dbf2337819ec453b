"""What readings teach: the filter against direct sampling of the same model, and slopes against vehicles moved for real."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from benchmarks.shared import CASES, by_sampling, evidence
from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.model import CHASSIS
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.solving.parameters import TEMPERATURE, directions, parameter_names
from sondar.core.solving.solver import SetupSolver
from tests.conftest import circuit_of


@pytest.mark.parametrize("name", ["tessel-purge-valve", "tern-washer-pump"])
def test_the_filter_agrees_with_vehicles_drawn_one_by_one(name: str) -> None:
    predictor = Predictor(Circuit(load_circuit_text(library_circuits()[name])))
    controls, shown = CASES[name]
    setup = predictor.circuit.setup(controls)
    readings = [Reading(p, Test("voltmeter", p, "BAT.neg", setup), v, None, 0.005) for p, v in shown.items()]
    ours, theirs = evidence(predictor, readings), by_sampling(predictor, readings, 1500, 3)
    assert ours[0] == pytest.approx(theirs[0], abs=0.35), "about sixty of the vehicles fit the first reading"
    assert ours[1] == pytest.approx(theirs[1], abs=0.02)


@pytest.mark.parametrize("controls", [{"key": "on"}, {"key": "on", "fan": "on"}])
def test_slopes_are_those_of_vehicles_that_are_moved(fan: Circuit, controls: dict[str, str]) -> None:
    """Each parameter moved a little either way and solved exactly, under a few faults, against the adjoint network."""
    setup, step = fan.setup(controls), 0.01
    pairs = [(point.node, CHASSIS) for point in fan.points.values() if point.node != CHASSIS]
    faults = ["W8.open", "W3.resistance", "F7.resistance", "M5.short"]
    changes = [(), *(fan.faults[name].severities[len(fan.faults[name].severities) // 2].changes for name in faults)]
    solver = SetupSolver(fan, setup, pairs, 1)
    names = [name for name in parameter_names(fan, solver.branches) if name != TEMPERATURE]
    found = solver.solve(changes, along=directions(fan, setup, solver.branches, names)).slopes
    assert found is not None
    for column, name in enumerate(names):
        up, down = (SetupSolver(fan, setup, pairs, 1, {name: sign * step}).solve(changes).volts[0] for sign in (1.0, -1.0))
        spread = next((branch.spread for branch in solver.branches if branch.tolerance == name), 0.0)
        skewed = np.sinh(spread) / spread if spread else 1.0  # a wide spread is followed along its chord
        assert np.abs((up - down) / (2 * step) * skewed - found.volts[:, :, column]).max() < 2e-3, name


def test_what_a_driver_conducts_when_on_tells_nothing_of_what_it_leaks_when_off(fan: Circuit) -> None:
    on, off = (next(b for b in fan.branches(fan.setup({"key": "on", "fan": fan_on})) if b.id == "DRV") for fan_on in ("on", "off"))
    assert on.tolerance != off.tolerance
    names = parameter_names(fan, [on, off])
    assert {on.tolerance, off.tolerance} <= set(names)


def test_two_modules_with_levels_of_their_own_are_no_fault() -> None:
    """At 2.74 V the one module's level, 2.56 V on the joined bus: the other one's is lower. Each is the same figure on paper."""
    circuit = circuit_of(library_circuits()["lisk-modules-and-bus"])
    predictor = Predictor(circuit)
    apart, joined = circuit.setup({"key": "off"}, frozenset({"X5"})), circuit.setup({"key": "off"})
    readings = [
        Reading("1", Test("voltmeter", "X5.10", "BAT.neg", apart), 2.74, None, 0.005),
        Reading("2", Test("voltmeter", "X5.10", "BAT.neg", joined), 2.56, None, 0.005),
    ]
    belief = update(predictor, readings)
    hypotheses = predictor.hypotheses
    before = hypotheses.prior @ hypotheses.member
    factor = belief.units()[0] / before[0]
    assert factor > 0.3, "hardly less likely to be healthy than before"
    ground = hypotheses.units.index("X2.30")
    assert belief.units()[ground] < 0.3
    again = update(predictor, [*readings, replace(readings[1], id="3")])
    assert again.units()[0] == pytest.approx(belief.units()[0], abs=0.02), "the same reading once more adds nothing"
