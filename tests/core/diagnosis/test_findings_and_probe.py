"""Findings and the powered probe: where they may be used, what they show under each fault, what they move."""

from __future__ import annotations

import pytest

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Reading, update
from sondar.core.diagnosis.findings import by_substitution, extra_minutes, finders
from sondar.core.diagnosis.plan import Bench, candidate_setups, evaluate, make_plan
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.tests import Test, TestFinder
from sondar.core.instruments import FINDINGS, INSTRUMENTS, ORDINARY
from sondar.devices.standins.vehicle import SimulatedVehicle
from sondar.documents import library_circuits, load_circuit_text
from tests.conftest import FAN_TEXT, circuit_of


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
    test = Test("probe-ground", "X1.23", circuit.black_reference, circuit.setup({"key": "on"}, frozenset({"X1"})))
    assert shown(everything, test)["acts"] > 0.95
    assert shown(everything, test, "K3.coil_open")["nothing"] > 0.9
    # A dead driver is stood in for: what it would have switched acts.
    assert shown(everything, test, "DRV.dead")["acts"] > 0.9


def test_supply_on_the_open_relay_socket_clicks_the_relay_itself(everything: Predictor) -> None:
    circuit = everything.circuit
    drives = everything.finder.drives(key_off(circuit, "X3"))
    assert [(t.red, t.black) for t in drives] == [("X3.86/c", "X3.85/c")]
    assert shown(everything, drives[0])["acts"] > 0.95
    assert shown(everything, drives[0], "K3.coil_short")["trips"] + shown(everything, drives[0], "K3.coil_short")["acts"] > 0.9
    assert shown(everything, drives[0], "K3.coil_open")["nothing"] > 0.9


def test_the_probe_is_offered_nowhere_else(everything: Predictor) -> None:
    circuit = everything.circuit
    assert everything.finder.drives(circuit.setup({"key": "on", "fan": "on"}, frozenset({"X3"}))) == []
    assert everything.finder.drives(circuit.rest_setup()) == []
    assert everything.finder.drives(key_off(circuit, "X20")) == [], "the fan is more than the probe's breaker carries"


@pytest.mark.parametrize("name", ["tern-rail-pressure", "tessel-pedal", "ambient-temperature", "tern-trailer-module"])
def test_no_supply_into_sensors_references_or_modules(name: str) -> None:
    circuit = circuit_of(library_circuits()[name])
    finder = TestFinder(circuit)
    for connector in circuit.document.connectors:
        for state in ({}, {"key": "on"}):
            for test in finder.drives(circuit.setup(state, frozenset({connector}))):
                owners = circuit.document.connectors[connector].cavities[test.red.split(".")[1].removesuffix("/c")]
                assert (
                    test.instrument == "probe-ground" or circuit.parts[str(owners).split(".")[0]].acts("", test.setup) is not None
                )


def test_no_probe_on_a_restraint_circuit() -> None:
    circuit = circuit_of(FAN_TEXT.replace("  X3:\n", "  X3:\n    restraint: true\n", 1))
    assert circuit.document.connectors["X3"].restraint
    assert not any(ref.startswith("X3.") for ref in circuit.points)
    assert "X3" not in circuit.targets


def test_weak_pull_tells_floating_from_held(everything: Predictor) -> None:
    circuit = everything.circuit
    test = Test("weak-pull", "X3.85", circuit.black_reference, circuit.setup({"key": "on", "fan": "on"}, frozenset({"X3"})))
    assert shown(everything, test)["pulled low"] > 0.9
    assert shown(everything, test, "DRV.dead")["floating"] > 0.9


def test_feed_test_reads_the_source_resistance_by_hand() -> None:
    """3 Ω in the feed wire: sag 3 V at 1 A; the feed test says 3 Ω where a voltmeter still reads full voltage."""
    circuit = circuit_of(FAN_TEXT)
    vehicle = SimulatedVehicle(circuit, [("W1.resistance", "3.0 Ω")], 5)
    key_on = circuit.setup({"key": "on"})
    test = next(t for t in TestFinder(circuit).tests(key_on) if t.instrument == "feed-test" and t.red == "X3.30")
    ohms, word = vehicle.measure("feed-test", test.red, test.black, key_on)
    assert word is None
    assert ohms == pytest.approx(3.0, rel=0.1)
    volts, _ = vehicle.measure("voltmeter", test.red, test.black, key_on)
    assert volts == pytest.approx(12.4, abs=0.5)


