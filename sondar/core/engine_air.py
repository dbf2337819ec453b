"""How much air an engine must draw, and what fuel trims over load say: the plausibility of an air mass signal without taking anything apart."""

from __future__ import annotations

from dataclasses import dataclass

GAS_CONSTANT_AIR = 287.05
"""Specific gas constant of dry air in J/(kg·K)."""
KELVIN = 273.15
FILLED = (0.75, 0.95)
"""Share of its displacement that a healthy unboosted engine draws at the pressure in its manifold, where nobody knows better (Heywood,
*Internal Combustion Engine Fundamentals*, ch. 6.2)."""
MATTERS_PERCENT = 8.0
"""A trim, or a change of trims, below this is within what healthy engines do."""


def drawn_kg_s(displacement_m3: float, rpm: float, manifold_pa: float, air_c: float, filled: float) -> float:
    """Air drawn by a four-stroke engine in kg/s: ṁ = η·V·n ÷ 2 · p ÷ (R·T), speed-density (Heywood, eq. 2.27)."""
    return filled * displacement_m3 * rpm / 120.0 * manifold_pa / (GAS_CONSTANT_AIR * (air_c + KELVIN))


@dataclass(frozen=True)
class TrimVerdict:
    """What trims say: in words, and why."""

    words: str
    because: str


def by_trims(idle: float, part: float, load: float) -> TrimVerdict:
    """What three trims in percent (short and long together, both banks alike) point to.

    Air that nobody measured is a fixed amount: its share is largest at idle and shrinks with flow. A hot film that is dirty reads less the
    more flows past it; fuel pressure that sags is short of the more fuel, the more is wanted: both grow with load.
    """
    trims = (idle, part, load)
    if max(abs(t) for t in trims) < MATTERS_PERCENT:
        return TrimVerdict("Trims are within what healthy engines do.", f"all below {MATTERS_PERCENT:g} %")
    if idle >= MATTERS_PERCENT and idle - load >= MATTERS_PERCENT:
        return TrimVerdict(
            "Air that is not measured: a leak behind the air mass sensor.",
            "fuel is added most at idle, and less the more air flows",
        )
    if load >= MATTERS_PERCENT and load - idle >= MATTERS_PERCENT:
        return TrimVerdict(
            "The air mass is read too low (dirty sensor), or fuel pressure sags with demand. The expected air mass tells which.",
            "fuel is added more the more air flows",
        )
    if idle <= -MATTERS_PERCENT and load - idle >= MATTERS_PERCENT:
        return TrimVerdict(
            "Fuel or vapour from somewhere else at idle: purge valve open, injector dripping, oil thinned by fuel.",
            "fuel is taken away at idle only",
        )
    if min(trims) >= MATTERS_PERCENT:
        return TrimVerdict(
            "Too little fuel everywhere, or air read too low by a fixed share: fuel pressure, air mass scaling.",
            "the same correction at any flow",
        )
    if max(trims) <= -MATTERS_PERCENT:
        return TrimVerdict(
            "Too much fuel everywhere, or air read too high: fuel pressure, leaking injectors, air mass scaling.",
            "the same correction at any flow",
        )
    return TrimVerdict(
        "No one cause fits these trims.",
        "they neither grow nor shrink with load; read them again, warm and steady, both banks apart",
    )
