"""Oscilloscope: the top and the bottom level of a trace."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable, Sequence

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Array, Instrument, Observation, Population, Solved, Test, probes_sentence
from sondar.core.instruments.voltmeter import shown_volts


class ScopeLevel(Instrument):
    """A level of the trace over all switching states."""

    unit = "V"
    minutes = 0.8
    error_share = 0.02
    error_floor = 0.1

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        if access.is_pulsing(setup):
            yield from ((point.ref, access.black) for point in access.test_points(setup))

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        circuit = population.circuit
        waves = solved.at([(circuit.point(t.red).node, circuit.point(t.black).node) for t in tests])
        return Observation(self.level(np.stack(shown_volts(waves))))

    @abstractmethod
    def level(self, volts: Array) -> Array:
        """(S, H, P) from (n_states, S, H, P)."""

    def where(self, circuit: Circuit, test: Test) -> str:
        return probes_sentence(circuit, test)


class ScopeTop(ScopeLevel):
    """Highest level."""

    id = "scope-top"
    title = "Oscilloscope, top level"

    def level(self, volts: Array) -> Array:
        return np.asarray(volts.max(axis=0))


class ScopeBottom(ScopeLevel):
    """Lowest level."""

    id = "scope-bottom"
    title = "Oscilloscope, bottom level"

    def level(self, volts: Array) -> Array:
        return np.asarray(volts.min(axis=0))
