"""What is found out without any electrical quantity, as evidence like any other reading.

A finding has a place, minutes, two words, and a chance of its first word under each fault, so belief, ranking, record and voiding
treat it as they treat a reading (``docs/decisions/0006-findings-are-tests.md``). The chances are estimates from practice, coarse on
purpose; they go by the *traits* of a fault, never by its name.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.families import Fuse
from sondar.core.circuit.model import Fault, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Instrument, Observation, Population, Solved, Test

GONE, REMAINS = "fault gone", "fault remains"
RESULT_SYNONYMS: Mapping[str, str] = {
    "cured": GONE, "fixed": GONE, "gone": GONE, "works": GONE, "unchanged": REMAINS, "same": REMAINS, "remains": REMAINS,
    "no change": REMAINS,
}  # fmt: skip
GONE_BY_CHANCE = 0.03
"""Chance that a complaint goes away by itself while something else is tried."""


@dataclass(frozen=True)
class Place:
    """Where one looks: the parts and contacts there, and the wires that end there."""

    ref: str
    parts: frozenset[str]
    near: frozenset[str]
    exposed: bool


def place_of(circuit: Circuit, ref: str) -> Place:
    """What is found at a part, wire or connector."""
    connector = circuit.document.connectors.get(ref)
    if ref in circuit.document.modules:
        return Place(ref, frozenset(name for name, part in circuit.parts.items() if part.module == ref), frozenset(), exposed=False)
    if connector is None:
        return Place(ref, frozenset({ref}), frozenset(), bool(getattr(circuit.parts[ref], "exposed", False)))
    contacts = frozenset(f"{ref}.{cavity}" for cavity in connector.cavities)
    wires = frozenset(
        name
        for name, wire in circuit.document.wires.items()
        if {wire.from_.removesuffix("/c"), wire.to.removesuffix("/c")} & contacts
    )
    return Place(ref, contacts | {ref}, wires, connector.exposed)


class Finding(Instrument):
    """Shared by everything that finds something out at a place; at rest, since it does not depend on the set-up."""

    figures = False
    probes = False
    finding = True

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        circuit = access.circuit
        if setup != circuit.rest_setup(setup.temperature_c):
            return ()
        return ((ref, access.black) for ref in circuit.targets if self.looks_at(circuit, ref))

    def quantity(self, circuit: Circuit, test: Test) -> None:
        return None

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        circuit = population.circuit
        places = [place_of(circuit, test.red) for test in tests]
        chance = np.array([[self.chance(circuit, place, fault) for place in places] for fault in population.faults], dtype=float)
        return Observation(words=np.stack([chance, 1.0 - chance], axis=-1)[None])

    @abstractmethod
    def chance(self, circuit: Circuit, place: Place, fault: Fault | None) -> float:
        """Estimated chance of the first word at a place if this fault is there (None: no fault)."""


def opened_by_overload(population: Population, tests: Sequence[Test]) -> Iterator[tuple[int, npt.NDArray[np.bool_]]]:
    """For every test that looks at a fuse its column, and under which hypotheses (H,) something else than the fuse has opened it."""
    fuses = [name for name, part in population.circuit.parts.items() if isinstance(part, Fuse)]
    if population.blown.shape[1] == len(fuses):
        for column, test in enumerate(tests):
            if test.red in fuses:
                yield column, population.blown[:, fuses.index(test.red)]


def is_replaceable(circuit: Circuit, ref: str) -> bool:
    """True for a component that can be exchanged by itself."""
    part = circuit.parts.get(ref)
    return part is not None and ref != circuit.battery and part.module is None and part.GROUP != "wiring"


def by_trait(chances: Mapping[str, float], fault: Fault, otherwise: float) -> float:
    """The greatest chance that any trait of a fault has in a table."""
    return max((value for trait, value in chances.items() if trait in fault.traits), default=otherwise)
