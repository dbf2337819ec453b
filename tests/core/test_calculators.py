"""The sums, each against a figure reckoned by hand or taken from its standard's own example."""

from __future__ import annotations

import math
import re
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sondar.core.calculators import CALCULATORS, work_out
from sondar.core.errors import QuantityError, SondarError, UnknownReferenceError


def values(panel: str, **typed: str) -> list[float | None]:
    return [item.value for item in work_out(panel, typed)]


BY_HAND = [
    ("source-resistance", {"open": "12.4", "loaded": "11.8", "amps": "1.2"}, [0.6, 0.5, 0.72]),
    ("divider", {"supply": "5", "top": "1k", "bottom": "1k", "meter": "1k"}, [2.5, 5 / 3]),
    ("pull-up", {"supply": "5", "pull": "2k2", "signal": "2.5"}, [2200.0]),
    ("ohm", {"volts": "12", "watts": "21"}, [12.0, 1.75, 12 / 1.75, 21.0]),
    ("ohm", {"ohms": "4", "watts": "16"}, [8.0, 2.0, 4.0, 16.0]),
    ("ohm", {"amps": "2", "ohms": "3"}, [6.0, 2.0, 3.0, 12.0]),
    ("copper", {"ohms": "100", "at": "20", "to": "120", "now": "139.3"}, [100.0, 139.3, 120.0]),
    ("ntc", {"r25": "10k", "beta": "3977", "at": "25", "ohms": "10k"}, [10_000.0, 25.0]),
    ("ntc", {"r25": "10k", "beta": "3977", "at": "100"}, [10_000 * math.exp(3977 * (1 / 373.15 - 1 / 298.15))]),
    ("ratiometric", {"signal": "2.4", "reference": "4.8", "share_low": "10", "share_high": "90", "low": "0", "high": "200"}, [50, 2.5, 100]),
    ("pulse", {"high": "12", "low": "0", "duty": "25", "hertz": "100"}, [3.0, 12 * math.sqrt(0.1875), 6.0, 2.5, 10.0]),
    ("parallel", {"one": "120", "two": "120", "seen": "40"}, [60.0, 120.0]),
    ("meter-error", {"reading": "12.4", "percent": "0.5", "counts": "2", "digit": "0.01"}, [0.082, 0.082 / math.sqrt(3), None]),
    ("wire", {"mm2": "0.5", "length": "3", "at": "20", "amps": "5"}, [0.1068, 20, 0.534, 2.67]),
    ("orifice", {"diameter_mm": "1", "pressure": "2500", "at": "20", "flow": "1.8507"}, [1.8507, 0.037141, 1.0]),
    # Choked: ṁ = C_d·A·p₁·√(κ ÷ R·T)·(2 ÷ (κ + 1))³, ISO 9300
    ("orifice", {"diameter_mm": "1", "pressure": "300000", "at": "20"}, [22.615, 0.45385, None]),
    ("leak-rate", {"litres": "20", "before": "2500", "after": "2100", "seconds": "100"}, [0.08, 0.08 / 101325 * 6e4]),
    # 2 K warmer: 103,425 Pa · 293.15 ÷ 295.15 − 101,325 Pa = 1399.2 Pa, so more has gone than the gauge says
    ("leak-rate", {"litres": "20", "before": "2500", "after": "2100", "seconds": "100", "at_before": "20", "at_after": "22"},
     [1399.17, 0.220166, 0.220166 / 101325 * 6e4]),
    ("units", {"pressure": "100000"}, [1e5, 100, 1, 1000, 14.5038, 10197.2, 29.5300]),
    ("units", {"celsius": "100", "km": "1.609344"}, [212.0, 1.0]),
]  # fmt: skip


@pytest.mark.parametrize(("panel", "typed", "expected"), BY_HAND)
def test_by_hand(panel: str, typed: dict[str, str], expected: list[float | None]) -> None:
    found = values(panel, **typed)
    assert len(found) == len(expected)
    for got, want in zip(found, expected, strict=True):
        assert (got is None) == (want is None)
        if got is not None and want is not None:
            assert got == pytest.approx(want, rel=2e-3)


@pytest.mark.parametrize("panel", list(CALCULATORS.values()), ids=lambda p: p.id)
def test_every_panel_works_as_it_opens_and_says_where_its_formula_stands(panel: object) -> None:
    found = CALCULATORS[panel.id]  # type: ignore[attr-defined]
    assert found.source
    assert found.formula
    results = work_out(found.id, {item.name: item.default for item in found.inputs})
    assert results
    assert all(item.text for item in results)


