"""Live data: the value that a module believes its input to be, as the scan tool shows it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from sondar.core.circuit.families import PulledInput
from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Instrument, Observation, Population, Solved, Test
from sondar.core.quantities import format_si


def _input(circuit: Circuit, ref: str) -> PulledInput:
    part = circuit.parts.get(ref)
    if not isinstance(part, PulledInput):
        known = [name for name, item in circuit.parts.items() if isinstance(item, PulledInput)]
        raise UnknownReferenceError("module input", ref, known)
    return part


class LiveData(Instrument):
    """The mean voltage at a module's pin by its own converter, without a meter's load; a substituted value where it is out of range."""

    id = "live-data"
    title = "Live data"
    unit = "V"
    minutes = 0.3
    error_share = 0.01
    error_floor = 0.05
    probes = False

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        if access.is_key_off(setup):
            return ()
        return ((ref, access.black) for ref in access.circuit.targets if self.looks_at(access.circuit, ref))

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        return isinstance(circuit.parts.get(ref), PulledInput)

    def quantity(self, circuit: Circuit, test: Test) -> tuple[str, str]:
        _input(circuit, test.red)
        return circuit.node(f"{test.red}.pin"), circuit.node(f"{test.red}.gnd")

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        circuit = population.circuit
        waves = solved.at([self.quantity(circuit, test) for test in tests])
        volts = waves.mean([points.volts for points in waves.states])
        inputs = [_input(circuit, test.red) for test in tests]
        low, high, instead = np.array([(p.valid_low_v, p.valid_high_v, p.substitute_v) for p in inputs]).T
        return Observation(np.where((volts < low) | (volts > high), instead, volts))

    def where(self, circuit: Circuit, test: Test) -> str:
        part = _input(circuit, test.red)
        own = ""
        if part.substitutes:
            own = f" Out of range it shows a value of its own, {format_si(part.substitute_v, 'V')}: that is no measurement."
        title = circuit.point(test.red).title
        return f"Read on the scan tool what the module takes {title} to be. It is the module's opinion.{own}"
