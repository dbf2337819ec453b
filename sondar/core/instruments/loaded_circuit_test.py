"""Loaded circuit test of a powered probe: it draws about 1 A and works out the source resistance from the sag."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Instrument, Observation, Population, Solved, Test, loaded, probes_sentence

LOAD_OHM, LEAST_V, MOST_OHM = 13.5, 2.0, 1e3
"""The test draws about 1 A at 13.5 V; below 2 V left under that load, or above 1 kΩ, it reports no supply."""


class LoadedCircuitTest(Instrument):
    """Source resistance: voltage sag divided by test current."""

    id = "loaded-circuit-test"
    title = "Loaded circuit test"
    unit = "Ω"
    words = ("no supply",)
    synonyms = {"none": "no supply", "dead": "no supply"}
    log_scale = True
    error_share = 0.03
    error_floor = 0.03
    span = 6.0
    no_contact = "no supply"
    never_negative = True

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        return access.loads(setup)

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        circuit = population.circuit
        points = solved.at([(circuit.point(t.red).node, circuit.point(t.black).node) for t in tests]).states[0]
        left = np.abs(loaded(points.volts, points.ohms, LOAD_OHM))
        none = (left < LEAST_V) | (points.ohms > MOST_OHM)
        return Observation(points.ohms, none.astype(float)[..., None])

    def where(self, circuit: Circuit, test: Test) -> str:
        return f"Powered probe, loaded circuit test. {probes_sentence(circuit, test)}"
