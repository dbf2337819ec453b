"""Ratio of a reading to another one: to a measured supply, to a sibling."""

from __future__ import annotations

import math
from typing import Any

from pydantic import Field

from sondar.core.circuit.families.base import Fields
from sondar.core.limits.conformity import Measured
from sondar.core.limits.forms.base import Context, Converting, NotComparedError, plain_figure


class RatioFields(Fields):
    """Fields of a limit of a ratio."""

    ratio_to: str = Field("", description="Limit whose reading this one is divided by: a measured supply, a sibling.")


class Ratio(Converting):
    """The reading divided by that of another limit."""

    share = True

    def applies(self, limit: Any) -> bool:
        return bool(limit.ratio_to)

    def refers_to(self, limit: Any) -> str:
        return str(limit.ratio_to)

    def convert(self, limit: Any, measured: Measured, shown: str, context: Context) -> tuple[Measured, str]:
        other = context.other(limit.ratio_to)
        if other.measured is None:
            raise NotComparedError(f"Read {other.title} too: the two are compared.")
        try:
            found = ratio(measured, other.measured)
        except ZeroDivisionError as error:
            raise NotComparedError(f"{other.title} reads zero: nothing to divide by. Find out why first.") from error
        return found, f"{plain_figure('', True)(found.value)} from {shown} and {other.label}"


def ratio(one: Measured, other: Measured) -> Measured:
    """One value divided by another measured independently (GUM, 5.1.6); undefined near a divisor of zero.

    Raises:
        ZeroDivisionError: the divisor is not clear of zero by three standard uncertainties.
    """
    if abs(other.value) <= 3.0 * other.uncertainty:
        raise ZeroDivisionError("the value to divide by is zero within its error")
    value = one.value / other.value
    share = math.hypot(one.uncertainty / max(abs(one.value), 1e-12), other.uncertainty / other.value)
    return Measured(value, max(abs(value) * share, one.uncertainty / abs(other.value)))
