"""AC voltmeter: the part of a voltage that changes."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Instrument, Observation, Population, Solved, Test, probes_sentence
from sondar.core.instruments.voltmeter import shown_volts


class AcVoltmeter(Instrument):
    """Root mean square of what changes."""

    id = "ac-voltmeter"
    title = "AC voltmeter"
    unit = "V"
    error_share = 0.01
    error_floor = 0.03
    span = 15.0
    query = "MEAS:VOLT:AC?"
    never_negative = True

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        if access.is_pulsing(setup):
            yield from ((point.ref, access.black) for point in access.test_points(setup))
            yield from access.component_pairs(setup)

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        circuit = population.circuit
        waves = solved.at([(circuit.point(t.red).node, circuit.point(t.black).node) for t in tests])
        seen = shown_volts(waves)
        middle = waves.mean(seen)
        return Observation(np.sqrt(waves.mean([(volts - middle) ** 2 for volts in seen])))

    def where(self, circuit: Circuit, test: Test) -> str:
        return probes_sentence(circuit, test)
