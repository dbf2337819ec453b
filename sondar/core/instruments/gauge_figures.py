"""Two figures held against one another: what an independent gauge shows, and what the scan tool or the dash reports."""

from __future__ import annotations

import re
from dataclasses import dataclass

from sondar.core.errors import QuantityError


@dataclass(frozen=True)
class Quantity:
    """Something a gauge measures: how far two honest figures of it may be apart, as a share of the larger one or in its own unit."""

    name: str
    share: float
    floor: float


PRESSURE = Quantity("pressure", 0.05, 2e3)
TEMPERATURE = Quantity("temperature", 0.0, 4.0)
FLOW = Quantity("mass flow", 0.1, 1e-3)
SHARE = Quantity("share", 0.0, 4.0)
SPEED = Quantity("speed of rotation", 0.03, 20.0)
TIME = Quantity("time", 0.05, 1e-4)
ANGLE = Quantity("angle", 0.0, 2.0)

UNITS: dict[str, tuple[Quantity, float, float]] = {
    "pa": (PRESSURE, 1.0, 0.0), "hpa": (PRESSURE, 1e2, 0.0), "kpa": (PRESSURE, 1e3, 0.0), "mpa": (PRESSURE, 1e6, 0.0),
    "mbar": (PRESSURE, 1e2, 0.0), "bar": (PRESSURE, 1e5, 0.0), "psi": (PRESSURE, 6894.757, 0.0), "inhg": (PRESSURE, 3386.389, 0.0),
    "inh2o": (PRESSURE, 249.0889, 0.0), "mmh2o": (PRESSURE, 9.80665, 0.0),
    "°c": (TEMPERATURE, 1.0, 0.0), "c": (TEMPERATURE, 1.0, 0.0), "°f": (TEMPERATURE, 5 / 9, -160 / 9), "f": (TEMPERATURE, 5 / 9, -160 / 9),
    "g/s": (FLOW, 1e-3, 0.0), "kg/h": (FLOW, 1 / 3600, 0.0), "%": (SHARE, 1.0, 0.0), "rpm": (SPEED, 1.0, 0.0), "/min": (SPEED, 1.0, 0.0),
    "ms": (TIME, 1e-3, 0.0), "s": (TIME, 1.0, 0.0), "°": (ANGLE, 1.0, 0.0), "deg": (ANGLE, 1.0, 0.0), "degrees": (ANGLE, 1.0, 0.0),
}  # fmt: skip
"""Unit in lower case -> its quantity, factor and offset to SI (°C for temperatures). NIST SP 811, appendix B."""

KNOWN = "kPa, mbar, psi, inHg, inH2O, °C, °F, g/s, kg/h, %, rpm, ms or °"
_FIGURE = r"(?P<{0}>[-−+]?\d+(?:[.,]\d+)?)\s*(?P<{0}_unit>(?:[^\s\d.,;|][^\s;|]*?)?)"
_TWO = re.compile(
    rf"^{_FIGURE.format('gauge')}\s*(?:\s(?:vs\.?|against|but|reported|shown)\s|[;|])\s*{_FIGURE.format('claimed')}$", re.IGNORECASE
)


def agree(text: str) -> bool | None:
    """True if two figures of a text agree, e.g. ``103 kPa against 0.98 bar``; None if it is no such pair.

    Raises:
        QuantityError: the units are not known, or are not of one quantity.
    """
    found = _TWO.match(text.strip())
    if found is None:
        return None
    first, second = found["gauge_unit"].lower(), found["claimed_unit"].lower()
    quantity, gauge = _in_si(found["gauge"], first or second, text)
    other, claimed = _in_si(found["claimed"], second or first, text)
    if quantity != other:
        raise QuantityError(text, f"both figures of one quantity, not a {quantity.name} and a {other.name}")
    return abs(gauge - claimed) <= max(quantity.floor, quantity.share * max(abs(gauge), abs(claimed)))


def _in_si(figure: str, unit: str, text: str) -> tuple[Quantity, float]:
    if unit not in UNITS:
        raise QuantityError(text, f"a unit with the figures: {KNOWN}")
    quantity, factor, offset = UNITS[unit]
    return quantity, float(figure.replace("−", "-").replace(",", ".")) * factor + offset
