"""The simulated vehicle and the predictions are two users of one physics: they must agree within what is predicted."""

from __future__ import annotations

import numpy as np
import pytest

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.errors import UnknownReferenceError
from sondar.simulators.vehicle import SimulatedVehicle


@pytest.mark.parametrize("fault", [None, "W1.open", "B9.short", "X31.1.resistance"])
def test_readings_fall_where_they_are_predicted(ambient: Circuit, ambient_predictor: Predictor, fault: str | None) -> None:
    hypotheses = ambient_predictor.hypotheses
    found = hypotheses.index(fault)[-1] if fault else 0
    vehicle = SimulatedVehicle(ambient, [(fault, hypotheses.suspects[found].severity)] if fault else [], seed=5)
    checked = far = 0
    for controls in ambient_predictor.control_states:
        for test in ambient_predictor.setup(ambient.setup(dict(controls))).tests:
            shown = ambient_predictor.display_of(test)
            value, word = vehicle.measure(test.instrument, test.red, test.black, test.setup)
            checked += 1
            if word is not None:
                probability = shown.words[found, 0, shown.instrument.words.index(word)]
                far += probability < 0.02
            else:
                distance = abs(float(shown.instrument.working(value or 0.0)) - shown.mean[found, 0])
                far += distance > 4 * shown.sd[found, 0]
    assert checked > 40
    assert far <= 0.03 * checked


def test_a_blown_fuse_stays_blown_with_the_key_off(fan: Circuit) -> None:
    vehicle = SimulatedVehicle(fan, [("W2.to_ground", None)], seed=1)
    assert vehicle.measure("voltmeter", "F14.1", "BAT.neg", fan.rest_setup())[0] == pytest.approx(12.5, abs=0.5)
    value, word = vehicle.measure("voltmeter", "F14.2", "BAT.neg", fan.rest_setup())
    assert word == "unstable" or abs(value or 0.0) < 0.6


def test_lamp_words_and_unknown_names(fan: Circuit) -> None:
    vehicle = SimulatedVehicle(fan, [("W2.resistance", "10 Ω")], seed=1)
    idle = fan.setup({"key": "on"})
    assert vehicle.measure("lamp-21w", "F14.2", "BAT.neg", idle) == (None, "bright")
    assert vehicle.measure("lamp-21w", "X3.30", "BAT.neg", idle) == (None, "dim")
    assert SimulatedVehicle(fan, [("W2.open", None)]).measure("lamp-21w", "X3.30", "BAT.neg", idle) == (None, "off")
    with pytest.raises(UnknownReferenceError):
        vehicle.measure("voltmeter", "X3.30", "nowhere", idle)


def test_tolerances_stay_within_what_inspection_passes(fan: Circuit) -> None:
    for seed in range(5):
        values = np.array(list(SimulatedVehicle(fan, seed=seed)._deviates.values()))
        assert np.abs(values).max() <= 2.0
        assert abs(values.mean()) < 0.5


def volts(vehicle: SimulatedVehicle, temperature_c: float = 20.0) -> float | None:
    setup = vehicle.circuit.setup({"key": "on"}, frozenset(), temperature_c)
    return vehicle.measure("voltmeter", "X31.1", vehicle.circuit.black_reference, setup)[0]


def test_a_fault_bound_to_warm_parts_is_there_only_then(ambient: Circuit) -> None:
    vehicle = SimulatedVehicle(ambient, [("B9.open", None, "hot")], seed=3)
    healthy = SimulatedVehicle(ambient, seed=3)
    assert volts(vehicle) == pytest.approx(volts(healthy), abs=0.1)
    assert volts(vehicle, 60.0) == pytest.approx(5.0, abs=0.1)
    assert (volts(healthy, 60.0) or 5.0) < 4.0


def test_a_loose_contact_reacts_to_wiggling_and_reads_well_otherwise(ambient: Circuit) -> None:
    vehicle = SimulatedVehicle(ambient, [("X31.1.open", None, "wiggled")], seed=3)
    assert volts(vehicle) == pytest.approx(volts(SimulatedVehicle(ambient, seed=3)), abs=0.1)
    rest = ambient.rest_setup()
    assert vehicle.measure("wiggle-test", "X31", ambient.black_reference, rest) == (None, "reacts")
    assert vehicle.measure("wiggle-test", "X2", ambient.black_reference, rest) == (None, "steady")


def test_a_fault_that_comes_and_goes_is_there_in_some_readings(ambient: Circuit) -> None:
    vehicle = SimulatedVehicle(ambient, [("B9.open", None, "sometimes")], seed=3)
    seen = [(volts(vehicle) or 0.0) > 4.8 for _ in range(40)]
    assert 5 < sum(seen) < 35


def test_an_unknown_binding_is_refused(ambient: Circuit) -> None:
    with pytest.raises(UnknownReferenceError, match="wet on Sundays"):
        SimulatedVehicle(ambient, [("B9.open", None, "wet on Sundays")])