def test_a_close_look_sees_chafe_and_a_swap_cures_its_unit(everything: Predictor) -> None:
    circuit = everything.circuit
    rest = circuit.rest_setup()
    look = Test("look", "W1", circuit.black_reference, rest)
    assert shown(everything, look, "W1.to_ground")["damaged"] > 0.5 > 0.15 > shown(everything, look)["damaged"]
    swap = Test("swap", "K3", circuit.black_reference, rest)
    assert shown(everything, swap, "K3.coil_open")["cured"] > 0.9
    assert 0.2 < shown(everything, swap, "X3.86.open")["cured"] < 0.3, "fitting it moves the contacts"
    assert shown(everything, swap, "DRV.dead")["cured"] < 0.1


def test_findings_move_belief_like_readings_and_repeats_add_nothing(everything: Predictor) -> None:
    circuit = everything.circuit
    rest = circuit.rest_setup()
    cured = Reading("1", Test("swap", "K3", circuit.black_reference, rest), None, "cured")
    once, twice = update(everything, [cured]), update(everything, [cured, Reading("2", cured.test, None, "cured")])
    relay = everything.hypotheses.units.index("K3")
    assert once.units()[relay] > 5 * once.units(0)[relay]
    assert twice.units()[relay] == pytest.approx(once.units()[relay])
    assert by_substitution([("swap", "cured")])
    assert not by_substitution([("swap", "unchanged"), ("look", "damaged")])


def test_findings_cost_their_minutes_and_never_offer_a_module(everything: Predictor) -> None:
    circuit = everything.circuit
    swap = Test("swap", "K3", circuit.black_reference, circuit.rest_setup())
    reckoned = evaluate(everything, update(everything, []), Bench(circuit.rest_setup()), swap)
    assert reckoned is not None
    assert (
        reckoned.minutes >= INSTRUMENTS["swap"].minutes + circuit.parts["K3"].fit_min == extra_minutes(circuit, "swap", "K3") + 2.0
    )
    assert finders(circuit, "DRV") == ()
    for ref in circuit.targets:
        assert all(device.kind in FINDINGS for device in finders(circuit, ref))


def test_findings_belong_to_rest_so_that_one_is_not_counted_twice(everything: Predictor) -> None:
    for setup in candidate_setups(everything, Bench(everything.circuit.rest_setup())):
        kinds = {INSTRUMENTS[t.instrument].kind for t in everything.setup(setup).tests}
        assert setup == everything.circuit.rest_setup() or not kinds & set(FINDINGS)


def test_a_gauge_tells_a_lying_sensor_from_a_true_state() -> None:
    circuit = Circuit(load_circuit_text(library_circuits()["tessel-filter-pressure"]))
    predictor = Predictor(circuit, instruments=(*ORDINARY, "gauge"))
    test = Test("gauge", "B33", circuit.black_reference, circuit.rest_setup())
    assert shown(predictor, test, "B33.blocked")["agrees"] > 0.8
    assert shown(predictor, test, "B33.bias")["differs"] > 0.8


def test_the_plan_uses_the_probe_when_it_is_at_hand(everything: Predictor) -> None:
    only = ("senses", "probe-ground", "probe-supply", "weak-pull", "feed-test")
    plan = make_plan(everything, update(everything, []), Bench(everything.circuit.rest_setup(), instruments=only))
    assert plan.proposals[0].test.instrument in only


@pytest.mark.parametrize("device", ["look", "wiggle", "swap", "clean", "gauge"])
def test_the_stand_in_finds_the_same_each_time(device: str, fan: Circuit) -> None:
    vehicle = SimulatedVehicle(fan, [("W1.to_ground", None)], 4)
    place = "K3" if device in ("swap", "gauge") else "X3"
    first = vehicle.measure(device, place, fan.black_reference, fan.rest_setup())
    assert first[1] in INSTRUMENTS[device].words
    assert all(vehicle.measure(device, place, fan.black_reference, fan.rest_setup()) == first for _ in range(5))
