"""What pulses, alternates or acts: values worked out by hand through the instruments, healthy and faulty."""

from __future__ import annotations

import math

import numpy as np
import pytest

from sondar.circuit_files import library_circuits
from sondar.core.circuit.model import Change, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.hypotheses import build_hypotheses
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments import INSTRUMENTS, displays, sensible_tests
from sondar.core.instruments.base import Display, Population, Test
from sondar.core.solving.fuses import blown_fuses
from sondar.simulators.vehicle import SimulatedVehicle
from tests.conftest import circuit_of


def library(name: str) -> Circuit:
    return circuit_of(library_circuits()[name])


def shown(circuit: Circuit, instrument: str, red: str, setup: Setup, fault: str = "", black: str = "BAT.neg") -> Display:
    """What an instrument shows on the nominal vehicle, healthy or under a fault: at its first severity or the one after a colon."""
    name, _, label = fault.partition(":")
    severities = circuit.faults[name].severities if fault else ()
    changes: tuple[Change, ...] = next((s.changes for s in severities if label in ("", s.label)), ())
    test = Test(instrument, red, black, setup)
    population = Population(circuit, setup, [changes], blown_fuses(circuit, [changes]), samples=1)
    return displays(population, [test])[instrument]


def value(circuit: Circuit, instrument: str, red: str, setup: Setup, fault: str = "", black: str = "BAT.neg") -> float:
    return float(shown(circuit, instrument, red, setup, fault, black).nominal[0, 0])


def word(circuit: Circuit, instrument: str, red: str, setup: Setup, fault: str = "") -> str:
    one = shown(circuit, instrument, red, setup, fault)
    return one.instrument.words[int(one.words[0, 0].argmax())]


# -- pulse width ----------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def purge() -> Circuit:
    return library("tessel-purge-valve")


def test_a_voltmeter_shows_the_mean_of_the_pulses(purge: Circuit) -> None:
    on = purge.named_setup("purging")
    low, high = (value(purge, "voltmeter", "X51.2", instant) for _, instant in purge.phases(on))
    assert low < 0.3
    assert high > 13.5
    assert value(purge, "voltmeter", "X51.2", on) == pytest.approx(0.4 * low + 0.6 * high, abs=0.01)


def test_frequency_duty_and_alternating_part_of_the_pulses(purge: Circuit) -> None:
    on = purge.named_setup("purging")
    assert value(purge, "frequency", "X51.2", on) == 20.0
    assert value(purge, "duty", "X51.2", on) == pytest.approx(60.0), "the line is high while the driver does not conduct"
    low, high = (value(purge, "voltmeter", "X51.2", instant) for _, instant in purge.phases(on))
    assert value(purge, "ac-voltmeter", "X51.2", on) == pytest.approx((high - low) * math.sqrt(0.4 * 0.6), abs=0.02)
    assert word(purge, "led-probe", "X51.2", on) == "both"
    assert word(purge, "led-probe", "X51.1", on) == "supply"
    assert word(purge, "frequency", "X51.1", on) == "no signal", "the feed does not pulse"
    assert word(purge, "frequency", "X51.2", purge.rest_setup()) == "no signal"


def test_a_stuck_plunger_is_electrically_fine_and_silent(purge: Circuit) -> None:
    on = purge.named_setup("purging")
    assert word(purge, "functional-check", "Y6", on) in ("operates", "weak")
    assert word(purge, "functional-check", "Y6", on, "Y6.stuck") == "inoperative"
    assert value(purge, "voltmeter", "X51.2", on, "Y6.stuck") == pytest.approx(value(purge, "voltmeter", "X51.2", on))
    fault = purge.faults["Y6.stuck"]
    assert (fault.group, fault.unit) == ("system", "Y6@system")
    assert purge.units["Y6@system"].title == "Purge valve plunger itself"
    hypotheses = build_hypotheses(purge)
    assert "Y6@system" in hypotheses.units


# -- sensors that need their supply ---------------------------------------------------------------------


@pytest.fixture(scope="module")
def crank() -> Circuit:
    return library("tessel-crank-sensor")


def test_a_hall_sensor_pulls_low_in_front_of_a_tooth_and_lets_go_without_supply(crank: Circuit) -> None:
    standing = crank.setup({"key": "run", "engine": "standing"})
    tooth = crank.setup({"key": "run", "engine": "tooth in front"})
    turning = crank.named_setup("cranking")
    assert value(crank, "voltmeter", "X1.61", standing) == pytest.approx(5.0, abs=0.05)
    assert value(crank, "voltmeter", "X1.61", tooth) == pytest.approx(5.0 * 30 / 2230, abs=0.02)
    assert value(crank, "voltmeter", "X1.61", turning) == pytest.approx(2.5, abs=0.1)
    assert value(crank, "frequency", "X1.61", turning) == 240.0
    for fault in ("F5.open", "W5.open", "B17.dead"):  # feed, sensor ground, electronics
        assert value(crank, "voltmeter", "X1.61", tooth, fault) > 4.5, fault
    assert word(crank, "frequency", "X1.61", turning, "B17.gap") == "no signal"
    assert value(crank, "voltmeter", "X1.61", standing, "B17.stuck_low") < 0.2


