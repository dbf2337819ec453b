"""Least and most."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sondar.core.circuit.families.base import Fields, Quantity
from sondar.core.limits.conformity import Conformity, Measured, conformity
from sondar.core.limits.forms.base import Context, Judging, as_range, least_of, sure


class BoundsFields(Fields):
    """Fields of a limit with bounds."""

    min: Quantity | None = None
    max: Quantity | None = None


class Bounds(Judging):
    """The value lies between ``min`` and ``max``; either may be left out."""

    def applies(self, limit: Any) -> bool:
        return limit.min is not None or limit.max is not None

    def check(self, limit: Any) -> None:
        if limit.min is not None and limit.max is not None and limit.min > limit.max:
            raise ValueError("'min' is above 'max': exchange them")

    def expected(self, limit: Any, context: Context, figure: Callable[[float], str]) -> str:
        return as_range(limit.min, limit.max, figure)

    def judge(self, limit: Any, measured: Measured | None, word: str | None, context: Context) -> Conformity:
        if measured is None:
            return sure(context.over and limit.max is None)
        return conformity(measured, limit.min, limit.max, least=least_of(context))
