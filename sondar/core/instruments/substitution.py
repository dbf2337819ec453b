"""Substitution: a known-good part in place of the suspected one."""

from __future__ import annotations

from sondar.core.circuit.families import Contact
from sondar.core.circuit.model import Fault
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.base import Discovery, Test
from sondar.core.instruments.finding import GONE, GONE_BY_CHANCE, REMAINS, RESULT_SYNONYMS, Finding, Place, is_replaceable

GONE_IF_RIGHT, GONE_BY_MOVING = 0.96, 0.25
"""Chance that the fault is gone: the part was at fault, or a contact of its plug was moved while fitting."""


class Substitution(Finding):
    """Is the fault gone with a known-good part?"""

    id = "substitution"
    title = "Substitution, known-good part"
    minutes = 2.0
    words = (GONE, REMAINS)
    synonyms = RESULT_SYNONYMS
    caution = "Substitute no part that is coded, locks the immobiliser or belongs to a restraint system."

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        return is_replaceable(circuit, ref)

    def extra_minutes(self, circuit: Circuit, ref: str) -> float:
        return circuit.parts[ref].fit_min if ref in circuit.parts else 0.0

    def chance(self, circuit: Circuit, place: Place, fault: Fault | None) -> float:
        if fault is None:
            return GONE_BY_CHANCE
        if fault.unit == place.ref:
            return GONE_IF_RIGHT
        part = circuit.parts[fault.part]
        moved = isinstance(part, Contact) and part.connector in circuit.plugs_of(place.ref)
        return GONE_BY_MOVING if moved else GONE_BY_CHANCE

    def discovered(self, discovery: Discovery, luck: float) -> bool:
        return any(fault.unit == discovery.place for fault in discovery.here) and luck < 0.96

    def where(self, circuit: Circuit, test: Test) -> str:
        title = circuit.point(test.red).title
        return f"Fit a known-good part in place of {title} and reproduce the complaint. Check the substitute first."
