"""Tests that show no fault and teach what others are judged by: a thermometer, the leads held together."""

from __future__ import annotations

from dataclasses import replace

import pytest

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.judge import judge
from sondar.core.diagnosis.lookahead import rank_tests
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.errors import QuantityError
from sondar.core.instruments import ORDINARY, instrument
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.wording.learned import learned_notes
from sondar.simulators.vehicle import Conditions, SimulatedVehicle


@pytest.fixture(scope="module")
def warm(ambient: Circuit) -> Predictor:
    return Predictor(ambient, instruments=(*ORDINARY, "thermometer"))


def sensor(circuit: Circuit) -> Test:
    return Test("ohmmeter", "X31.1/c", "X31.2/c", Setup(circuit.rest_setup().controls, frozenset({"X31"})))


def share(predictor: Predictor, readings: list[Reading], unit: str) -> float:
    belief = update(predictor, readings)
    return float(belief.units()[belief.hypotheses.units.index(unit)])


def test_a_thermometer_tells_a_warm_sensor_from_a_wrong_one(warm: Predictor) -> None:
    """1150 Ω is right at 40 °C and wrong at 20 °C."""
    circuit = warm.circuit
    ohms = Reading("1", sensor(circuit), 1150.0, None, 0.5)
    alone = share(warm, [ohms], "B9")
    rest = circuit.rest_setup()
    hot = Reading("2", Test("thermometer", "B9", "BAT.neg", rest), 40.0, None, 0.05)
    cool = replace(hot, value=20.0)
    assert share(warm, [ohms, hot], "B9") < 0.5 * alone
    assert share(warm, [ohms, cool], "B9") > 2.0 * alone


def test_it_is_proposed_where_it_pays_and_not_before(warm: Predictor) -> None:
    circuit = warm.circuit
    situation = Situation(circuit.rest_setup(), instruments=(*ORDINARY, "thermometer"))
    first = rank_tests(warm, update(warm, []), situation, alternatives=40)
    assert first.proposals[0].test.instrument != "thermometer"
    ohms = Reading("1", sensor(circuit), 1150.0, None, 0.5)
    after = rank_tests(warm, update(warm, [ohms]), replace(situation, done=frozenset({ohms.test})), alternatives=60)
    worth = {p.test.instrument: p.saving_min for p in after.proposals}
    assert worth["thermometer"] > 1.0


def test_a_simulated_vehicle_has_the_temperature_of_its_parts(ambient: Circuit) -> None:
    vehicle = SimulatedVehicle(ambient, [], 3, conditions=Conditions(temperature_c=-7.0))
    value, word = vehicle.measure("thermometer", "B9", "BAT.neg", ambient.rest_setup())
    assert word is None
    assert value == pytest.approx(-7.0, abs=1.6)
    with pytest.raises(QuantityError, match="−60"):
        instrument("thermometer").understand("4000")


def test_leads_held_together_are_taken_off_small_resistances(fan_predictor: Predictor) -> None:
    """0.6 Ω across a wire is much for a wire, and nothing with leads of 0.5 Ω."""
    circuit = fan_predictor.circuit
    apart = Setup(circuit.rest_setup().controls, frozenset({"X20"}))
    wire = Reading("2", Test("ohmmeter", "X20.2", "BAT.neg", apart), 0.6, None, 0.005)
    leads = Reading("1", Test("leads-together", circuit.battery, circuit.black_reference, circuit.rest_setup()), 0.5, None, 0.005)
    alone, with_leads = update(fan_predictor, [wire]), update(fan_predictor, [leads, wire])
    assert with_leads.units()[0] > alone.units()[0]
    assert with_leads.expected[1].mean > alone.expected[0].mean + 0.1
    situation = Situation(circuit.rest_setup(), instruments=ORDINARY)
    assert any("leads have about 0.5 Ω" in note for note in learned_notes(judge(fan_predictor, [leads], situation)))
    assert not learned_notes(judge(fan_predictor, [], situation))
