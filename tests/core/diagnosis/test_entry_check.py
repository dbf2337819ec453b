"""The order of magnitude is asked about where an error is likely, and nowhere else."""

from __future__ import annotations

import pytest

from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.entry_check import meant_instead
from sondar.core.diagnosis.expected_values import expected_values
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.quantities import parse_entry
from sondar.core.wording.labels import fault_title


def asked(predictor: Predictor, text: str, *, ohms: bool = False) -> str | None:
    circuit, device = predictor.circuit, instrument("ohmmeter" if ohms else "voltmeter")
    # Figures as they are typed, also those that no instrument shows: the core only says what was probably meant.
    entry = device.understand(text) if text in device.words else parse_entry(text)
    if ohms:
        test = Test("ohmmeter", "X3.86/c", "X3.85/c", circuit.setup({}, frozenset({"X3"})))
    else:
        test = Test("voltmeter", "X3.30", circuit.black_reference, circuit.setup({"key": "on"}))
    return meant_instead(predictor, Reading("x", test, entry.value, entry.state, entry.resolution))


@pytest.mark.parametrize("text", ["12.4", "0", "0.01", "0.012", "6", "11.2", "3.1", "unstable", "11.8..12.4"])
def test_what_can_be_is_not_asked_about(fan_predictor: Predictor, text: str) -> None:
    assert asked(fan_predictor, text) is None


@pytest.mark.parametrize(("text", "meant"), [("0.0124", "12.40 V"), ("124", "12.40 V"), ("12400", "12.40 V"), ("12.4k", "12.40 V")])
def test_an_error_of_the_decimal_sign_is_asked_about(fan_predictor: Predictor, text: str, meant: str) -> None:
    assert asked(fan_predictor, text) == meant


@pytest.mark.parametrize(("text", "meant"), [("82k", "82.00 Ω"), ("0.082", "82.00 Ω"), ("82", None), ("OL", None), ("8.2", None)])
def test_so_is_an_error_of_the_prefix(fan_predictor: Predictor, text: str, meant: str | None) -> None:
    assert asked(fan_predictor, text, ohms=True) == meant


@pytest.mark.parametrize("text", ["8.203", "8.063"])
def test_as_many_digits_as_the_display_has_are_no_reason_to_ask(fan_predictor: Predictor, text: str) -> None:
    assert asked(fan_predictor, text, ohms=True) is None


def test_expected_values_are_what_the_suspect_predicts(fan_predictor: Predictor) -> None:
    circuit, belief = fan_predictor.circuit, update(fan_predictor, [])
    running = circuit.setup({"key": "on", "fan": "on"})
    healthy = expected_values(fan_predictor, belief, "none", running)
    assert healthy.suspect.unit == "none"
    assert healthy.volts["X20.1"] == pytest.approx(11.7, abs=0.4)
    blown = expected_values(fan_predictor, belief, "F14", running)
    assert "F14" in fault_title(circuit, blown.suspect)
    floats_or_low = blown.volts["X20.1"]
    assert floats_or_low is None or floats_or_low < 1.0
    with pytest.raises(UnknownReferenceError, match="suspect"):
        expected_values(fan_predictor, belief, "Z9", running)
