"""Results of monitors with their limits, as bytes and as what they mean."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sondar.core.monitor_results import SCALES, MonitorResult, result_bytes, results


def test_two_results_of_one_answer_by_hand() -> None:
    """A catalyst at 0.94 of at most 1.0 (ratio, 0.0000305 a bit), and a pressure of −0.11 within ± 0.4 kPa (signed, 0.001 a bit)."""
    ratio, most = round(0.94 / 0.0000305), round(1.0 / 0.0000305)
    raw = bytes([0x21, 0x80, 0x1E]) + ratio.to_bytes(2, "big") + b"\x00\x00" + most.to_bytes(2, "big")
    raw += (
        bytes([0x3B, 0x81, 0xFD])
        + (0x10000 - 110).to_bytes(2, "big")
        + (0x10000 - 400).to_bytes(2, "big")
        + (400).to_bytes(2, "big")
    )
    catalyst, leak = results(raw)
    assert (catalyst.title, catalyst.unit) == ("Catalyst, bank 1, test 80", "")
    assert catalyst.value == pytest.approx(0.94, abs=1e-4)
    assert catalyst.passed
    assert catalyst.margin == pytest.approx(0.06, abs=1e-3), "close to its only limit"
    assert (leak.value, leak.least, leak.most, leak.unit) == (-0.11, -0.4, 0.4, "kPa")
    assert leak.margin == pytest.approx(0.3625)


@given(
    st.lists(
        st.tuples(st.integers(1, 255), st.integers(0, 255), st.sampled_from(sorted(SCALES)), *[st.integers(0, 0xFFFF)] * 3),
        max_size=6,
    )
)
def test_any_bytes_come_back(rows: list[tuple[int, int, int, int, int, int]]) -> None:
    raw = b"".join(bytes(row[:3]) + b"".join(figure.to_bytes(2, "big") for figure in row[3:]) for row in rows)
    assert result_bytes(results(raw)) == raw


def test_a_result_outside_failed_one_of_zeros_has_not_run_and_an_unknown_scale_is_said() -> None:
    failed = MonitorResult(0x41, 0x83, 0x14, 15.0, 4.0, 12.0)
    assert not failed.passed
    assert failed.margin < 0
    assert not MonitorResult(0x41, 0x83, 0x14, 0.0, 0.0, 0.0).has_run
    odd = results(bytes([0xE7, 0x90, 0x77, 0, 5, 0, 1, 0, 9]))[0]
    assert (odd.title, odd.value) == ("Monitor E7, test 90", 5.0)
    assert "77 is not known here" in odd.unit


def test_a_limit_at_the_end_of_the_range_is_none() -> None:
    purge = MonitorResult(0x3D, 0x82, 0x17, 0.86, 0.4, 655.35)
    assert purge.margin == 1.0
    counted = MonitorResult(0xA2, 0x0B, 0x24, 2.0, 0.0, 65535.0)
    assert counted.passed
    assert counted.margin == 1.0
    low = MonitorResult(0x3D, 0x82, 0x17, 0.42, 0.4, 655.35)
    assert low.margin == pytest.approx(0.05)


def test_an_answer_that_is_cut_off_is_refused() -> None:
    with pytest.raises(ValueError, match="9 bytes each"):
        results(b"\x21\x80\x1e\x00")
