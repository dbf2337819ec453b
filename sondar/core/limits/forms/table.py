"""Bounds that depend on the temperature of the part."""

from __future__ import annotations

import bisect
from collections.abc import Callable, Sequence
from typing import Any

from pydantic import Field

from sondar.core.circuit.families.base import Fields
from sondar.core.limits.conformity import Conformity, Measured, conformity
from sondar.core.limits.forms.base import Context, Judging, as_range, sure


class TableFields(Fields):
    """Fields of a limit by temperature."""

    table: list[tuple[float, float, float]] = Field(
        default_factory=list, description="Or rows of temperature in °C, least, most; between rows by straight lines."
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
        return as_range(*from_table(limit.table, context.temperature_c), figure)

    def judge(self, limit: Any, measured: Measured | None, word: str | None, context: Context) -> Conformity:
        return sure(False) if measured is None else conformity(measured, *from_table(limit.table, context.temperature_c))


def from_table(rows: Sequence[tuple[float, float, float]], temperature_c: float) -> tuple[float, float]:
    """Least and most at a temperature by straight lines between the rows (temperature, least, most); the end rows hold beyond."""
    at = [row[0] for row in rows]
    right = bisect.bisect_left(at, temperature_c)
    if right == 0:
        return rows[0][1], rows[0][2]
    if right == len(rows):
        return rows[-1][1], rows[-1][2]
    (cold, *low), (hot, *high) = rows[right - 1], rows[right]
    share = (temperature_c - cold) / (hot - cold)
    return tuple(a + share * (b - a) for a, b in zip(low, high, strict=True))  # type: ignore[return-value]
