"""LED probe: shows supply, ground and pulses at a few milliamperes; blind to series resistance."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Instrument, Observation, Population, Solved, Test, one_hot, probes_sentence

LOAD_OHM, MIDDLE_V, HIGH_V, LOW_V = 2.2e3, 6.0, 8.0, 3.5
"""Two light-emitting diodes from the tip to supply and ground through resistors: Thévenin equivalent, and where each lights."""


class LedProbe(Instrument):
    """Which of two diodes lights."""

    id = "led-probe"
    title = "LED probe"
    minutes = 0.3
    words = ("supply", "ground", "both", "neither")
    synonyms = {"pulses": "both", "pulsing": "both", "none": "neither", "flicker": "flickers", "flickering": "flickers",
                "intermittent": "comes and goes", "on and off": "comes and goes"}  # fmt: skip
    soft_words = {
        "flickers": {"both": 0.9, "ground": 0.05, "supply": 0.05},
        "comes and goes": {"both": 0.4, "neither": 0.2, "supply": 0.2, "ground": 0.2},
    }
    figures = False
    no_contact = "neither"

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        return ((point.ref, access.black) for point in access.test_points(setup))

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        circuit = population.circuit
        waves = solved.at([(circuit.point(t.red).node, circuit.point(t.black).node) for t in tests])
        at = [(p.volts * LOAD_OHM + MIDDLE_V * p.ohms) / (LOAD_OHM + p.ohms) for p in waves.states]
        high = np.any([v > HIGH_V for v in at], axis=0)
        low = np.any([v < LOW_V for v in at], axis=0)
        return Observation(words=one_hot(high & ~low, low & ~high, high & low, ~high & ~low))

    def where(self, circuit: Circuit, test: Test) -> str:
        return probes_sentence(circuit, test)
