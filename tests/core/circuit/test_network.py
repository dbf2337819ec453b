from __future__ import annotations

import pytest

from sondar.circuit_files import library_circuits
from sondar.core.circuit.model import Setup, is_active
from sondar.core.circuit.network import Circuit
from sondar.core.errors import UnknownReferenceError
from tests.conftest import FAN_TEXT, circuit_of


def test_joined_terminals_are_one_node(fan: Circuit) -> None:
    assert fan.node("BAT.neg") == fan.node("chassis") == "chassis"
    assert fan.node("X3.85/c") == fan.node("K3.85")
    assert fan.node("X3.85") != fan.node("X3.85/c"), "a contact lies between"


def test_points_say_how_they_are_reached(fan: Circuit, ambient: Circuit) -> None:
    plugged, apart = fan.rest_setup(), fan.setup({}, frozenset({"X20"}))
    assert fan.point("X20.1").reachable(plugged)
    assert not fan.point("X20.1/c").reachable(plugged)
    assert fan.point("X20.1/c").reachable(apart)
    assert fan.point("X20.1").access_min == 4
    assert "K3.85" not in fan.points, "a relay is reached through its carrier"
    assert ambient.point("X12.7/c").reachable(ambient.rest_setup()), "both sides of an in-line joint can be back-probed"
    assert "far side" in ambient.point("X12.7/c").title


def test_a_sealed_connector_needs_a_break_out_lead_while_it_is_connected(fan: Circuit) -> None:
    connected, apart = fan.rest_setup(), fan.setup({}, frozenset({"X20"}))
    assert fan.document.connectors["X20"].back_probe is False, "a plug in the wet is sealed"
    assert fan.point("X20.1").reachable(connected)
    assert fan.point("X20.1").needs_lead(connected)
    assert not fan.point("X20.1").needs_lead(apart)
    assert not fan.point("X20.1/c").reachable(connected)
    assert not fan.point("X3.30").needs_lead(connected), "a dry plug is probed from behind"


def test_set_ups(fan: Circuit) -> None:
    rest = fan.rest_setup()
    assert dict(rest.controls) == {"key": "off", "fan": "off"}
    named = fan.named_setup("relay-out")
    assert named.describe() == "key on · fan on · X3 disconnected"
    assert named.with_unplugged(frozenset()).with_control("fan", "off") == fan.setup({"key": "on"})
    assert len(fan.control_states()) == 5, "no command of the scan tool with the key off"
    with pytest.raises(UnknownReferenceError, match="there are: off, on, run"):
        fan.setup({"key": "start"})
    with pytest.raises(UnknownReferenceError, match="no set-up 'x'"):
        fan.named_setup("x")
    with pytest.raises(UnknownReferenceError, match=r"no point 'X3\.99'") as caught:
        fan.point("X3.99")
    assert "X3.85" in caught.value.known


def test_active_when_needs_every_control() -> None:
    setup = Setup((("fan", "on"), ("key", "off")))
    assert is_active({"fan": ("on",)}, setup)
    assert not is_active({"fan": ("on",), "key": ("on", "run")}, setup)
    assert is_active({}, setup)


def test_an_unused_break_contact_adds_nothing(fan: Circuit) -> None:
    assert not any(b.id == "K3.break" for b in fan.branches(fan.rest_setup()))


def test_a_used_break_contact_is_closed_at_rest() -> None:
    text = FAN_TEXT.replace('"87": K3.87}', '"87": K3.87, "87a": K3.87a}')
    circuit = circuit_of(text.replace("wires:\n", "wires:\n  W20: {from: X3.87a, to: G1.stud}\n"))
    (found,) = [b for b in circuit.branches(circuit.rest_setup()) if b.id == "K3.break"]
    assert found.contact is not None
    assert found.contact.closed_at_rest


def test_a_module_with_its_plug_apart_is_asleep(fan: Circuit, ambient: Circuit) -> None:
    commanded = fan.setup({"key": "on", "fan": "on"}, frozenset({"X1"}))
    (driver,) = [b for b in fan.branches(commanded) if b.id == "DRV"]
    assert driver.resistance_ohm > 1e6
    (pull,) = [b for b in ambient.branches(ambient.setup({"key": "on"}, frozenset({"X2"}))) if b.id == "AIN.pull"]
    assert pull.emf_v == 0.0


@pytest.mark.parametrize("name", list(library_circuits()))
def test_no_two_faults_of_a_circuit_have_one_id(name: str) -> None:
    circuit = circuit_of(library_circuits()[name])
    listed = [f.id for part_id, part in circuit.parts.items() for f in (*part.faults(part_id), *part.faults_of_time(part_id))]
    assert sorted(listed) == sorted(circuit.faults)
