"""Visual inspection of a connector, a wire, a fuse or a ground."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sondar.core.circuit.families import Wire
from sondar.core.circuit.model import Fault
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.base import Discovery, Observation, Population, Solved, Test
from sondar.core.instruments.finding import Finding, Place, by_trait, opened_by_overload

SEEN: Mapping[str, float] = {"evident": 0.97, "open": 0.45, "series": 0.6, "leak": 0.55}
"""Chance that a visible fault shows where it is: corrosion and chafe do, a broken strand often does not, a blown fuse does."""

MISLEADS, MISLEADS_EXPOSED = 0.03, 0.1
"""Chance that a sound place looks damaged: stains and surface rust mislead more where it is wet."""


class VisualInspection(Finding):
    """Corrosion, chafe, water marks, bent pins."""

    id = "visual-inspection"
    title = "Visual inspection"
    as_it_stands = True
    minutes = 0.7
    words = ("damaged", "OK")
    synonyms = {
        "damage": "damaged", "corroded": "damaged", "corrosion": "damaged", "chafed": "damaged", "burnt": "damaged", "blown": "damaged",
        "bent": "damaged", "sound": "OK", "fine": "OK", "clean": "OK", "good": "OK",
    }  # fmt: skip

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        if ref in circuit.document.connectors:
            return True
        part = circuit.parts.get(ref)
        if part is None or ref == circuit.battery or part.module is not None:
            return False
        return isinstance(part, Wire) or part.GROUP == "wiring"

    def chance(self, circuit: Circuit, place: Place, fault: Fault | None) -> float:
        sound = MISLEADS_EXPOSED if place.exposed else MISLEADS
        if fault is None or fault.part not in place.parts or "visible" not in fault.traits:
            return sound
        return max(sound, by_trait(SEEN, fault, sound))

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        """As other findings; a fuse is seen to be blown whatever blew it."""
        seen = super().observe(population, solved, tests)
        assert seen.words is not None
        for column, overloaded in opened_by_overload(population, tests):
            seen.words[0, overloaded, column] = (SEEN["evident"], 1.0 - SEEN["evident"])
        return seen

    def discovered(self, discovery: Discovery, luck: float) -> bool:
        chance = max((by_trait(SEEN, fault, 0.0) for fault in discovery.here if "visible" in fault.traits), default=0.0)
        return luck < max(chance, MISLEADS, SEEN["evident"] if discovery.overloaded else 0.0)

    def where(self, circuit: Circuit, test: Test) -> str:
        title = circuit.point(test.red).title
        looked_for = "corrosion, chafe, water marks, bent or pushed-back pins, wires in the wrong cavity"
        return f"Inspect {title}: {looked_for}. Photograph damage before touching it."
