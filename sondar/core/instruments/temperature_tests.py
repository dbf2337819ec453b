"""Warm air and cold spray at one place while a reading is watched: what comes and goes with temperature."""

from __future__ import annotations

from typing import ClassVar

from sondar.core.circuit.families import Wire
from sondar.core.circuit.model import Fault
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.base import Discovery, Test
from sondar.core.instruments.finding import Finding, Place

REACTS, REACTS_NEAR, REACTS_ELSEWHERE = 0.3, 0.1, 0.02
"""Chance that a reading reacts when a place is warmed or cooled: an intermittent fault in it, one that ends at it, anything else."""


class TemperatureTest(Finding):
    """Does the reading react when one place changes its temperature?"""

    provokes: ClassVar[str]
    how: ClassVar[str]
    """What is done to the place, ``{}`` standing for it."""

    minutes = 2.0
    words = ("reacts", "steady")
    synonyms = {"moves": "reacts", "jumps": "reacts", "yes": "reacts", "no": "steady", "no reaction": "steady"}

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        if ref in circuit.document.connectors or ref in circuit.document.modules:
            return True
        part = circuit.parts.get(ref)
        return part is not None and ref != circuit.battery and part.module is None and not isinstance(part, Wire)

    def chance(self, circuit: Circuit, place: Place, fault: Fault | None) -> float:
        if fault is None or "stuck" in fault.traits:
            return REACTS_ELSEWHERE
        if fault.part in place.parts or fault.unit == place.ref:
            return REACTS
        return REACTS_NEAR if fault.part in place.near else REACTS_ELSEWHERE

    def discovered(self, discovery: Discovery, luck: float) -> bool:
        here, near = bool(discovery.here), bool(discovery.at_ends)
        return (self.provokes in discovery.provoked and (here or near) and luck < 0.9) or luck < 0.02

    def where(self, circuit: Circuit, test: Test) -> str:
        return f"{self.how.format(circuit.point(test.red).title)} while a reading is watched. Say whether it reacts."


class HeatTest(TemperatureTest):
    """Warm air."""

    id = "heat-test"
    title = "Heat test"
    provokes = "hot"
    how = "Warm {} with hot air for half a minute"
    caution = "Warm air only, no flame: plastic softens and vapour burns. Keep to what the hand still bears."


class ColdTest(TemperatureTest):
    """Cold spray."""

    id = "cold-test"
    title = "Cold test"
    provokes = "cold"
    how = "Cool {} with cold spray"
    caution = "Cold spray burns skin and eyes and may be flammable: key off near vapour, gloves and glasses on."
