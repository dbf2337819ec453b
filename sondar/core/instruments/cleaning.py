"""Cleaning as a test: contacts, grounds, and parts that are moved."""

from __future__ import annotations

from collections.abc import Mapping

from sondar.core.circuit.families.base import SYSTEM
from sondar.core.circuit.model import Fault
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.base import Discovery, Test
from sondar.core.instruments.finding import GONE, GONE_BY_CHANCE, REMAINS, RESULT_SYNONYMS, Finding, Place, by_trait, is_replaceable

CLEANED: Mapping[str, float] = {"series": 0.8, "open": 0.3, "stuck": 0.5, "weak": 0.3}
"""Chance that cleaning cures a cleanable fault."""


class Cleaning(Finding):
    """Is the fault gone after cleaning?"""

    id = "cleaning"
    title = "Cleaning and retest"
    minutes = 4.0
    words = (GONE, REMAINS)
    synonyms = RESULT_SYNONYMS

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        if ref in circuit.document.connectors:
            return True
        part = circuit.parts.get(ref)
        if part is None or ref == circuit.battery or part.module is not None:
            return False
        if part.GROUP == "wiring":
            return part.access_min is not None
        moves = any(fault.part == ref and fault.unit == ref + SYSTEM for fault in circuit.faults.values())
        return is_replaceable(circuit, ref) and moves and part.acts(ref, circuit.rest_setup()) is not None

    def chance(self, circuit: Circuit, place: Place, fault: Fault | None) -> float:
        if fault is None or "cleanable" not in fault.traits:
            return GONE_BY_CHANCE
        here = fault.part in place.parts and (fault.group == "wiring" or fault.unit == place.ref + SYSTEM)
        return by_trait(CLEANED, fault, GONE_BY_CHANCE) if here else GONE_BY_CHANCE

    def discovered(self, discovery: Discovery, luck: float) -> bool:
        return any("cleanable" in fault.traits for fault in discovery.here) and luck < 0.7

    def where(self, circuit: Circuit, test: Test) -> str:
        return f"Clean {circuit.point(test.red).title} by the manufacturer's method and repeat what failed."
