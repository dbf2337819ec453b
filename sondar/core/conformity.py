"""Does a value keep its limit? Pass, fail or in doubt, with the chance of being wrong.

A measured value y with standard uncertainty u is a distribution, not a point: the probability that the true value conforms is
p = Φ((high − y)/u) − Φ((low − y)/u) (JCGM 106:2012, eq. 7.3 for a normal distribution). The decision rule is guarded on both
sides (JCGM 106:2012, 8.3): pass from p ≥ 95 %, fail from p ≤ 5 %, between them the reading cannot say.
"""

from __future__ import annotations

import bisect
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from scipy.special import ndtr, ndtri

from sondar.core.circuit.model import COPPER_TEMPERATURE_COEFFICIENT

Decision = Literal["pass", "fail", "in doubt"]

SURE = 0.95
"""Probability at which a limit is called kept, or broken."""


@dataclass(frozen=True)
class Measured:
    """A value in SI units with its standard uncertainty in the same unit."""

    value: float
    uncertainty: float


@dataclass(frozen=True)
class Conformity:
    """A decision on a limit.

    Attributes:
        conforms: probability that the true value keeps the limit.
        wrong: probability that the decision is wrong; for *in doubt* that of the better of the two calls.
        guard: width by which the limits are drawn in before a value passes, in the value's unit.
    """

    decision: Decision
    conforms: float
    wrong: float
    guard: float


def conformity(measured: Measured, low: float | None, high: float | None) -> Conformity:
    """Decide whether a measured value lies within its limits; None is no limit on that side."""
    u = max(measured.uncertainty, 1e-12)
    below = 1.0 if high is None else float(ndtr((high - measured.value) / u))
    under = 0.0 if low is None else float(ndtr((low - measured.value) / u))
    p = min(1.0, max(0.0, below - under))
    decision: Decision = "pass" if p >= SURE else "fail" if p <= 1.0 - SURE else "in doubt"
    return Conformity(decision, p, min(p, 1.0 - p), float(ndtri(SURE)) * u)


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


def difference(one: Measured, other: Measured) -> Measured:
    """One value less another measured independently (GUM, 5.1.2)."""
    return Measured(one.value - other.value, math.hypot(one.uncertainty, other.uncertainty))


def copper_at(measured: Measured, temperature_c: float, target_c: float) -> Measured:
    """Resistance of a copper winding measured at one temperature, as it would be at another.

    R₂ = R₁·(1 + α·(T₂ − 20)) / (1 + α·(T₁ − 20)) with α = 0.00393 1/K at 20 °C (IEC 60028).
    """
    factor = (1.0 + COPPER_TEMPERATURE_COEFFICIENT * (target_c - 20.0)) / (
        1.0 + COPPER_TEMPERATURE_COEFFICIENT * (temperature_c - 20.0)
    )
    return Measured(measured.value * factor, measured.uncertainty * factor)


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
