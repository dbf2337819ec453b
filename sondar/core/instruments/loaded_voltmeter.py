"""Voltmeter with 10 kΩ across its probes: tells a reference from an input that is only pulled up, which 10 MΩ cannot."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import ClassVar

from sondar.core.instruments.base import Observation, Population, Solved, Test, loaded
from sondar.core.instruments.voltmeter import Voltmeter

LOAD_OHM = 1e4
"""Takes 0.5 mA from a reference and 1.2 mA from a supply: too little to harm anything that a voltmeter may touch."""


class LoadedVoltmeter(Voltmeter):
    """Mean voltage between two points with a resistor of 10 kΩ held across the probes."""

    id = "voltmeter-10k"
    title = "Voltmeter with 10 kΩ"
    minutes = 0.4
    words = ()  # type: ignore[assignment]
    word_labels: ClassVar[dict[str, str]] = {}
    synonyms: ClassVar[dict[str, str]] = {}
    soft_words: ClassVar[dict[str, Mapping[str, float]]] = {}
    no_contact = ""
    ordinary = False
    query = ""

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        waves = solved.at([self.pair(population.circuit, test) for test in tests])
        return Observation(waves.mean([loaded(points.volts, points.ohms, LOAD_OHM) for points in waves.states]))
