"""Module communication: does a module respond to the scan tool?"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Controls, Instrument, Observation, Population, Solved, Test
from sondar.core.solving.monitors import answer_chance

RESPONDS, SILENT = "communicates", "no communication"


class ModuleCommunication(Instrument):
    """The scan tool asks one module, everything connected, the key as its answering needs it."""

    id = "module-communication"
    title = "Module communication"
    minutes = 0.5
    words = (RESPONDS, SILENT)
    synonyms = {
        "answers": RESPONDS, "responds": RESPONDS, "yes": RESPONDS, "no answer": SILENT, "no response": SILENT, "silent": SILENT, "no": SILENT,
    }  # fmt: skip
    figures = False
    probes = False

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        circuit = access.circuit
        return (
            (ref, access.black)
            for ref in circuit.targets
            if self.looks_at(circuit, ref) and setup == _asked_in(circuit, ref, setup.temperature_c)
        )

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        return ref in circuit.document.modules

    def states(self, circuit: Circuit) -> list[Controls]:
        modules = circuit.document.modules
        return [_asked_in(circuit, name, 20.0).controls for name, module in modules.items() if module.answers]

    def quantity(self, circuit: Circuit, test: Test) -> None:
        return None

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        circuit, setup = population.circuit, population.setup
        chance = np.stack(
            [answer_chance(circuit, t.red, population.hypotheses, population.blown, setup.temperature_c) for t in tests], axis=1
        )
        return Observation(words=np.stack([chance, 1.0 - chance], axis=-1)[None])

    def where(self, circuit: Circuit, test: Test) -> str:
        return f"Call {circuit.point(test.red).title} with the scan tool: does it respond?"


def _asked_in(circuit: Circuit, module: str, temperature_c: float) -> Setup:
    """The set-up in which a module is asked."""
    answers = circuit.document.modules[module].answers
    key = answers[0].when.get("key") if answers else None
    return circuit.setup({"key": key} if key else {}, frozenset(), temperature_c)