def test_an_air_mass_sensor_reports_flow_and_dirt_reads_low() -> None:
    circuit = library("tessel-air-mass")
    idle, full = (circuit.setup({"key": "run", "airflow": flow}) for flow in ("idle", "full"))
    assert value(circuit, "voltmeter", "X55.3", idle) == pytest.approx(1.6, abs=0.02)
    assert value(circuit, "voltmeter", "X55.3", full) == pytest.approx(3.9, abs=0.03)
    assert value(circuit, "voltmeter", "X55.3", full, "B21.low:×0.5") == pytest.approx(1.95, abs=0.03)
    same = value(circuit, "voltmeter", "X55.3", full, "B21.really_low:×0.5")
    assert same == pytest.approx(1.95, abs=0.03), "less air looks like a dirty sensor: the electrical test cannot tell"
    assert circuit.faults["B21.really_low"].group == "system"
    assert value(circuit, "voltmeter", "X55.3", full, "F5.open") < 0.05, "without supply it says nothing"


# -- sensors that make their own signal -----------------------------------------------------------------


def test_a_pick_up_coil_makes_alternating_voltage_only_while_it_turns() -> None:
    circuit = library("brigg-cam-pickup")
    still, turning = circuit.setup({"key": "on"}), circuit.named_setup("cranking")
    source = 1.4 * 20e3 / (20e3 + 950)
    assert value(circuit, "ac-voltmeter", "X53.1", turning, black="X53.2") == pytest.approx(source, rel=0.01)
    assert value(circuit, "voltmeter", "X53.1", turning, black="X53.2") == pytest.approx(0.0, abs=0.01)
    assert value(circuit, "ac-voltmeter", "X53.1", still, black="X53.2") == pytest.approx(0.0, abs=0.01)
    assert value(circuit, "ac-voltmeter", "X53.1", turning, "B18.weak:×0.3", "X53.2") == pytest.approx(0.3 * source, rel=0.02)
    off = circuit.setup({}, frozenset({"X53"}))
    assert value(circuit, "ohmmeter", "X53.1/c", off, black="X53.2/c") == pytest.approx(950, rel=0.01)


def test_a_two_wire_sensor_takes_seven_or_fourteen_milliamperes() -> None:
    circuit = library("tessel-wheel-speed")
    low, high = (circuit.setup({"key": "on", "wheel": wheel}) for wheel in ("standing", "magnet in front"))
    assert value(circuit, "voltmeter", "X54.2", low) == pytest.approx(0.007 * 115, rel=0.02)
    assert value(circuit, "voltmeter", "X54.2", high) == pytest.approx(0.014 * 115, rel=0.02)
    turning = circuit.named_setup("turning")
    assert value(circuit, "frequency", "X54.2", turning) == 45.0
    assert word(circuit, "frequency", "X54.2", turning, "B30.stuck") == "no signal"


def test_an_oxygen_cell_speaks_only_when_hot() -> None:
    circuit = library("orvane-front-oxygen")
    rich = circuit.named_setup("rich")
    cold = circuit.setup({"key": "on", "mixture": "rich"})
    assert value(circuit, "voltmeter", "X56.3", rich) == pytest.approx(0.85, abs=0.02)
    assert value(circuit, "voltmeter", "X56.3", cold) == pytest.approx(0.45, abs=0.06), "cold it leaves the module's bias"
    assert value(circuit, "voltmeter", "X56.3", rich, "B22.aged") < 0.4


# -- both ways, in steps, coded -------------------------------------------------------------------------


def test_a_bridge_drives_both_ways_and_brakes_at_rest() -> None:
    circuit = library("orvane-flap-motor")
    up, down, rest = (circuit.setup({"key": "on", "flap": flap}) for flap in ("up", "down", "rest"))
    assert value(circuit, "voltmeter", "X57.1", up, black="X57.2") > 11.5
    assert value(circuit, "voltmeter", "X57.1", down, black="X57.2") < -11.5
    assert value(circuit, "voltmeter", "X57.1", rest) == pytest.approx(0.0, abs=0.05)
    assert value(circuit, "voltmeter", "X57.1", up, "HB.high_a_dead", "X57.2") == pytest.approx(0.0, abs=0.1)
    assert value(circuit, "voltmeter", "X57.1", down, "HB.high_a_dead", "X57.2") < -11.5, "the other way still works"
    assert value(circuit, "live-data", "INF", up) == pytest.approx(5 * 0.75, abs=0.1), "the feedback follows"
    assert value(circuit, "live-data", "INF", up, "B29.blocked") == pytest.approx(5 * 0.2, abs=0.1)
    assert circuit.faults["HB.untaught"].group == "setting"


