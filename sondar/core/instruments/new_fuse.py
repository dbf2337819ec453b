"""A new fuse in place of a blown one: does it hold?"""

from __future__ import annotations

from collections.abc import Sequence

from sondar.core.circuit.families import Fuse
from sondar.core.circuit.model import Fault
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.base import Discovery, Observation, Population, Solved, Test
from sondar.core.instruments.finding import Finding, Place, opened_by_overload

HOLDS, BLOWS = "holds", "blows again"

HOLDS_IF_SOUND, BLOWS_IF_NOT = 0.995, 0.97
"""Chance that a new fuse holds in a sound circuit, and that what blew the first one blows it while it is watched."""


class NewFuse(Finding):
    """Made before a blown fuse is called: most have a cause. No test to look for that cause with, so it is not planned otherwise."""

    id = "new-fuse"
    title = "New fuse"
    minutes = 1.0
    words = (HOLDS, BLOWS)
    synonyms = {"ok": HOLDS, "held": HOLDS, "blown": BLOWS, "blows": BLOWS, "blew": BLOWS}
    ordinary = True
    confirms = True
    caution = (
        "First, with the fuse out and the key off, measure from its output to ground: a new fuse into a short flashes. Same rating, never a "
        "larger one. Key off while it is fitted."
    )

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        """No fuse is tried on a circuit with a restraint system on it."""
        restraint = any(connector.restraint for connector in circuit.document.connectors.values())
        return isinstance(circuit.parts.get(ref), Fuse) and not restraint

    def chance(self, circuit: Circuit, place: Place, fault: Fault | None) -> float:
        return HOLDS_IF_SOUND

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        """It holds unless something else than the fuse has opened it."""
        seen = super().observe(population, solved, tests)
        assert seen.words is not None
        for column, overloaded in opened_by_overload(population, tests):
            seen.words[0, overloaded, column] = (1.0 - BLOWS_IF_NOT, BLOWS_IF_NOT)
        return seen

    def discovered(self, discovery: Discovery, luck: float) -> bool:
        return not discovery.overloaded

    def where(self, circuit: Circuit, test: Test) -> str:
        return f"Fit a new fuse of the same rating at {circuit.point(test.red).title} and switch on everything that it supplies, one by one."
