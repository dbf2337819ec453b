"""The netlist by its text: what ngspice then makes of it is in test_against_spice."""

from __future__ import annotations

from sondar.core.circuit.network import Circuit
from sondar.core.solving.spice import netlist


def test_every_node_is_tied_and_every_branch_written_once(fan: Circuit) -> None:
    lines, names = netlist(fan, fan.rest_setup())
    labels = [line.split()[0] for line in lines if not line.startswith(".")]
    assert len(labels) == len(set(labels))
    leaks = [line for line in lines if line.startswith("Rleak")]
    assert len(leaks) == len(names) - 1
    assert names["chassis"] == "0"
    assert not any("@" in line for line in lines), "every placeholder is filled"


def test_faults_fuses_and_loads_appear(fan: Circuit) -> None:
    healthy, _ = netlist(fan, fan.rest_setup())
    welded, _ = netlist(fan, fan.rest_setup(), fan.faults["K3.contact_welded"].severities[0].changes)
    assert sum(line.startswith("S") for line in welded) == sum(line.startswith("S") for line in healthy) - 1
    grounded, _ = netlist(fan, fan.rest_setup(), fan.faults["W3.to_ground"].severities[0].changes)
    assert len(grounded) == len(healthy) + 1
    blown, _ = netlist(fan, fan.rest_setup(), blown=["F14"])
    assert any("100000000.0025" in line for line in blown)
    loaded, _ = netlist(fan, fan.rest_setup(), loads=[(fan.node("X20.1"), "chassis", 1e7)])
    assert any(line.startswith("Rload") and line.endswith("10000000.0") for line in loaded)


def test_sources_can_be_set(fan: Circuit) -> None:
    lines, _ = netlist(fan, fan.rest_setup(), emf_v={"BAT": 11.5})
    assert any(line.endswith(" 11.5") for line in lines)


def test_seized_motor_and_diode_are_curves(latch: Circuit) -> None:
    lines, _ = netlist(latch, latch.rest_setup(), latch.faults["M1.seized"].severities[0].changes)
    motor = next(line for line in lines if "sgn(" in line)
    assert "800000000.0" in motor, "a friction current that no supply delivers"
    assert any("? (" in line for line in lines), "the suppression diode's knee"
