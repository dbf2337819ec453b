"""An estimate: lines of labour, parts and other costs, with discount and tax, to the cent as an invoice program adds them up.

Every line is rounded to the cent before it is added; tax is worked out once, on the net sum after the discount.
"""

from __future__ import annotations

import csv
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import ROUND_HALF_UP, Decimal, InvalidOperation
from typing import Final, Literal

Kind = Literal["labour", "part", "other"]
KINDS: Final = ("labour", "part", "other")
CENT: Final = Decimal("0.01")
MOST: Final = Decimal("1000000")


@dataclass(frozen=True)
class Line:
    """One line.

    Attributes:
        amount: hours of labour, pieces of a part. unit_price: in the workshop's currency, without tax.
    """

    what: str
    kind: Kind
    amount: Decimal
    unit_price: Decimal

    @property
    def price(self) -> Decimal:
        """What the line comes to."""
        return _cents(self.amount * self.unit_price)


@dataclass(frozen=True)
class Totals:
    """What an estimate comes to."""

    labour: Decimal
    parts: Decimal
    other: Decimal
    discount: Decimal
    net: Decimal
    tax: Decimal
    gross: Decimal


def totals(lines: Sequence[Line], discount_percent: Decimal, tax_percent: Decimal) -> Totals:
    """Sums by kind, the discount on all of it, and the tax on what is left."""
    sums = {kind: sum((line.price for line in lines if line.kind == kind), Decimal(0)) for kind in KINDS}
    whole = sum(sums.values(), Decimal(0))
    discount = _cents(whole * discount_percent / 100)
    net = whole - discount
    tax = _cents(net * tax_percent / 100)
    return Totals(sums["labour"], sums["part"], sums["other"], discount, net, tax, net + tax)


def _cents(value: Decimal) -> Decimal:
    return value.quantize(CENT, ROUND_HALF_UP)


def number(text: str, most: Decimal = MOST) -> Decimal:
    """A figure as people write it: ``1.5``, ``1,5``, ``1 200.00``.

    Raises:
        ValueError: no such figure, negative, or absurdly large.
    """
    plain = text.replace("\u00a0", "").replace(" ", "")
    if plain.count(",") == 1 and "." not in plain:
        plain = plain.replace(",", ".")
    try:
        value = Decimal(plain)
    except InvalidOperation as error:
        raise ValueError(f"'{text[:20]}' is no figure: write it as 1.5 or 120") from error
    if not value.is_finite() or not 0 <= value <= most:
        raise ValueError(f"'{text[:20]}' is not between 0 and {most:,}")
    return value


def as_csv(lines: Sequence[Line], found: Totals, currency: str, head: Sequence[tuple[str, str]]) -> str:
    """The lines for an invoice program: comma-separated, decimal point, one row per line, sums at the end (RFC 4180).

    Args:
        head: what stands in every row before the line, such as the job's number: (title, value).
    """
    held = _Text()
    out = csv.writer(held)
    out.writerow([*(title for title, _ in head), "kind", "what", "amount", "unit", "unit price", "price", "currency"])
    fixed = [_harmless(value) for _, value in head]
    for line in lines:
        unit = {"labour": "h", "part": "piece", "other": ""}[line.kind]
        out.writerow(
            [*fixed, line.kind, _harmless(line.what), f"{line.amount:f}", unit, f"{line.unit_price:f}", f"{line.price:f}", currency]
        )
    for what, price in (("discount", -found.discount), ("net", found.net), ("tax", found.tax), ("gross", found.gross)):
        out.writerow([*fixed, "sum", what, "", "", "", f"{price:f}", currency])
    return "".join(held.written)


class _Text:
    """Takes what a writer writes."""

    def __init__(self) -> None:
        self.written: list[str] = []

    def write(self, text: str) -> None:
        """One row more."""
        self.written.append(text)


def _harmless(text: str) -> str:
    """Text that no spreadsheet takes for a formula."""
    return f"'{text}" if text[:1] in "=+-@\t\r" else text
