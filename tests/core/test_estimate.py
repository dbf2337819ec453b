"""An estimate adds up to the cent, whatever is written."""

from __future__ import annotations

import csv
import io
from decimal import Decimal
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sondar.core.estimate import Line, as_csv, number, totals

LINES = [
    Line("Repair wire W2", "labour", Decimal("0.75"), Decimal("92.50")),
    Line("Splice set", "part", Decimal(2), Decimal("3.335")),
    Line("Waste", "other", Decimal(1), Decimal("4")),
]


def test_sums_discount_and_tax() -> None:
    found = totals(LINES, Decimal(10), Decimal(19))
    assert (found.labour, found.parts, found.other) == (Decimal("69.38"), Decimal("6.67"), Decimal("4.00"))
    assert found.discount == Decimal("8.01")  # of 80.05
    assert (found.net, found.tax, found.gross) == (Decimal("72.04"), Decimal("13.69"), Decimal("85.73"))


def test_nothing_comes_to_nothing() -> None:
    assert totals([], Decimal(0), Decimal(19)).gross == 0


@given(
    st.lists(st.tuples(st.sampled_from(["labour", "part", "other"]), st.integers(0, 9999), st.integers(0, 99999)), max_size=12),
    st.integers(0, 100), st.integers(0, 30),
)  # fmt: skip
def test_every_sum_is_within_half_a_cent_of_what_it_rounds(rows: list[tuple[str, int, int]], discount: int, tax: int) -> None:
    lines = [Line("x", kind, Decimal(a) / 100, Decimal(p) / 100) for kind, a, p in rows]  # type: ignore[arg-type]
    found = totals(lines, Decimal(discount), Decimal(tax))
    exact = sum((Fraction(a, 100) * Fraction(p, 100) for _, a, p in rows), Fraction(0))
    assert abs(Fraction(found.labour + found.parts + found.other) - exact) <= Fraction(len(rows), 200)
    assert abs(Fraction(found.tax) - Fraction(found.net) * tax / 100) <= Fraction(1, 200)
    assert found.gross == found.net + found.tax


@pytest.mark.parametrize(("text", "value"), [("1.5", "1.5"), ("1,5", "1.5"), ("1 200.00", "1200.00"), (" 0 ", "0")])
def test_figures_as_people_write_them(text: str, value: str) -> None:
    assert number(text) == Decimal(value)


@pytest.mark.parametrize("text", ["", "two", "-1", "NaN", "Infinity", "1e9", "1,2,3", "1.000.000,00"])
def test_what_is_no_figure_is_refused(text: str) -> None:
    with pytest.raises(ValueError, match=r"figure|between"):
        number(text)


def test_the_lines_come_out_for_an_invoice_program() -> None:
    text = as_csv(
        [*LINES, Line("=1+1", "part", Decimal(1), Decimal(1))],
        totals(LINES, Decimal(0), Decimal(0)),
        "EUR",
        [("job", "12"), ("plate", "PA 40, LSK")],
    )
    rows = list(csv.DictReader(io.StringIO(text)))
    assert [row["plate"] for row in rows] == ["PA 40, LSK"] * 8
    assert rows[0]["price"] == "69.38"
    assert rows[3]["what"] == "'=1+1"
    assert [row["what"] for row in rows[4:]] == ["discount", "net", "tax", "gross"]
    assert rows[-1]["price"] == "80.05"
