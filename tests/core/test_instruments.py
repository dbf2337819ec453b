from __future__ import annotations

import numpy as np
import pytest

from sondar.core.circuit.solver import OperatingPoints, Waves, steady
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments import INSTRUMENTS, LAMP_21W, OHMMETER, ORDINARY, VOLTMETER, display, instrument, lamp_power_share


def at(volts: float, ohms: float) -> OperatingPoints:
    """One vehicle, one hypothesis, one probe pair."""
    one = np.ones((1, 1, 1))
    return OperatingPoints(volts * one, ohms * one, *(np.zeros((1, 1, 0)) for _ in range(3)), np.ones(1, dtype=bool))


def points(volts: float, ohms: float) -> Waves:
    """The same, not changing with time."""
    return steady(at(volts, ohms))


def test_a_voltmeter_cannot_see_fifty_ohms_and_a_lamp_can() -> None:
    meter = display(VOLTMETER, points(12.0, 50.0))
    assert meter.nominal[0, 0] == pytest.approx(12.0, abs=1e-3)
    lamp = display(LAMP_21W, points(12.0, 50.0))
    words = dict(zip(LAMP_21W.words, lamp.words[0, 0], strict=True))
    assert words["off"] > 0.95
    healthy = display(LAMP_21W, points(12.0, 0.05))
    assert healthy.words[0, 0, 0] > 0.95, "bright on a sound feed"
    half = display(LAMP_21W, points(12.0, 5.0))
    assert half.words[0, 0, 1] > 0.8, "dim with the lamp's own resistance in series"


def test_lamp_power_satisfies_the_circuit_equation() -> None:
    share = float(lamp_power_share(LAMP_21W, at(12.0, 5.0))[0, 0, 0])
    watts = share * 21.0
    # P = V·I and V = 12 − 5·I: one of the two roots of 5·I² − 12·I + P = 0, the low-current one.
    amps = (12 - np.sqrt(144 - 20 * watts)) / 10
    volts = 12 - 5 * amps
    ohm2 = (0.1 * 13.5**2 / 21) ** 2 + ((13.5**2 / 21) ** 2 * 0.99) / 13.5**0.9 * volts**0.9
    assert amps == pytest.approx(volts / np.sqrt(ohm2), rel=1e-6)


def test_ohmmeter_words() -> None:
    assert display(OHMMETER, points(0.0, 1e8)).words[0, 0, 0] == 1.0, "OL above its range"
    assert display(OHMMETER, points(0.3, 50.0)).words[0, 0, 1] == 1.0, "volts present"
    assert display(OHMMETER, points(0.0, 50.0)).nominal[0, 0] == pytest.approx(50.0)


def test_a_floating_point_bounces_and_loads_down() -> None:
    shown = display(VOLTMETER, points(12.0, 1e7))
    assert shown.floating[0, 0] == 1.0
    assert shown.words[0, 0, 0] > 0.4
    assert shown.nominal[0, 0] == pytest.approx(6.0)


def test_unknown_instrument_names_the_known_ones() -> None:
    with pytest.raises(UnknownReferenceError, match="voltmeter"):
        instrument("oracle")
    assert {"voltmeter", "ohmmeter", "lamp-5w", "lamp-21w", "senses"} == set(ORDINARY) < set(INSTRUMENTS)
