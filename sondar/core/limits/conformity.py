"""Does a value keep its limit? Pass, fail or in doubt, with the chance of being wrong.

A measured value y with standard uncertainty u is a distribution, not a point: the probability that the true value conforms is
p = Φ((high − y)/u) − Φ((low − y)/u) (JCGM 106:2012, eq. 7.3 for a normal distribution). The decision rule is guarded on both
sides (JCGM 106:2012, 8.3): pass from p ≥ 95 %, fail from p ≤ 5 %, between them the reading cannot say.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from scipy.special import ndtr, ndtri

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


def conformity(measured: Measured, low: float | None, high: float | None, least: float | None = None) -> Conformity:
    """Decide whether a measured value lies within its limits; None is no limit on that side.

    ``least`` is what the quantity cannot be below: what is known of it is then the normal distribution cut off there and scaled to 1
    (JCGM 106:2012, 6.2: prior knowledge), and a lower limit at or below it is none.
    """
    u = max(measured.uncertainty, 1e-12)
    impossible = 0.0 if least is None else min(float(ndtr((least - measured.value) / u)), 1.0 - 1e-9)
    below = 1.0 if high is None else float(ndtr((high - measured.value) / u))
    under = 0.0 if low is None else float(ndtr((low - measured.value) / u))
    p = min(1.0, max(0.0, below - max(under, impossible)) / (1.0 - impossible))
    decision: Decision = "pass" if p >= SURE else "fail" if p <= 1.0 - SURE else "in doubt"
    return Conformity(decision, p, min(p, 1.0 - p), float(ndtri(SURE)) * u)
