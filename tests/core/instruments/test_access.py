"""What a point is decides what may touch it."""

from __future__ import annotations

import pytest

from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.document.checks import read_document
from sondar.core.circuit.network import Circuit
from sondar.core.instruments import instrument, looking_at, sensible_tests
from sondar.core.instruments.access import access_of
from sondar.core.instruments.base import Test
from sondar.yaml_text import load_yaml


def library(name: str) -> Circuit:
    return Circuit(load_circuit_text(library_circuits()[name]))


def touched_by(circuit: Circuit, *instruments: str) -> set[str]:
    """Every point that some instrument is proposed at in any set-up, everything connected or one connector apart."""
    apart = [frozenset[str](), *(frozenset({name}) for name in circuit.document.connectors)]
    return {
        ref
        for state in circuit.control_states()
        for unplugged in apart
        for test in sensible_tests(circuit, circuit.setup(dict(state), unplugged), frozenset(instruments))
        for ref in (test.red, test.black)
    }


@pytest.mark.parametrize(
    ("name", "line", "points"),
    [
        ("lisk-throttle-position", "5 V reference", {"X38.1", "X5.20"}),
        ("lisk-throttle-position", "module's input", {"X38.2", "X5.22"}),
        ("lisk-throttle-position", "sensor's return", {"X38.3", "X5.21"}),
        ("tessel-wheel-speed", "sensor's supply", {"X54.1"}),
        ("lisk-modules-and-bus", "bus line", {"X5.10", "X5.11", "X2.20", "X12.4"}),
        ("radiator-fan-relay", "module's output", {"X3.85", "X1.23"}),
        ("tessel-exhaust-valve", "module's output", {"X1.60", "X1.61", "X60.1", "X60.2"}),
    ],
)
def test_lines_that_take_no_load(name: str, line: str, points: set[str]) -> None:
    circuit = library(name)
    access = access_of(circuit)
    known = {ref for ref in circuit.points if access.line_of(ref) == line}
    assert points <= known
    assert not points & touched_by(circuit, "lamp-5w", "lamp-21w", "loaded-circuit-test")
    said = instrument("lamp-21w").why_not(
        access, Test("lamp-21w", sorted(points)[0], circuit.black_reference, circuit.rest_setup())
    )
    assert line in said


def test_supplies_and_grounds_still_take_a_lamp(fan: Circuit) -> None:
    assert {"X3.86", "X3.30", "X20.2", "X1.40"} <= touched_by(fan, "lamp-21w")


def test_no_ohms_through_electronics_but_through_a_track_and_a_coil() -> None:
    assert not {"X41.1/c", "X41.2/c", "X41.1"} & touched_by(library("tern-rail-pressure"), "ohmmeter")
    assert {"X38.1/c", "X38.2/c", "X38.3/c"} <= touched_by(library("lisk-throttle-position"), "ohmmeter")
    assert {"X53.1/c", "X53.2/c"} <= touched_by(library("brigg-cam-pickup"), "ohmmeter")


@pytest.mark.parametrize(
    ("name", "pins"),
    [
        ("tern-rail-pressure", {"X1.50/c", "X1.52/c"}),
        ("halden-fan-module", {"X20.1/c", "X20.2/c"}),
        ("lisk-modules-and-bus", {"X5.1/c"}),
    ],
)
def test_no_meter_on_the_pins_of_a_module_that_has_no_supply(name: str, pins: set[str]) -> None:
    circuit = library(name)
    assert not pins & touched_by(circuit, "voltmeter", "voltmeter-10k", "ohmmeter", "line-state", "led-probe", "lamp-5w")
    assert {ref.removesuffix("/c") for ref in pins} <= touched_by(circuit, "voltmeter")
    pin = sorted(pins)[0]
    dead = Test("voltmeter", pin, circuit.black_reference, circuit.setup({}, frozenset({pin.split(".")[0]})))
    assert "has no supply" in instrument("voltmeter").why_not(access_of(circuit), dead)


def test_what_sits_in_the_exhaust_is_not_felt_by_hand() -> None:
    oxygen = library("orvane-front-oxygen")
    assert "functional-check" not in [device.id for device in looking_at(oxygen, "R22")]
    assert "functional-check" in [device.id for device in looking_at(library("tern-tail-lamps"), "H1")]


def test_supply_is_not_applied_to_what_is_made_for_pulses() -> None:
    purge = library_circuits()["tessel-purge-valve"]
    assert {"X51.1/c", "X51.2/c"} <= touched_by(Circuit(load_circuit_text(purge)), "applied-supply")
    data = load_yaml(purge)
    data["parts"]["Y6"] |= {"short_pulses_only": True}
    assert not touched_by(Circuit(read_document(data)), "applied-supply")


def test_of_points_of_one_piece_of_metal_the_quickest_to_reach_is_proposed(fan: Circuit) -> None:
    for test in sensible_tests(fan, fan.rest_setup(), frozenset({"voltmeter"})):
        own = fan.points[test.red]
        same = [p for p in fan.points.values() if p.node == own.node and p.reachable(test.setup) and p.ref != test.black]
        assert own.access_min == min(p.access_min for p in same), test
