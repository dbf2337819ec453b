from __future__ import annotations

import pytest

from sondar.core.vin import check_digit, vin_problem, vin_warning


def test_the_check_digit_of_the_standards_example() -> None:
    """All ones is the well-known self-check: 1 × (sum of weights = 89) mod 11 = 1."""
    assert check_digit("11111111111111111") == "1"
    assert vin_warning("11111111111111111") is None
    assert "would be 1" in (vin_warning("11111111211111111") or "")


@pytest.mark.parametrize(("vin", "words"), [("WHD", "17 characters"), ("WHDTRN1700000120O", "no O"), ("whdtrn17000001203", "no d")])
def test_a_wrong_form_is_named(vin: str, words: str) -> None:
    assert words in (vin_problem(vin) or "")


def test_ten_is_written_x() -> None:
    found = {check_digit(f"{first}1111111111111111") for first in "123456789ABCDEFGHJKLMNPRSTUVWXYZ"}
    assert "X" in found
