"""Current clamp: current without opening the circuit."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from sondar.core.circuit.families import Wire
from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Instrument, Observation, Population, Solved, Test

FROM_MM2 = 1.0
"""Wires thinner than this carry currents that a clamp does not resolve."""


class CurrentClamp(Instrument):
    """Current in one wire."""

    id = "current-clamp"
    title = "Current clamp"
    unit = "A"
    minutes = 0.5
    error_share = 0.02
    error_floor = 0.05
    span = 40.0
    probes = False
    query = "MEAS:CURR:DC?"

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        for ref in access.circuit.targets:
            part = access.circuit.parts.get(ref)
            if isinstance(part, Wire) and part.gauge_mm2 >= FROM_MM2:
                yield ref, access.black

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        return isinstance(circuit.parts.get(ref), Wire)

    def quantity(self, circuit: Circuit, test: Test) -> str:
        return test.red

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        return Observation(solved.amps([test.red for test in tests]))

    def where(self, circuit: Circuit, test: Test) -> str:
        return f"Clamp {circuit.point(test.red).title}, this wire alone."
