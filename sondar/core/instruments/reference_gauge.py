"""Reference gauge: an independent gauge or thermometer against what a sensor claims."""

from __future__ import annotations

from sondar.core.circuit.families.base import SYSTEM
from sondar.core.circuit.model import Fault
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.base import Discovery, Test
from sondar.core.instruments.finding import Finding, Place, is_replaceable
from sondar.core.instruments.gauge_figures import agree
from sondar.core.quantities import Entry

RIGHT = 0.9
"""Chance that a gauge tells a sensor that lies from a system that really is so."""


class ReferenceGauge(Finding):
    """Does the sensor agree with a gauge?"""

    id = "reference-gauge"
    title = "Reference gauge"
    minutes = 3.0
    words = ("agrees", "differs")
    synonyms = {"yes": "agrees", "same": "agrees", "no": "differs", "different": "differs"}

    def understand(self, text: str) -> Entry:
        same = agree(text)
        return super().understand(text) if same is None else Entry(None, 0.0, self.words[0 if same else 1], None)

    def expected_entry(self) -> str:
        return f"{super().expected_entry()}, or both figures with their unit, e.g. 103 kPa against 98"

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        senses = any(fault.part == ref and fault.unit == ref + SYSTEM for fault in circuit.faults.values())
        return is_replaceable(circuit, ref) and senses and circuit.parts[ref].acts(ref, circuit.rest_setup()) is None

    def chance(self, circuit: Circuit, place: Place, fault: Fault | None) -> float:
        return RIGHT if fault is None or fault.group in ("system", "setting") else 1.0 - RIGHT

    def discovered(self, discovery: Discovery, luck: float) -> bool:
        truly_so = all(fault.group == "system" for fault in discovery.everything)
        return truly_so == (luck < 0.92)

    def where(self, circuit: Circuit, test: Test) -> str:
        title = circuit.point(test.red).title
        return f"Measure with an independent gauge or thermometer what {title} claims, and compare. Both may be entered: 103 kPa against 98."
