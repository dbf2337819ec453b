"""Two faults at once: neither alone explains the readings, both together do."""

from __future__ import annotations

import pytest

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.pairs import READINGS_FROM, explain_together, is_odd
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.wording.conclusion import PAIR_SAID_ABOVE
from sondar.simulators.vehicle import SimulatedVehicle
from tests.conftest import assessed

POINTS = ("F14.2", "X3.30", "X3.87", "X20.1", "X3.86", "X3.85", "X1.23", "F7.2")


def readings_of(
    predictor: Predictor, faults: list[tuple[str, str | None]], seed: int, points: tuple[str, ...] = POINTS
) -> list[Reading]:
    circuit = predictor.circuit
    vehicle = SimulatedVehicle(circuit, faults, seed)
    setup = circuit.setup({"key": "on", "fan": "on"})
    found = []
    for point in points:
        value, word = vehicle.measure("voltmeter", point, "BAT.neg", setup)
        found.append(Reading(point, Test("voltmeter", point, "BAT.neg", setup), value, word, 0.005))
    return found


@pytest.mark.parametrize(("faults", "units"), [
    ([("F14.open", "open"), ("W8.resistance", "300 Ω")], {"F14", "W8"}),
    ([("F7.open", "open"), ("F14.open", "open")], {"F7", "F14"}),
    ([("W8.open", "open"), ("F14.open", "open")], {"F14", "W8"}),
], ids=["power fuse and control wire", "both fuses", "power fuse and cut wire"])  # fmt: skip
def test_two_faults_are_named_together(fan_predictor: Predictor, faults: list[tuple[str, str | None]], units: set[str]) -> None:
    readings = readings_of(fan_predictor, faults, seed=3)
    belief = update(fan_predictor, readings)
    assert is_odd(fan_predictor, belief, readings, due=True)
    together = explain_together(fan_predictor, belief, readings)
    assert together is not None
    assert set(together.pairs[0].units) == units, together.pairs
    assert together.pairs[0].probability > PAIR_SAID_ABOVE
    shares = dict(zip(belief.hypotheses.units, together.units, strict=True))
    assert max(shares[unit] for unit in units) > 0.6, "what a pair explains counts for both of its units"
    # The sentence is added once a call is due; with nothing left to measure it is.
    nothing = Situation(readings[-1].test.setup, instruments=())
    conclusion = assessed(fan_predictor, readings, nothing).conclusion
    assert "Only two faults together" in conclusion.sentence
    for unit in units:
        assert unit in conclusion.sentence


def test_one_fault_needs_no_second(fan_predictor: Predictor) -> None:
    readings = readings_of(fan_predictor, [("F14.open", "open")], seed=5)
    assert not is_odd(fan_predictor, update(fan_predictor, readings), readings, due=True)


def test_too_little_read_is_no_ground_for_two(fan_predictor: Predictor, fan: Circuit) -> None:
    readings = readings_of(fan_predictor, [("F7.open", "open"), ("F14.open", "open")], seed=3)[: READINGS_FROM - 1]
    assert not is_odd(fan_predictor, update(fan_predictor, readings), readings, due=True)
