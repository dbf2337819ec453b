"""Findings and the powered probe: where they may be used, what they show under each fault, what they move."""

from __future__ import annotations

import pytest

from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.judge import judge
from sondar.core.diagnosis.lookahead import rank_tests
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.ranking import candidate_setups, evaluate
from sondar.core.instruments import INSTRUMENTS, ORDINARY, looking_at, sensible_tests
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.wording.conclusion import actions, is_by_substitution
from sondar.simulators.vehicle import SimulatedVehicle
from tests.conftest import FAN_TEXT, circuit_of

PROBE = frozenset({"applied-ground", "applied-supply"})


def driven(circuit: Circuit, setup: Setup) -> list[Test]:
    return sensible_tests(circuit, setup, PROBE)


@pytest.fixture(scope="module")
def everything(fan: Circuit) -> Predictor:
    return Predictor(fan, instruments=tuple(INSTRUMENTS))


def shown(predictor: Predictor, test: Test, fault: str | None = None) -> dict[str, float]:
    display = predictor.display_of(test)
    row = 0 if fault is None else predictor.hypotheses.index(fault)[0]
    return dict(zip(display.instrument.words, display.words[row, 0].tolist(), strict=True))


def key_off(circuit: Circuit, *unplugged: str) -> Setup:
    return circuit.setup({}, frozenset(unplugged))


def test_ground_on_the_control_pin_stands_in_for_the_driver(everything: Predictor) -> None:
    circuit = everything.circuit
    test = Test("applied-ground", "X1.23", circuit.black_reference, circuit.setup({"key": "on"}, frozenset({"X1"})))
    assert shown(everything, test)["operates"] > 0.95
    assert shown(everything, test, "K3.coil_open")["inoperative"] > 0.9
    # A dead driver is stood in for: what it would have switched acts.
    assert shown(everything, test, "DRV.dead")["operates"] > 0.9


def test_supply_on_the_open_relay_socket_clicks_the_relay_itself(everything: Predictor) -> None:
    circuit = everything.circuit
    drives = driven(circuit, key_off(circuit, "X3"))
    assert [(t.red, t.black) for t in drives] == [("X3.86/c", "X3.85/c")]
    assert shown(everything, drives[0])["operates"] > 0.95
    assert shown(everything, drives[0], "K3.coil_short")["trips"] + shown(everything, drives[0], "K3.coil_short")["operates"] > 0.9
    assert shown(everything, drives[0], "K3.coil_open")["inoperative"] > 0.9


def test_the_probe_is_offered_nowhere_else(everything: Predictor) -> None:
    circuit = everything.circuit
    assert driven(circuit, circuit.setup({"key": "on", "fan": "on"}, frozenset({"X3"}))) == []
    assert driven(circuit, circuit.rest_setup()) == []
    assert driven(circuit, key_off(circuit, "X20")) == [], "the fan is more than the probe's breaker carries"


@pytest.mark.parametrize("name", ["tern-rail-pressure", "tessel-pedal", "ambient-temperature", "tern-trailer-module"])
def test_no_supply_into_sensors_references_or_modules(name: str) -> None:
    circuit = circuit_of(library_circuits()[name])
    for connector in circuit.document.connectors:
        for state in ({}, {"key": "on"}):
            for test in driven(circuit, circuit.setup(state, frozenset({connector}))):
                owners = circuit.document.connectors[connector].cavities[test.red.split(".")[1].removesuffix("/c")]
                assert (
                    test.instrument == "applied-ground" or circuit.parts[str(owners).split(".")[0]].acts("", test.setup) is not None
                )


def test_no_probe_on_a_restraint_circuit() -> None:
    circuit = circuit_of(FAN_TEXT.replace("  X3:\n", "  X3:\n    restraint: true\n", 1))
    assert circuit.document.connectors["X3"].restraint
    assert not any(ref.startswith("X3.") for ref in circuit.points)
    assert "X3" not in circuit.targets


def test_line_state_tells_floating_from_driven(everything: Predictor) -> None:
    circuit = everything.circuit
    test = Test("line-state", "X3.85", circuit.black_reference, circuit.setup({"key": "on", "fan": "on"}, frozenset({"X3"})))
    assert shown(everything, test)["pulled low"] > 0.9
    assert shown(everything, test, "DRV.dead")["floating"] > 0.9


def test_the_loaded_circuit_test_reads_the_source_resistance_by_hand() -> None:
    """3 Ω in the supply wire: sag 3 V at 1 A; the loaded circuit test says 3 Ω where a voltmeter still reads full voltage."""
    circuit = circuit_of(FAN_TEXT)
    vehicle = SimulatedVehicle(circuit, [("W1.resistance", "3.0 Ω")], 5)
    key_on = circuit.setup({"key": "on"})
    test = next(t for t in sensible_tests(circuit, key_on) if t.instrument == "loaded-circuit-test" and t.red == "X3.30")
    ohms, word = vehicle.measure("loaded-circuit-test", test.red, test.black, key_on)
    assert word is None
    assert ohms == pytest.approx(3.0, rel=0.1)
    volts, _ = vehicle.measure("voltmeter", test.red, test.black, key_on)
    assert volts == pytest.approx(12.4, abs=0.5)


