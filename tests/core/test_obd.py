"""Numbers, scales and bits of ISO 15031-5: worked by hand from the standard's own layout, and both ways."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sondar.core.obd import (
    COMPRESSION,
    CONTINUOUS,
    FIGURES,
    SPARK,
    Readiness,
    divided,
    readiness,
    readiness_bytes,
    supported_after,
    supported_bytes,
)


@pytest.mark.parametrize(
    ("number", "raw", "value"),
    [
        (0x05, "7B", 83.0), (0x0C, "1AF8", 1726.0), (0x0D, "32", 50.0), (0x0F, "00", -40.0), (0x06, "80", 0.0), (0x06, "00", -100.0),
        (0x0E, "80", 0.0), (0x10, "01F4", 5.0), (0x11, "FF", 100.0), (0x42, "36B0", 14.0), (0x32, "FFFC", -1.0), (0x33, "65", 101.0),
        (0x44, "8000", 1.0), (0x5E, "0014", 1.0),
    ],
)  # fmt: skip
def test_figures(number: int, raw: str, value: float) -> None:
    assert FIGURES[number].value(bytes.fromhex(raw)) == pytest.approx(value, abs=1e-3)
    assert FIGURES[number].raw(value).hex().upper() == raw


@given(st.sampled_from(sorted(FIGURES)), st.binary(min_size=2, max_size=2))
def test_every_figure_goes_both_ways(number: int, raw: bytes) -> None:
    figure = FIGURES[number]
    assert figure.raw(figure.value(raw)) == raw[: figure.length]


def test_a_figure_beyond_its_range_stands_at_the_end() -> None:
    assert FIGURES[0x05].raw(300.0) == b"\xff"
    assert FIGURES[0x05].raw(-60.0) == b"\x00"


def test_readiness_of_spark_ignition() -> None:
    # Lamp on, two codes; misfire and fuel system supported, fuel system outstanding; catalyst and oxygen sensors, the first outstanding.
    found = readiness(bytes([0x82, 0b0010_0011, 0b0010_0001, 0b0000_0001]))
    assert (found.lamp, found.codes, found.compression) == (True, 2, False)
    assert found.monitors == {"misfire": True, "fuel system": False, "catalyst": False, "oxygen sensors": True}
    assert found.outstanding == ["fuel system", "catalyst"]


def test_readiness_of_compression_ignition_has_other_monitors() -> None:
    found = readiness(bytes([0x00, 0b0000_1100, 0b1100_1000, 0b0100_0000]))
    assert found.compression
    assert found.monitors == {
        "comprehensive components": True, "boost pressure": True, "particulate filter": False, "exhaust gas recirculation": True
    }  # fmt: skip


@given(st.booleans(), st.integers(0, 127), st.booleans(), st.data())
def test_readiness_goes_both_ways(lamp: bool, codes: int, compression: bool, data: st.DataObject) -> None:
    names = [*CONTINUOUS, *(name for name in (COMPRESSION if compression else SPARK) if name)]
    monitors = data.draw(st.dictionaries(st.sampled_from(names), st.booleans()))
    made = Readiness(lamp, codes, compression, monitors)
    assert readiness(readiness_bytes(made)) == Readiness(lamp, codes, compression, {n: monitors[n] for n in names if n in monitors})


def test_readiness_that_is_cut_off() -> None:
    with pytest.raises(ValueError, match="four bytes"):
        readiness(b"\x00\x07\x65")


def test_which_numbers_are_supported() -> None:
    assert supported_after(0x00, bytes.fromhex("BE1FA813")) == [
        1, 3, 4, 5, 6, 7, 0x0C, 0x0D, 0x0E, 0x0F, 0x10, 0x11, 0x13, 0x15, 0x1C, 0x1F, 0x20
    ]  # fmt: skip


@given(st.sets(st.integers(1, 0xDF).filter(lambda number: number % 0x20)))
def test_supported_numbers_are_found_again_step_by_step(numbers: set[int]) -> None:
    found, base = set[int](), 0
    while True:
        here = supported_after(base, supported_bytes(base, numbers))
        found |= {number for number in here if number % 0x20}
        if base + 0x20 not in here:
            break
        base += 0x20
    assert found == numbers


def test_an_answer_to_several_numbers_is_divided_whatever_their_order() -> None:
    assert divided(bytes.fromhex("0D320C1AF8"), [0x0C, 0x0D]) == {0x0D: b"\x32", 0x0C: b"\x1a\xf8"}
    assert divided(bytes.fromhex("050032"), [0x05], between=1) == {0x05: b"\x32"}


@pytest.mark.parametrize(("answer", "said"), [("0C1A", "cut off"), ("0D32", "not asked")])
def test_an_answer_that_is_cut_off_or_to_something_else(answer: str, said: str) -> None:
    with pytest.raises(ValueError, match=said):
        divided(bytes.fromhex(answer), [0x0C])
