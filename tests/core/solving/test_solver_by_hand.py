"""Operating points against calculations a technician could do on paper, one family at a time."""

from __future__ import annotations

import math

import numpy as np
import pytest

from sondar.core.circuit.families.loads import motor_parameters
from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.solving.curves import lamp_current, motor_current
from sondar.core.solving.fuses import blown_fuses
from sondar.core.solving.solver import SetupSolver
from tests.conftest import circuit_of

HEAD = "sondar: 1\nid: t\ntitle: t\nvehicle: {make: Brigg}\n"
TWO_WIRES = "wires:\n  W1: {from: BAT.pos, to: P.1, length_m: 0.01}\n  W2: {from: P.2, to: BAT.neg, length_m: 0.01}\njoins: [[BAT.neg, chassis]]\n"


def one_part(part: str, battery: str = "rest_v: 12, on_v: 12, run_v: 12, internal_ohm: 0.5") -> Circuit:
    """A part on a 12 V battery with half an ohm inside and practically no wire."""
    return circuit_of(f"{HEAD}parts:\n  BAT: {{family: battery, {battery}}}\n  P: {part}\n{TWO_WIRES}")


def volts(circuit: Circuit, red: str, black: str, setup: Setup | None = None, fault: str | None = None, severity: int = 0) -> float:
    changes = circuit.faults[fault].severities[severity].changes if fault else ()
    pair = [(circuit.node(red), circuit.node(black))]
    blown = blown_fuses(circuit, [changes])
    return float(SetupSolver(circuit, setup or circuit.rest_setup(), pair, samples=1).solve([changes], blown).volts[0, 0, 0])


WIRE_OHM = 0.0178 * 0.01 / 0.75


def test_resistor_divides_with_the_battery_inside() -> None:
    circuit = one_part("{family: resistor, resistance_ohm: 5.5}")
    assert volts(circuit, "P.1", "P.2") == pytest.approx(12 * 5.5 / (6.0 + 2 * WIRE_OHM), rel=1e-6)


def test_solenoid_resistance_follows_copper() -> None:
    circuit = one_part("{family: solenoid, coil_ohm: 10}")
    hot = 10 * (1 + 0.00393 * 60)
    wires = 2 * WIRE_OHM * (1 + 0.00393 * 60)
    at_80c = circuit.setup({}, temperature_c=80.0)
    assert volts(circuit, "P.1", "P.2", at_80c) == pytest.approx(12 * hot / (hot + 0.5 + wires), rel=1e-6)


def test_ntc_follows_the_beta_equation() -> None:
    circuit = one_part("{family: ntc, r25_ohm: 100, beta_k: 3500}")
    ohms = 100 * math.exp(3500 * (1 / 273.15 - 1 / 298.15))
    assert volts(circuit, "P.1", "P.2", circuit.setup({}, temperature_c=0.0)) == pytest.approx(12 * ohms / (ohms + 0.5), rel=1e-4)


def test_lamp_draws_its_rated_power_at_its_rated_voltage() -> None:
    current, _ = lamp_current(np.array([13.5, 1e-6]), *(np.float64(x) for x in (13.5, 13.5**2 / 21, 0.1)))
    assert current[0] == pytest.approx(21 / 13.5, rel=1e-9)
    assert 1e-6 / current[1] == pytest.approx(0.1 * 13.5**2 / 21, rel=0.01)


def test_motor_draws_its_rated_current_and_stalls_below_friction() -> None:
    parameters = [np.float64(x) for x in motor_parameters(13.0, 21.0, 0.16, 0.1)]
    current, slope = motor_current(np.array([13.0, 0.2, -13.0]), *parameters)
    assert current[0] == pytest.approx(21.0, rel=1e-9)
    assert current[1] == pytest.approx(0.2 / 0.16)
    assert current[2] == pytest.approx(-21.0)
    step = 1e-6
    above, _ = motor_current(np.array([13.0 + step]), *parameters)
    assert (above[0] - current[0]) / step == pytest.approx(slope[0], rel=1e-3)


def test_switch_open_and_closed() -> None:
    text = one_part("{family: switch, closed_when: {key: on}}")
    assert volts(text, "P.1", "P.2") == pytest.approx(12.0, rel=1e-3)
    assert abs(volts(text, "P.1", "P.2", text.setup({"key": "on"}))) < 0.25


def test_relay_pulls_in_only_with_enough_coil_current(fan: Circuit) -> None:
    on, off = fan.setup({"key": "on", "fan": "on"}), fan.setup({"key": "on"})
    assert volts(fan, "X20.1", "BAT.neg", on) > 11.0
    assert volts(fan, "X20.1", "BAT.neg", off) < 0.1
    # 12.3 V · 85 / (85 + 100) = 5.7 V < 7 V: with 100 Ω in the control wire it stays out.
    grid = [s.label for s in fan.faults["W8.resistance"].severities]
    assert volts(fan, "X20.1", "BAT.neg", on, "W8.resistance", grid.index("100 Ω")) < 0.1
    assert volts(fan, "X20.1", "BAT.neg", on, "W8.resistance", grid.index("30 Ω")) > 11.0


def test_short_to_ground_blows_the_fuse_above_it_and_nothing_else(fan: Circuit) -> None:
    faults = [fan.faults["W2.to_ground"].severities[0].changes, fan.faults["W8.to_ground"].severities[0].changes, ()]
    blown = blown_fuses(fan, faults)
    fuses = [b.id for b in fan.branches(fan.rest_setup()) if b.fuse_rating_a]
    assert [fuses[i] for i in np.flatnonzero(blown[0])] == ["F14"]
    assert not blown[1].any(), "a grounded control wire just runs the fan"
    assert not blown[2].any()
    assert volts(fan, "X3.30", "BAT.neg", fan.setup({"key": "on"}), "W2.to_ground") < 0.1


def test_open_wire_leaves_the_far_side_floating(ambient: Circuit) -> None:
    setup = ambient.setup({"key": "on"}, frozenset({"X31"}))
    pair = [(ambient.node("X31.1"), ambient.node("BAT.neg"))]
    solver = SetupSolver(ambient, setup, pair, samples=1)
    cut = solver.solve([ambient.faults["W1.open"].severities[0].changes, ()])
    assert cut.ohms[0, 0, 0] > 5e7
    assert cut.ohms[0, 1, 0] == pytest.approx(2200, rel=0.01)
    assert cut.volts[0, 1, 0] == pytest.approx(5.0, abs=1e-3)


def test_unplugging_cuts_and_component_side_can_be_measured(ambient: Circuit) -> None:
    setup = ambient.setup({}, frozenset({"X31"}))
    pair = [(ambient.node("X31.1/c"), ambient.node("X31.2/c"))]
    points = SetupSolver(ambient, setup, pair, samples=1).solve([()])
    assert points.ohms[0, 0, 0] == pytest.approx(2200 * math.exp(3540 * (1 / 293.15 - 1 / 298.15)), rel=1e-3)
