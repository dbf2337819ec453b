from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sondar.core.errors import QuantityError
from sondar.core.quantities import format_distance, format_share, format_si, parse_entry, parse_si


@pytest.mark.parametrize(
    ("text", "value", "resolution"),
    [
        ("12.4", 12.4, 0.05),
        ("12,4", 12.4, 0.05),
        ("4k7", 4700.0, 50.0),
        ("50m", 0.05, 0.0005),
        ("1.2 kΩ", 1200.0, 50.0),
        ("−0.3 V", -0.3, 0.05),
        ("85 %", 85.0, 0.5),
        ("2.1kHz", 2100.0, 50.0),
        (".5", 0.5, 0.05),
        ("2M2", 2.2e6, 5e4),
    ],
)
def test_figures_as_they_are_typed(text: str, value: float, resolution: float) -> None:
    entry = parse_entry(text)
    assert entry.value == pytest.approx(value)
    assert entry.resolution == pytest.approx(resolution)


@pytest.mark.parametrize("text", ["", "abc", "12.4.1", "4k7.2", "12 potatoes", "--3", "1.2k3"])
def test_nonsense_is_refused_with_the_text_and_what_was_expected(text: str) -> None:
    with pytest.raises(QuantityError, match="expected") as caught:
        parse_entry(text)
    assert caught.value.text == text


@given(st.floats(min_value=1e-2, max_value=3e7))
def test_what_is_shown_can_be_typed_back(ohms: float) -> None:
    back = parse_entry(format_si(ohms, "Ω", 4)).value
    assert back == pytest.approx(ohms, rel=1e-3)


def test_a_document_value_must_be_a_quantity() -> None:
    assert parse_si("20 mΩ") == pytest.approx(0.02)
    with pytest.raises(ValueError, match="not a number"):
        parse_si("OL")
    with pytest.raises(ValueError, match="expected a number"):
        parse_si(True)


def test_mileage_is_told_in_the_workshops_unit() -> None:
    assert format_distance(120_000, "km") == "120000 km"
    assert format_distance(120_000, "mi") == "74565 miles"


def test_no_share_is_told_as_certain() -> None:
    told = [format_share(v).replace("\u00a0", " ") for v in (0.0, 0.004, 0.5, 0.954, 0.9951, 1.0)]
    assert told == ["under 1 %", "under 1 %", "50 %", "95 %", "over 99 %", "over 99 %"]


@pytest.mark.parametrize(
    ("text", "low", "high"),
    [
        ("11.8-12.4", 11.75, 12.45),
        ("11.8..12.4 V", 11.75, 12.45),
        ("min 0.2 max 4.8", 0.15, 4.85),
        ("0.2/4.8", 0.15, 4.85),
        ("-0.3 to 0.2", -0.35, 0.25),
        ("4.5-4.9k", 4450.0, 4950.0),
        ("12.1±0.3", 11.75, 12.45),
        ("<0.1", 0.0, 0.1),
        ("~12", 11.4, 12.6),
        ("1,2–1,4", 1.15, 1.45),
    ],
)
def test_ranges_and_bounds_leave_open_what_they_say(text: str, low: float, high: float) -> None:
    entry = parse_entry(text)
    assert entry.value is not None
    assert entry.value - entry.resolution == pytest.approx(low)
    assert entry.value + entry.resolution == pytest.approx(high)


@pytest.mark.parametrize(("text", "expected"), [(">10k", "a range"), ("4.8..0.2", "the lower end first"), ("2..x", "a number")])
def test_a_range_that_cannot_be_meant_is_refused(text: str, expected: str) -> None:
    with pytest.raises(QuantityError, match=expected):
        parse_entry(text)
