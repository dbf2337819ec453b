"""Protected drivers and references, body diodes and a relay that holds while the starter turns, against figures by hand."""

from __future__ import annotations

import pytest

from sondar.core.circuit.network import Circuit
from tests.conftest import circuit_of
from tests.core.solving.test_solver_by_hand import HEAD, volts

CONTROLS = "controls: {pump: {values: ['off', 'on']}, engine: {values: [stopped, cranking]}}\n"


def driven(driver: str, load_ohm: float, feed: str = "BAT.pos") -> Circuit:
    """A resistor from the battery to a low-side driver."""
    parts = f"parts: {{BAT: {{family: battery}}, R: {{family: resistor, resistance_ohm: {load_ohm}}}, Q: {driver}}}\n"
    wires = (
        f"wires: {{W1: {{from: {feed}, to: R.1, length_m: 0.01}}, W2: {{from: R.2, to: Q.out, length_m: 0.01}}, "
        "W3: {from: Q.gnd, to: BAT.neg, length_m: 0.01}}\n"
    )
    return circuit_of(HEAD + CONTROLS + parts + wires)


def test_a_limited_driver_does_not_pull_a_shorted_load_down() -> None:
    plain = "{family: low_side_driver, on_when: {pump: 'on'}, on_ohm: 0.25}"
    limited = "{family: low_side_driver, on_when: {pump: 'on'}, on_ohm: 0.25, limit_a: 2}"
    for driver, expected in ((plain, 12.3 * 0.25 / (0.1 + 0.25 + 0.012)), (limited, 12.3 - 2.0 * (0.1 + 0.012))):
        circuit = driven(driver, 0.1)
        on = circuit.setup({"key": "on", "pump": "on"})
        assert volts(circuit, "Q.out", "Q.gnd", on) == pytest.approx(expected, abs=0.05)


def test_within_its_limit_it_is_a_resistor() -> None:
    circuit = driven("{family: low_side_driver, on_when: {pump: 'on'}, on_ohm: 0.25, limit_a: 2}", 100.0)
    on = circuit.setup({"key": "on", "pump": "on"})
    assert volts(circuit, "Q.out", "Q.gnd", on) == pytest.approx(12.3 * 0.25 / 100.26, abs=0.02)


def test_an_open_load_is_held_at_the_voltage_of_the_test() -> None:
    circuit = driven("{family: low_side_driver, on_when: {key: 'on', pump: 'on'}, open_load_v: 3.2, open_load_ohm: 20000}", 80.0)
    off = circuit.setup({"key": "on", "pump": "off"})
    assert volts(circuit, "Q.out", "Q.gnd", off) > 12.2, "the load holds it at the battery's voltage"
    # Leakage of 5 µA at 12 V is 2.4 MΩ, beside the meter's 10 MΩ.
    held = 3.2 / (1.0 + 20e3 / (1.0 / (1.0 / 2.4e6 + 1.0 / 10e6)))
    assert volts(circuit, "Q.out", "Q.gnd", off, "R.open") == pytest.approx(held, abs=0.12)
    asleep = circuit.rest_setup()
    assert volts(circuit, "Q.out", "Q.gnd", asleep, "R.open") < 0.5, "no test while the module sleeps"


def test_a_body_diode_feeds_back() -> None:
    """A high-side output pulled to the battery from outside supplies what hangs on the module's feed, less a diode."""
    text = (
        HEAD
        + CONTROLS
        + (
            "parts: {BAT: {family: battery}, Q: {family: high_side_driver, on_when: {pump: 'on'}, body_diode: %s}, "
            "R: {family: resistor, resistance_ohm: 1000}}\n"
            "wires: {W1: {from: BAT.pos, to: Q.out, length_m: 0.01}, W2: {from: Q.feed, to: R.1, length_m: 0.01}, "
            "W3: {from: R.2, to: BAT.neg, length_m: 0.01}}\n"
        )
    )
    with_diode, without = circuit_of(text % "true"), circuit_of(text % "false")
    off = with_diode.setup({"key": "on", "pump": "off"})
    assert volts(with_diode, "R.1", "R.2", off) == pytest.approx(12.3 - 0.7, abs=0.05)
    assert volts(without, "R.1", "R.2", off) < 0.05


@pytest.mark.parametrize(("limit", "expected"), [("", 5.0 * 20.0 / 22.0), (", limit_a: 0.05", 1.0)], ids=["plain", "limited"])
def test_a_reference_under_a_soft_short(limit: str, expected: float) -> None:
    text = HEAD + (
        f"parts: {{BAT: {{family: battery}}, REF: {{family: reference_5v{limit}}}, R: {{family: resistor, resistance_ohm: 20}}}}\n"
        "wires: {W1: {from: REF.out, to: R.1, length_m: 0.01}, W2: {from: R.2, to: BAT.neg, length_m: 0.01}, "
        "W3: {from: REF.gnd, to: BAT.neg, length_m: 0.01}}\n"
    )
    circuit = circuit_of(text)
    assert volts(circuit, "R.1", "R.2", circuit.setup({"key": "on"})) == pytest.approx(expected, abs=0.03)


@pytest.mark.parametrize(("drop_out", "holds"), [("", False), (", drop_out_v: 4", True)], ids=["no hysteresis", "holds to 4 V"])
def test_a_relay_that_has_pulled_in_holds_while_the_starter_turns(drop_out: str, holds: bool) -> None:
    text = (
        HEAD
        + CONTROLS
        + (
            f"parts: {{BAT: {{family: battery}}, K: {{family: relay, pull_in_v: 11{drop_out}}}, R: {{family: resistor, resistance_ohm: 10}}}}\n"
            "wires: {W1: {from: BAT.pos, to: K.86, length_m: 0.01}, W2: {from: K.85, to: BAT.neg, length_m: 0.01}, "
            "W4: {from: BAT.pos, to: K.30, length_m: 0.01}, W5: {from: K.87, to: R.1, length_m: 0.01}, "
            "W6: {from: R.2, to: BAT.neg, length_m: 0.01}}\n"
        )
    )
    circuit = circuit_of(text)
    on, cranking = circuit.setup({"key": "on"}), circuit.setup({"key": "on", "engine": "cranking"})
    assert volts(circuit, "R.1", "R.2", on) > 12.0
    assert (volts(circuit, "R.1", "R.2", cranking) > 9.0) is holds, "10.2 V while the starter turns"
