"""Bounds that depend on the temperature of the part."""

from __future__ import annotations

import bisect
from collections.abc import Callable, Sequence
from typing import Any

from pydantic import Field

from sondar.core.circuit.families.base import Fields
from sondar.core.limits.conformity import Conformity, Measured, conformity
from sondar.core.limits.forms.base import OHM, Context, Judging, as_range, least_of, sure

KELVIN = 273.15


class TableFields(Fields):
    """Fields of a limit by temperature."""

    table: list[tuple[float, float, float]] = Field(
        default_factory=list,
        description="Or rows of temperature in °C, least, most; between rows ohms follow ln R over 1/T, others straight lines.",
    )


class Table(Judging):
    """The value lies between least and most at the part's temperature."""

    def applies(self, limit: Any) -> bool:
        return bool(limit.table)

    def check(self, limit: Any) -> None:
        rows = limit.table
        if any(low > high for _, low, high in rows) or [r[0] for r in rows] != sorted({r[0] for r in rows}):
            raise ValueError("'table' needs rising temperatures, and least before most in each row")

    def expected(self, limit: Any, context: Context, figure: Callable[[float], str]) -> str:
        return as_range(*from_table(limit.table, context.temperature_c, ohms=context.unit == OHM), figure)

    def judge(self, limit: Any, measured: Measured | None, word: str | None, context: Context) -> Conformity:
        return (
            sure(False)
            if measured is None
            else conformity(
                measured, *from_table(limit.table, context.temperature_c, ohms=context.unit == OHM), least=least_of(context)
            )
        )


def from_table(rows: Sequence[tuple[float, float, float]], temperature_c: float, *, ohms: bool) -> tuple[float, float]:
    """Least and most at a temperature between the rows (temperature, least, most); the end rows hold beyond.

    Resistances by straight lines of ln R over 1/T, which is what a thermistor follows (B-parameter equation, IEC 60539-1): a chord of
    the curve itself lies up to a tenth too high between rows 20 K apart. Anything else by straight lines.
    """
    at = [row[0] for row in rows]
    right = bisect.bisect_left(at, temperature_c)
    if right == 0:
        return rows[0][1], rows[0][2]
    if right == len(rows):
        return rows[-1][1], rows[-1][2]
    (cold, *low), (hot, *high) = rows[right - 1], rows[right]
    if ohms and min(*low, *high) > 0.0:
        share = (1.0 / (temperature_c + KELVIN) - 1.0 / (cold + KELVIN)) / (1.0 / (hot + KELVIN) - 1.0 / (cold + KELVIN))
        return tuple(a * (b / a) ** share for a, b in zip(low, high, strict=True))  # type: ignore[return-value]
    share = (temperature_c - cold) / (hot - cold)
    return tuple(a + share * (b - a) for a, b in zip(low, high, strict=True))  # type: ignore[return-value]