@pytest.mark.parametrize(
    ("panel", "typed", "message"),
    [
        ("source-resistance", {"open": "12", "loaded": "11", "amps": "0"}, "above 0"),
        ("source-resistance", {"open": "12", "loaded": "11"}, "a value for load current"),
        ("source-resistance", {"open": "11.8", "loaded": "12.4", "amps": "1"}, "not above that without"),
        ("leak-rate", {"litres": "20", "before": "2500", "after": "2100", "seconds": "100", "at_after": "22"}, "both temperatures"),
        ("pull-up", {"supply": "5", "pull": "2k", "signal": "5"}, "below the supply"),
        ("ohm", {"volts": "1"}, "exactly two"),
        ("ohm", {"volts": "0", "watts": "5"}, "divide by"),
        ("pulse", {"high": "12", "low": "0", "duty": "120", "hertz": "50"}, "0 to 100"),
        ("parallel", {"one": "5"}, "at least two"),
        ("divider", {"supply": "5 A", "top": "1k", "bottom": "1k"}, "V for supply"),
        ("ntc", {"r25": "2k", "beta": "3500"}, "a temperature or a resistance"),
        ("units", {}, "one value"),
        (
            "ratiometric",
            {"signal": "OL", "reference": "5", "share_low": "1", "share_high": "2", "low": "0", "high": "1"},
            "a number",
        ),
    ],
)
def test_what_makes_no_sense_is_said(panel: str, typed: dict[str, str], message: str) -> None:
    with pytest.raises(QuantityError, match=message):
        work_out(panel, typed)


def test_unknown_panels_and_fields_are_named() -> None:
    with pytest.raises(UnknownReferenceError, match="no calculator"):
        work_out("horoscope", {})
    with pytest.raises(UnknownReferenceError, match="field"):
        work_out("ohm", {"stars": "1"})


@given(
    st.sampled_from(list(CALCULATORS)),
    st.lists(st.sampled_from(["", "0", "-1", "5", "1e9", "OL", "4k7", "1..2", "x"]), min_size=8, max_size=8),
)
def test_any_input_gives_finite_results_or_a_reason(panel: str, typed: list[str]) -> None:
    fields = {item.name: text for item, text in zip(CALCULATORS[panel].inputs, typed, strict=False)}
    try:
        results = work_out(panel, fields)
    except SondarError:
        return
    assert all(item.value is None or math.isfinite(item.value) for item in results)


def test_an_engine_draws_what_its_displacement_speed_and_pressure_say() -> None:
    expected, shown = work_out("air-mass", {"litres": "2.0", "rpm": "3000", "kpa": "100", "at": "20", "measured": "30"})
    low, high = (float(word) for word in expected.text.removesuffix(" g/s").split(" … "))
    assert low == pytest.approx(0.75 * 0.002 * 25 * 100e3 / (287.05 * 293.15) * 1e3, rel=0.01)
    assert high / low == pytest.approx(0.95 / 0.75, rel=0.02)
    assert shown.text.startswith("33 % below")
    assert (
        work_out("air-mass", {"litres": "2.0", "rpm": "3000", "kpa": "100", "at": "20", "measured": "50"})[1].text == "as expected"
    )


@pytest.mark.parametrize(
    ("flows", "metered", "said"),
    [
        ((3.0, 12.0, 60.0), lambda m: m - 0.8, "not measured"),
        ((3.0, 12.0, 60.0), lambda m: m * (1.0 - 0.004 * m), "grow|dirty sensor"),
        ((3.0, 12.0, 60.0), lambda m: m * 0.85, "everywhere"),
        ((3.0, 12.0, 60.0), lambda m: m * 1.02, "healthy"),
    ],
)
def test_trims_follow_from_what_is_metered(flows: tuple[float, ...], metered: Callable[[float], float], said: str) -> None:
    idle, part, load = (100.0 * (flow / metered(flow) - 1.0) for flow in flows)
    points, because = work_out("trims", {"idle": f"{idle:.1f}", "part": f"{part:.1f}", "load": f"{load:.1f}"})
    assert re.search(said, points.text), (idle, part, load, points.text)
    assert because.text
