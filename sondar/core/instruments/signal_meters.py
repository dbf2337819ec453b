"""Frequency and duty: what a meter triggers on while something pulses."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable, Sequence

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Array, Instrument, Observation, Population, Solved, Test, probes_sentence
from sondar.core.instruments.voltmeter import shown_volts
from sondar.core.solving.operating_points import Waves

TRIGGER_V = 0.5
"""Least swing in volts that a frequency or duty meter triggers on."""

NO_SIGNAL = "no signal"


class SignalMeter(Instrument):
    """A meter that needs a swing; without one it shows no signal."""

    words = (NO_SIGNAL,)
    synonyms = {"none": NO_SIGNAL, "no": NO_SIGNAL}
    minutes = 0.5
    error_floor = 1.0
    no_contact = NO_SIGNAL
    decimals = 1

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        if access.is_pulsing(setup):
            yield from ((point.ref, access.black) for point in access.test_points(setup))

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        circuit = population.circuit
        waves = solved.at([(circuit.point(t.red).node, circuit.point(t.black).node) for t in tests])
        value, swing = self.signal(waves, shown_volts(waves))
        return Observation(value, (swing < TRIGGER_V).astype(float)[..., None])

    @abstractmethod
    def signal(self, waves: Waves, seen: list[Array]) -> tuple[Array, Array]:
        """Figure and swing in volts, (S, H, P) each."""

    def where(self, circuit: Circuit, test: Test) -> str:
        return probes_sentence(circuit, test)


class FrequencyMeter(SignalMeter):
    """Frequency of the part that moves the point most."""

    id = "frequency"
    title = "Frequency meter"
    unit = "Hz"
    error_share = 0.005
    span = 1e4
    query = "MEAS:FREQ?"

    def signal(self, waves: Waves, seen: list[Array]) -> tuple[Array, Array]:
        hertz, most = np.zeros_like(seen[0]), np.zeros_like(seen[0])
        for part, value in waves.frequency_hz.items():
            high = [i for i, pulses in enumerate(waves.pulses) if pulses.get(part)]
            low = [i for i, pulses in enumerate(waves.pulses) if pulses.get(part) is False]
            swing = np.abs(_mean_over(waves, seen, high) - _mean_over(waves, seen, low))
            hertz, most = np.where(swing > most, value, hertz), np.maximum(swing, most)
        return hertz, most


class DutyMeter(SignalMeter):
    """Percent of the time above the middle of the swing."""

    id = "duty"
    title = "Duty meter"
    unit = "%"
    error_share = 0.01
    span = 100.0
    query = "MEAS:PDUT?"

    def signal(self, waves: Waves, seen: list[Array]) -> tuple[Array, Array]:
        volts = np.stack(seen)
        top, bottom = volts.max(axis=0), volts.min(axis=0)
        above = waves.mean([(v > 0.5 * (top + bottom)).astype(float) for v in volts])
        return 100.0 * above, top - bottom


def _mean_over(waves: Waves, values: list[Array], which: list[int]) -> Array:
    total = sum(waves.shares[i] for i in which)
    found: Array = sum(waves.shares[i] / total * values[i] for i in which)  # type: ignore[assignment]
    return found
