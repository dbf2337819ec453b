"""Difference to another reading: response to a command, difference to a sibling."""

from __future__ import annotations

import math
from typing import Any

from pydantic import Field

from sondar.core.circuit.families.base import Fields
from sondar.core.limits.conformity import Measured
from sondar.core.limits.forms.base import Context, Converting, NotComparedError, plain_figure


class DifferenceFields(Fields):
    """Fields of a limit of a difference."""

    difference_from: str = Field(
        "", description="Limit whose reading is taken off: response to a command, difference to a sibling."
    )


class Difference(Converting):
    """The reading less that of another limit."""

    def applies(self, limit: Any) -> bool:
        return bool(limit.difference_from)

    def check(self, limit: Any) -> None:
        if limit.difference_from and limit.ratio_to:
            raise ValueError("give either 'ratio_to' or 'difference_from'")

    def refers_to(self, limit: Any) -> str:
        return str(limit.difference_from)

    def convert(self, limit: Any, measured: Measured, shown: str, context: Context) -> tuple[Measured, str]:
        other = context.other(limit.difference_from)
        if other.measured is None:
            raise NotComparedError(f"Read {other.title} too: the two are compared.")
        found = difference(measured, other.measured)
        return found, f"{plain_figure(context.unit, False)(found.value)} from {shown} and {other.label}"


def difference(one: Measured, other: Measured) -> Measured:
    """One value less another measured independently (GUM, 5.1.2)."""
    return Measured(one.value - other.value, math.hypot(one.uncertainty, other.uncertainty))
