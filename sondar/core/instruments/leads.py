"""The ohmmeter's own leads, held together: what is then shown is in every small resistance that it reads afterwards."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Instrument, Observation, Population, Solved, Test
from sondar.core.instruments.ohmmeter import OVER


class LeadsTogether(Instrument):
    """No test of the vehicle; entered by whoever wants small resistances read to a tenth of an ohm. OL: a broken lead or a blown fuse."""

    id = "leads-together"
    title = "Ohmmeter, leads held together"
    unit = "Ω"
    minutes = 0.1
    words = (OVER,)
    error_share = 0.008
    error_floor = 0.05
    span = 20.0
    probes = False
    accuracy_of = "ohms"
    decimals = 3
    never_negative = True

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        return ()

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        return ref == circuit.battery

    def quantity(self, circuit: Circuit, test: Test) -> None:
        return None

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        shape = (population.samples if population.samples == 1 else population.samples + 2, len(population.hypotheses), len(tests))
        broken = np.full((*shape, 1), 0.01)
        return Observation(np.zeros(shape), broken)

    def where(self, circuit: Circuit, test: Test) -> str:
        return "Hold the tips firmly together, as you will hold them on the points; then read, or zero the meter and enter 0."
