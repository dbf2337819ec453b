"""Wiggle test: a connector and its harness are moved while a reading is watched."""

from __future__ import annotations

from sondar.core.circuit.model import Fault
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.base import Discovery, Test
from sondar.core.instruments.finding import Finding, Place

REACTS, REACTS_NEAR, REACTS_ELSEWHERE = 0.35, 0.15, 0.02
"""Chance that a reading moves when a connector is wiggled: a bad contact in it, a broken wire at it, anything else."""


class WiggleTest(Finding):
    """Does the reading react?"""

    id = "wiggle-test"
    title = "Wiggle test"
    minutes = 1.0
    words = ("reacts", "steady")
    synonyms = {"moves": "reacts", "jumps": "reacts", "yes": "reacts", "no": "steady", "no reaction": "steady"}

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        return ref in circuit.document.connectors

    def chance(self, circuit: Circuit, place: Place, fault: Fault | None) -> float:
        if fault is None or "intermittent" not in fault.traits:
            return REACTS_ELSEWHERE
        if fault.part in place.parts:
            return REACTS
        return REACTS_NEAR if fault.part in place.near else REACTS_ELSEWHERE

    def discovered(self, discovery: Discovery, luck: float) -> bool:
        here, ends = bool(discovery.here), bool(discovery.at_ends)
        return (discovery.loose and (here or ends)) or (here and luck < 0.35) or (ends and luck < 0.15) or luck < 0.02

    def where(self, circuit: Circuit, test: Test) -> str:
        title = circuit.point(test.red).title
        return f"Move {title} and the harness beside it while a reading or the live value is watched. Say whether it reacts."
