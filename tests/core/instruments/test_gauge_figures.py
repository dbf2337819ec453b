"""A gauge's figure against the one that is reported."""

from __future__ import annotations

import pytest

from sondar.core.errors import QuantityError
from sondar.core.instruments import instrument
from sondar.core.instruments.gauge_figures import UNITS, agree


@pytest.mark.parametrize(
    ("text", "same"),
    [
        ("103 kPa against 0.98 bar", True), ("103 kPa against 98", True), ("103 against 60 kPa", False),
        ("29.9 inHg vs 1013 mbar", True), ("14.5 psi against 100 kPa", True), ("14,5 psi ; 70 kPa", False),
        ("212 °F against 98 °C", True), ("212 F vs 60 C", False), ("-10 °C against −8", True), ("4.2 g/s against 15 kg/h", True),
        ("4.2 g/s against 30 kg/h", False), ("820 rpm but 800", True), ("2.1 ms reported 3.0 ms", False), ("12 ° against 13", True),
        ("48 % vs 50 %", True), ("10 inH2O against 25 mbar", True),
    ],
)  # fmt: skip
def test_two_figures_with_units(text: str, same: bool) -> None:
    assert agree(text) is same
    entry = instrument("reference-gauge").understand(text)
    assert (entry.state, entry.value) == ("agrees" if same else "differs", None)


@pytest.mark.parametrize("text", ["agrees", "same", "103 kPa", ""])
def test_what_is_no_pair_is_none(text: str) -> None:
    assert agree(text) is None


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("103 kPa against 98 °C", "one quantity"),
        ("103 against 98", "a unit"),
        ("103 furlong against 98", "a unit"),
        ("103 kPa", "e.g. 103 kPa against"),
    ],
)
def test_what_cannot_be_compared_is_said(text: str, said: str) -> None:
    with pytest.raises(QuantityError) as caught:
        instrument("reference-gauge").understand(text)
    assert said in caught.value.expected


def test_units_by_hand() -> None:
    """NIST SP 811, appendix B.8: 1 psi = 6.894 757 kPa, 1 inHg = 3.386 389 kPa, 1 inH2O = 249.0889 Pa; 32 °F is 0 °C."""
    assert UNITS["psi"][1] == pytest.approx(6894.757)
    assert UNITS["inhg"][1] == pytest.approx(3386.389)
    assert UNITS["inh2o"][1] == pytest.approx(249.0889)
    assert 32 * UNITS["°f"][1] + UNITS["°f"][2] == pytest.approx(0.0, abs=1e-9)
