"""Figures of a circuit file that nobody knows exactly: a range, or *unknown*, in place of a number.

``coil_ohm: 17 to 35``, ``coil_ohm: {min: 17, max: 35}`` or ``coil_ohm: unknown``. The network is made with the geometric middle; how far
the figure may be from it is a direction like any tolerance (``solving/parameters``), so readings narrow it down. A range counts as a
rectangular distribution of the logarithm (GUM, JCGM 100:2008, 4.3.7).
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from typing import Any

from sondar.core.quantities import parse_si

UNKNOWN = "unknown"
WIDEST = 1e4
"""A range may reach over so many times its lower end; beyond that nothing would be known at all."""

USUAL: Mapping[str, tuple[float, float]] = {
    "coil_ohm": (2.0, 200.0), "resistance_ohm": (1.0, 1e4), "pull_ohm": (500.0, 2e4), "on_ohm": (0.01, 1.0), "armature_ohm": (0.1, 5.0),
    "rated_w": (2.0, 100.0), "r25_ohm": (500.0, 2e4), "total_ohm": (500.0, 1e4), "output_ohm": (10.0, 5e3), "shunt_ohm": (10.0, 1e3),
    "length_m": (0.3, 6.0), "gauge_mm2": (0.35, 2.5), "draw_a": (0.003, 0.05),
}  # fmt: skip
"""What good parts of vehicles have, for fields that nobody knows."""

FIGURES = {
    "coil_ohm": ("Coil resistance", "Ω"), "resistance_ohm": ("Resistance", "Ω"), "pull_ohm": ("Pull resistor in the module", "Ω"),
    "on_ohm": ("Resistance when on", "Ω"), "armature_ohm": ("Armature resistance", "Ω"), "rated_w": ("Rated power", "W"),
    "r25_ohm": ("Resistance at 25 °C", "Ω"), "total_ohm": ("Track resistance", "Ω"), "draw_a": ("Current drawn", "A"), "rating_a": ("Rating", "A"),
}  # fmt: skip
"""Figures of parts that makers publish: what they are called, and their unit."""

_RANGE = re.compile(r"^\s*(.+?)\s*(?:\bto\b|–|\.\.)\s*(.+?)\s*$")


def as_range(field: str, value: Any) -> tuple[float, float] | None:
    """Both ends of a range or of what is usual for the field; None for anything that is a figure by itself.

    Raises:
        ValueError: a range that cannot be meant, or an unknown figure of which nothing usual is known.
    """
    if isinstance(value, Mapping) and set(value) == {"min", "max"}:
        low, high = parse_si(value["min"]), parse_si(value["max"])
    elif isinstance(value, str) and value.strip().lower() == UNKNOWN:
        if field not in USUAL:
            raise ValueError(f"what is usual for '{field}' is not known: give a range such as 2 to 5")
        return USUAL[field]
    elif isinstance(value, str) and (found := _RANGE.match(value)):
        low, high = parse_si(found.group(1)), parse_si(found.group(2))
    else:
        return None
    if not 0.0 < low < high <= WIDEST * low:
        raise ValueError(f"a range goes from above 0 upwards, at most to {WIDEST:g} times as much; give the smaller figure first")
    return low, high


def taken_out(data: Any, numbers: frozenset[str]) -> Any:
    """The fields of a part with every range replaced by its middle, and ``doubts`` filled in: field -> standard deviation of its logarithm.

    Raises:
        ValueError: see ``as_range``; names the field.
    """
    if not isinstance(data, Mapping):
        return data
    if "doubts" in data:
        raise ValueError("doubts: filled in by the reader; give the range at the figure itself, such as 'coil_ohm: 17 to 35'")
    made, doubts = dict(data), dict[str, float]()
    for field in numbers & made.keys():
        try:
            ends = as_range(field, made[field])
        except ValueError as error:
            raise ValueError(f"{field}: {error}") from error
        if ends is not None:
            made[field] = math.sqrt(ends[0] * ends[1])
            doubts[field] = math.log(ends[1] / ends[0]) / math.sqrt(12.0)
    return {**made, "doubts": doubts} if doubts else data
