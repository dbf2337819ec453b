"""A thermometer beside a part whose resistance follows its temperature."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from sondar.core.circuit.families import Ntc
from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.errors import QuantityError
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Instrument, Observation, Population, Solved, Test
from sondar.core.solving.parameters import SHARED, TEMPERATURE, sample_normals


class Thermometer(Instrument):
    """Shows no fault by itself: it tells what a thermistor must have, and so whether it has it."""

    id = "thermometer"
    title = "Thermometer"
    unit = "°C"
    minutes = 0.8
    error_floor = 1.5
    span = 120.0
    probes = False
    decimals = 1
    ordinary = True
    kelvin_per_kelvin = 1.0

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        return ((ref, access.black) for ref in access.circuit.targets if self.looks_at(access.circuit, ref))

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        return isinstance(circuit.parts.get(ref), Ntc)

    def quantity(self, circuit: Circuit, test: Test) -> None:
        return None

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        """The temperature of the vehicles, spread as their parts' is; under every hypothesis the same."""
        count = population.samples
        kelvin = sample_normals(TEMPERATURE, count) * population.scale.get(TEMPERATURE, 1.0)
        if count > 1:
            kelvin = np.concatenate([kelvin, [float(name == TEMPERATURE) for name in SHARED]])
        shape = (len(kelvin), len(population.hypotheses), len(tests))
        return Observation(np.broadcast_to((population.setup.temperature_c + kelvin)[:, None, None], shape))

    def where(self, circuit: Circuit, test: Test) -> str:
        title = circuit.point(test.red).title
        return f"Hold a thermometer to {title} where it sits, out of sun and wind, until it settles; on the scan tool a second sensor will do."

    def check_value(self, value: float) -> None:
        if not -60.0 <= value <= 200.0:
            raise QuantityError(f"{value:g}", "a temperature between −60 and 200 °C")