def test_both_tracks_of_a_pedal_keep_their_ratio() -> None:
    circuit = library("tessel-pedal")
    for pedal in ("released", "pressed"):
        setup = circuit.setup({"key": "on", "pedal": pedal})
        first, second = (value(circuit, "voltmeter", point, setup) for point in ("X58.2", "X58.5"))
        assert first / second == pytest.approx(2.0, rel=0.02)


def test_each_position_of_a_coded_switch_has_its_voltage() -> None:
    circuit = library("orvane-wiper-lever")
    seen = [
        value(circuit, "voltmeter", "X62.1", circuit.setup({"key": "on", "lever": p})) for p in ("off", "interval", "slow", "fast")
    ]
    expected = [5 * r / (r + 1000) for r in (6800, 2200, 680, 150)]
    assert seen == pytest.approx(expected, abs=0.03)
    wet = value(circuit, "voltmeter", "X62.1", circuit.setup({"key": "on"}), "S12.resistance")
    assert wet > seen[0]


def test_a_clamp_shows_the_current_in_one_wire() -> None:
    circuit = circuit_of(library_circuits()["radiator-fan-relay"])
    on = circuit.setup({"key": "on", "fan": "on"})
    wires = {ref: value(circuit, "current-clamp", ref, on) for ref in circuit.targets if ref.startswith("W")}
    assert max(abs(v) for v in wires.values()) > 15.0, "the fan's current"
    rest = circuit.rest_setup()
    assert max(abs(value(circuit, "current-clamp", ref, rest)) for ref in wires) < 0.01


def test_only_what_can_be_watched_is_watched(purge: Circuit) -> None:
    with pytest.raises(UnknownReferenceError, match="part that acts"):
        shown(purge, "functional-check", "W4", purge.rest_setup())
    tests = sensible_tests(purge, purge.named_setup("purging"))
    assert {t.red for t in tests if t.instrument == "functional-check"} == {"Y6"}
    assert not [t for t in tests if t.instrument.startswith("lamp") and t.red in ("X51.2", "X1.36")], "no lamp on a driver line"
    assert [t for t in tests if t.instrument == "led-probe" and t.red == "X1.36"], "the LED probe is gentle enough"


@pytest.mark.parametrize("name", list(library_circuits()))
def test_every_library_circuit_can_be_judged(name: str) -> None:
    """Faults well formed, points and units known, every instrument finite and every chance between 0 and 1."""
    circuit = library(name)
    setups = [circuit.setup({"key": "on"}), *(circuit.named_setup(s) for s in circuit.document.setups)]
    hypotheses = build_hypotheses(circuit)
    assert len(hypotheses.suspects) > 20
    assert hypotheses.prior.sum() == pytest.approx(1.0)
    for setup in setups:
        tests = sensible_tests(circuit, setup)
        faults = [circuit.faults.get(suspect.fault) for suspect in hypotheses.suspects[:12]]
        found = displays(Population(circuit, setup, hypotheses.changes[:12], hypotheses.blown[:12], faults, 3), tests)
        assert {t.instrument for t in tests} == set(found)
        for one in found.values():
            assert np.isfinite(one.mean).all()
            assert (one.sd > 0).all()
            assert ((one.words >= -1e-9) & (one.words <= 1 + 1e-9)).all()
            assert one.words.shape[2] == len(one.instrument.words) <= len(INSTRUMENTS)


def test_a_module_shows_a_value_of_its_own_for_one_that_cannot_be() -> None:
    """The sensor unplugged pulls the pin to 5 V: the scan tool says 1.1 V all the same, a voltmeter does not."""
    circuit = library("lisk-coolant-temperature")
    apart, together = (circuit.setup({"key": "on"}, frozenset(plugs)) for plugs in (("X40",), ()))
    assert shown(circuit, "live-data", "INC", apart).nominal[0, 0] == pytest.approx(1.1)
    assert shown(circuit, "voltmeter", "X40.1", apart).nominal[0, 0] == pytest.approx(5.0, abs=0.05)
    assert 2.0 < shown(circuit, "live-data", "INC", together).nominal[0, 0] < 4.0
    value, _ = SimulatedVehicle(circuit).measure("live-data", "INC", circuit.black_reference, apart)
    assert value == pytest.approx(1.1, abs=0.1)
