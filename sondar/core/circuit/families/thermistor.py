"""NTC thermistor."""

from __future__ import annotations

import math
from typing import ClassVar, Literal

from pydantic import Field

from sondar.core.circuit.families.base import NonNegative, Part, Positive, open_severity, scale_severities
from sondar.core.circuit.model import Branch, Fault, Setup

KELVIN = 273.15

HIGH = (1.3, 1.6, 2.2, 3.3, 5.0, 8.0, 13.0, 30.0, 100.0)
"""Multiples of its resistance that a drifted thermistor shows."""


def ntc_resistance(r25_ohm: float, beta_k: float, temperature_c: float) -> float:
    """NTC resistance in ohms by the Beta equation: R = R25·exp(B·(1/T − 1/T25)), T in kelvin.

    Source: IEC 60539-1, B-value definition.
    """
    return r25_ohm * math.exp(beta_k * (1.0 / (temperature_c + KELVIN) - 1.0 / (25.0 + KELVIN)))


class Ntc(Part):
    """A temperature sensor whose resistance falls as it warms."""

    family: Literal["ntc"]
    r25_ohm: Positive = Field(description="Resistance at 25 °C.")
    beta_k: Positive = Field(3500.0, description="B value in kelvin.")
    tolerance: Positive = Field(0.03, description="Relative standard deviation, temperature error included.")
    price: NonNegative = 25.0

    NOUN: ClassVar[str] = "Temperature sensor"

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        ohms = ntc_resistance(self.r25_ohm, self.beta_k, setup.temperature_c)
        return [Branch(part_id, part_id, f"{part_id}.1", f"{part_id}.2", ohms, spread=self.tolerance)]

    def faults(self, part_id: str) -> list[Fault]:
        return [
            self.fault(part_id, "open", "open circuit", 1.5, part_id, open_severity(part_id)),
            self.fault(part_id, "short", "shorted or too low", 0.7, part_id, scale_severities(part_id)),
            self.fault(part_id, "drift", "reads too high a resistance", 0.6, part_id, scale_severities(part_id, HIGH)),
        ]  # fmt: skip