def test_an_inspection_sees_chafe_and_a_substitute_cures_its_unit(everything: Predictor) -> None:
    circuit = everything.circuit
    rest = circuit.rest_setup()
    look = Test("visual-inspection", "W1", circuit.black_reference, rest)
    assert shown(everything, look, "W1.to_ground")["damaged"] > 0.5 > 0.15 > shown(everything, look)["damaged"]
    swap = Test("substitution", "K3", circuit.black_reference, rest)
    assert shown(everything, swap, "K3.coil_open")["fault gone"] > 0.9
    assert 0.2 < shown(everything, swap, "X3.86.open")["fault gone"] < 0.3, "fitting it moves the contacts"
    assert shown(everything, swap, "DRV.dead")["fault gone"] < 0.1


def test_findings_move_belief_like_readings_and_repeats_add_nothing(everything: Predictor) -> None:
    circuit = everything.circuit
    rest = circuit.rest_setup()
    cured = Reading("1", Test("substitution", "K3", circuit.black_reference, rest), None, "fault gone")
    once, twice = update(everything, [cured]), update(everything, [cured, Reading("2", cured.test, None, "fault gone")])
    relay = everything.hypotheses.units.index("K3")
    assert once.units()[relay] > 5 * once.units(0)[relay]
    assert twice.units()[relay] == pytest.approx(once.units()[relay])
    judged = judge(everything, [cured], Situation(rest))
    assert is_by_substitution(judged)
    assert any("substitution only" in action for action in actions(judged))
    other = Reading("3", Test("substitution", "K3", circuit.black_reference, rest), None, "fault remains")
    assert not is_by_substitution(judge(everything, [other], Situation(rest)))


def test_findings_cost_their_minutes_and_never_offer_a_module(everything: Predictor) -> None:
    circuit = everything.circuit
    swap = Test("substitution", "K3", circuit.black_reference, circuit.rest_setup())
    reckoned = evaluate(everything, update(everything, []), Situation(circuit.rest_setup()), swap)
    assert reckoned is not None
    assert (
        reckoned.minutes
        >= INSTRUMENTS["substitution"].minutes + circuit.parts["K3"].fit_min
        == INSTRUMENTS["substitution"].extra_minutes(circuit, "K3") + 2.0
    )
    findings = [device for device in INSTRUMENTS.values() if device.finding]
    assert len(findings) == 8
    assert not any(device.looks_at(circuit, "DRV") for device in findings)
    assert {device.id for device in looking_at(circuit, "K3") if device.finding} == {"substitution", "heat-test", "cold-test"}


def test_findings_belong_to_rest_so_that_one_is_not_counted_twice(everything: Predictor) -> None:
    for setup in candidate_setups(everything, Situation(everything.circuit.rest_setup())):
        found = any(INSTRUMENTS[t.instrument].finding for t in everything.setup(setup).tests)
        assert setup == everything.circuit.rest_setup() or not found


def test_a_gauge_tells_a_lying_sensor_from_a_true_state() -> None:
    circuit = Circuit(load_circuit_text(library_circuits()["tessel-filter-pressure"]))
    predictor = Predictor(circuit, instruments=(*ORDINARY, "reference-gauge"))
    test = Test("reference-gauge", "B33", circuit.black_reference, circuit.rest_setup())
    assert shown(predictor, test, "B33.blocked")["agrees"] > 0.8
    assert shown(predictor, test, "B33.bias")["differs"] > 0.8


def test_the_plan_uses_the_probe_when_it_is_at_hand(everything: Predictor) -> None:
    only = ("functional-check", "applied-ground", "applied-supply", "line-state", "loaded-circuit-test")
    plan = rank_tests(everything, update(everything, []), Situation(everything.circuit.rest_setup(), instruments=only))
    assert plan.proposals[0].test.instrument in only


@pytest.mark.parametrize("device", ["visual-inspection", "wiggle-test", "substitution", "cleaning", "reference-gauge"])
def test_the_simulated_vehicle_finds_the_same_each_time(device: str, fan: Circuit) -> None:
    vehicle = SimulatedVehicle(fan, [("W1.to_ground", None)], 4)
    place = "K3" if device in ("substitution", "reference-gauge") else "X3"
    first = vehicle.measure(device, place, fan.black_reference, fan.rest_setup())
    assert first[1] in INSTRUMENTS[device].words
    assert all(vehicle.measure(device, place, fan.black_reference, fan.rest_setup()) == first for _ in range(5))


def test_no_new_fuse_is_tried_on_a_restraint_circuit() -> None:
    tools = frozenset({"new-fuse"})
    plain = circuit_of(FAN_TEXT)
    assert sensible_tests(plain, plain.rest_setup(), tools)
    restraint = circuit_of(FAN_TEXT.replace("  X3:\n", "  X3:\n    restraint: true\n", 1))
    assert not sensible_tests(restraint, restraint.rest_setup(), tools)
