"""What every family owes: faults that are well-formed, and physics that moves the right way under each of them."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from sondar.core.circuit.families.loads import motor_parameters
from sondar.core.circuit.families.relay import Relay
from sondar.core.circuit.families.supply import CHARGE_SD_V
from sondar.core.circuit.model import Curve, copper_resistance
from sondar.core.circuit.network import Circuit
from sondar.core.solving.curves import CURVES
from sondar.core.solving.operating_points import SAMPLES
from sondar.core.solving.parameters import sample_normals
from sondar.core.solving.ports import curve_floor
from sondar.core.solving.solver import SetupSolver
from tests.conftest import circuit_of
from tests.core.solving.test_solver_by_hand import HEAD, one_part, volts


@pytest.mark.parametrize("name", ["fan", "ambient", "latch"])
def test_faults_are_well_formed(name: str, request: pytest.FixtureRequest) -> None:
    circuit: Circuit = request.getfixturevalue(name)
    setup = circuit.rest_setup()
    drawn = {branch.id for part_id, part in circuit.parts.items() for branch in part.branches(part_id, setup)}
    for fault in circuit.faults.values():
        assert fault.id == f"{fault.part}.{fault.mode}"
        assert fault.rate > 0
        assert fault.repair
        assert fault.branch in drawn, fault.id
        assert sum(s.weight for s in fault.severities) == pytest.approx(1.0), fault.id
        assert len({s.label for s in fault.severities}) == len(fault.severities), fault.id
        assert fault.unit in circuit.units
        for severity in fault.severities:
            for change in severity.changes:
                assert change.branch in drawn, (fault.id, change.branch)
                used = [
                    change.set_ohm,
                    change.add_ohm,
                    change.scale,
                    change.emf_v,
                    change.emf_scale,
                    change.curve_parameters,
                    change.blocks or None,
                ]
                assert sum(item is not None for item in used) == 1, fault.id


def test_parts_in_a_module_count_as_the_module(fan: Circuit, latch: Circuit) -> None:
    assert fan.faults["DRV.dead"].unit == "ECM"
    assert fan.faults["DRV.dead"].group == "module"
    assert fan.units["ECM"].coded
    assert latch.faults["IN1.leak"].unit == "RCM"
    assert latch.faults["B1.stuck_open"].group == "component"
    assert {f.group for f in fan.faults.values() if f.part.startswith(("W", "X", "G", "F"))} == {"wiring"}


def test_exposed_places_fail_more_often(fan: Circuit) -> None:
    sheltered = fan.document.wires["W3"].model_copy(update={"exposed": False}).faults("W3")[0]
    assert fan.faults["W3.open"].rate == pytest.approx(3 * sheltered.rate)
    assert fan.faults["X20.1.open"].rate == pytest.approx(2.5 * fan.faults["X3.30.open"].rate)
    assert fan.faults["G1.resistance"].rate == pytest.approx(3 * fan.faults["G2.resistance"].rate)


volts_range = st.floats(-20, 20)
LAWS_TO_TRY = {
    "lamp": (13.5, 8.7, 0.1),
    "motor": motor_parameters(13.0, 21.0, 0.16, 0.1),
    "diode": (0.65, 0.05, 1e7),
    "sink": (0.007, 1.5, 0.0),
}


@pytest.mark.parametrize("kind", list(CURVES))
@given(one=volts_range, two=volts_range)
def test_current_never_falls_with_voltage(kind: str, one: float, two: float) -> None:
    low, high = sorted((one, two))
    current, slope = CURVES[kind](np.array([low, high]), *(np.float64(p) for p in LAWS_TO_TRY[kind]))
    assert current[0] <= current[1] + 1e-12
    assert (slope >= 0).all()
    assert current[0] * low >= 0, "a passive part gives no power"


@pytest.mark.parametrize("kind", list(CURVES))
@given(at=volts_range)
def test_slope_is_the_derivative(kind: str, at: float) -> None:
    step = 1e-5
    points = np.array([at - step, at, at + step])
    current, slope = CURVES[kind](points, *(np.float64(p) for p in LAWS_TO_TRY[kind]))
    between = (current[2] - current[0]) / (2 * step)
    # At a kink the derivative is only bracketed by its neighbours.
    assert min(slope) - 1e-3 * (1 + max(slope)) <= between <= max(slope) + 1e-3 * (1 + max(slope))


def test_curve_floor_is_a_thousandth_of_the_part() -> None:
    assert curve_floor(Curve("lamp", (13.5, 8.0, 0.1))) == pytest.approx(1e-3 / 8.0)
    assert curve_floor(Curve("motor", (0.16, 0.2, 2.0))) == pytest.approx(1e-3 / 0.16)


def test_samples_are_centred_and_repeatable() -> None:
    one, same, other = sample_normals("W1", SAMPLES), sample_normals("W1", SAMPLES), sample_normals("W2", SAMPLES)
    assert one[0] == 0.0
    assert (one == same).all()
    assert not (one == other).all()
    assert one[1:].mean() == pytest.approx(0.0, abs=1e-12)
    assert one[1:].std() == pytest.approx(0.95, abs=0.08)


def test_copper_follows_the_standard() -> None:
    assert copper_resistance(10.0, 20.0) == 10.0
    assert copper_resistance(10.0, 120.0) == pytest.approx(13.93)


def test_relay_coil_warms_but_pulls_in_at_the_same_current() -> None:
    relay = Relay(family="relay", coil_ohm=85, pull_in_v=7)
    text = (
        f"{HEAD}parts: {{BAT: {{family: battery}}, R: {{family: resistor, resistance_ohm: 100}}}}\n"
        "wires: {W: {from: BAT.pos, to: R.1}, V: {from: R.2, to: BAT.neg}}\n"
    )
    circuit = circuit_of(text)
    cold, hot = (relay.branches("K", circuit.rest_setup(t)) for t in (20.0, 90.0))
    assert hot[0].resistance_ohm > 1.25 * cold[0].resistance_ohm
    assert cold[1].contact is not None
    assert hot[1].contact is not None
    assert hot[1].contact.pull_in_a == cold[1].contact.pull_in_a == pytest.approx(7 / 85)


@pytest.mark.parametrize(
    ("part", "fault", "direction"),
    [
        ("{family: resistor, resistance_ohm: 5}", "P.open", 1),
        ("{family: resistor, resistance_ohm: 5}", "P.short", -1),
        ("{family: solenoid, coil_ohm: 12}", "P.short", -1),
        ("{family: lamp, rated_w: 21}", "P.open", 1),
        ("{family: dc_motor, rated_a: 5, armature_ohm: 0.8}", "P.open", 1),
        ("{family: dc_motor, rated_a: 5, armature_ohm: 0.8}", "P.short", -1),
        ("{family: dc_motor, rated_a: 5, armature_ohm: 0.8}", "P.seized", -1),
        ("{family: ntc, r25_ohm: 10}", "P.drift", 1),
        ("{family: ntc, r25_ohm: 10}", "P.short", -1),
    ],
)
def test_a_fault_moves_the_voltage_across_the_part_the_right_way(part: str, fault: str, direction: int) -> None:
    circuit = one_part(part)
    assert direction * (volts(circuit, "P.1", "P.2", fault=fault) - volts(circuit, "P.1", "P.2")) > 0.05


def test_driver_on_off_dead_and_stuck(latch: Circuit) -> None:
    off, on = latch.setup({"key": "on"}), latch.setup({"key": "on", "wash": "on"})
    assert volts(latch, "X7.1", "BAT.neg", off) > 11.5
    assert volts(latch, "X7.1", "BAT.neg", on) < 0.5
    assert volts(latch, "X7.1", "BAT.neg", on, "Q1.dead") > 11.5
    assert volts(latch, "X7.1", "BAT.neg", off, "Q1.stuck_on") < 0.5
    run = latch.setup({"key": "run"})
    assert volts(latch, "X7.4", "BAT.neg", run) > 13.0
    assert volts(latch, "X7.4", "BAT.neg", off) < 0.1


def test_pull_down_input_and_handle_switch(latch: Circuit) -> None:
    rest, pressed = latch.rest_setup(), latch.setup({"latch": "open"})
    assert volts(latch, "X7.5", "BAT.neg", rest) < 0.1
    assert volts(latch, "X7.5", "BAT.neg", pressed) > 12.0
    assert volts(latch, "X8.1", "BAT.neg", pressed) > 11.5, "the latch relay follows the handle"
    assert volts(latch, "X8.1", "BAT.neg", rest) < 0.1


def test_shorted_suppression_diode_takes_the_relay_out(latch: Circuit) -> None:
    pressed = latch.setup({"latch": "open"})
    assert volts(latch, "X8.1", "BAT.neg", pressed, "K9.diode_short") < 1.0


def test_a_splice_leg_cuts_only_its_own_branch(latch: Circuit) -> None:
    setup = latch.setup({"key": "run", "brake": "pressed"})
    assert volts(latch, "X9.1", "BAT.neg", setup, "S1.valve_open") < 0.5
    assert volts(latch, "X7.3", "BAT.neg", setup, "S1.valve_open") > 13.0


def test_supply_difference_of_thevenin_and_samples(fan: Circuit) -> None:
    """The spread of samples is that of the battery where only the battery matters."""
    pair = [(fan.node("BAT.pos"), fan.node("BAT.neg"))]
    points = SetupSolver(fan, fan.rest_setup(), pair).solve([()])
    assert points.volts[0, 0, 0] == pytest.approx(12.5, abs=1e-3)
    assert points.volts[1:, 0, 0].std() == pytest.approx(CHARGE_SD_V, rel=0.15)
    assert points.settled.all()
