"""Voltmeter: 10 MΩ, so it loads nothing that matters and floats on an open wire."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from sondar.core.circuit.model import CHASSIS, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Array, Instrument, Observation, Population, Solved, Test, loaded, probes_sentence
from sondar.core.solving.operating_points import Waves

INPUT_OHM = 1e7
FLOATING_OHM = 1e6
"""Thévenin resistance above which the meter's own 10 MΩ shift the value by 10 %: people see it wander."""

FLOATING_WORD_SHARE = 0.6
FLOATING_SPREAD_V = 0.6
"""On a floating point people report that it is unstable a bit more often than a figure, and the figure is anything small."""

UNSTABLE = "unstable"


def shown_volts(waves: Waves) -> list[Array]:
    """Voltage (S, H, P) on the meter's input in every switching state."""
    return [loaded(points.volts, points.ohms, INPUT_OHM) for points in waves.states]


class Voltmeter(Instrument):
    """Mean voltage between two points; what pulses is averaged."""

    id = "voltmeter"
    title = "Voltmeter"
    unit = "V"
    words = (UNSTABLE,)
    word_labels = {UNSTABLE: "unstable (floating)"}
    synonyms = {
        "floating": UNSTABLE, "floats": UNSTABLE, "float": UNSTABLE, "bouncing": UNSTABLE, "bounces": UNSTABLE, "bounce": UNSTABLE, "b": UNSTABLE,
        "ghost": UNSTABLE, "ghost voltage": UNSTABLE, "wandering": UNSTABLE, "wanders": UNSTABLE, "u": UNSTABLE,
    }  # fmt: skip
    soft_words = {"comes and goes": {UNSTABLE: 1.0}, "intermittent": {UNSTABLE: 1.0}, "on and off": {UNSTABLE: 1.0}}
    error_share = 0.005
    error_floor = 0.02
    no_contact = UNSTABLE
    ordinary = True
    query = "MEAS:VOLT:DC?"
    accuracy_of = "volts"

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        pairs = [(point.ref, access.black) for point in access.reachable(setup) if point.ref != CHASSIS]
        for pair in (*pairs, *access.component_pairs(setup)):
            if not any(access.is_dead(ref, setup) for ref in pair):
                yield pair

    def why_not(self, access: Access, test: Test) -> str:
        if any(access.is_dead(ref, test.setup) for ref in (test.red, test.black)):
            return "A module whose plug is apart has no supply: what a voltmeter shows at its own pins means nothing."
        return super().why_not(access, test)

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        waves = solved.at([self.pair(population.circuit, test) for test in tests])
        floating = waves.mean([(points.ohms > FLOATING_OHM).astype(float) for points in waves.states])
        return Observation(
            waves.mean(shown_volts(waves)),
            (FLOATING_WORD_SHARE * floating)[..., None],
            np.asarray(FLOATING_SPREAD_V * floating.mean(axis=0)),
        )

    def pair(self, circuit: Circuit, test: Test) -> tuple[str, str]:
        """Nodes of the two probes."""
        return circuit.point(test.red).node, circuit.point(test.black).node

    def where(self, circuit: Circuit, test: Test) -> str:
        return probes_sentence(circuit, test)
