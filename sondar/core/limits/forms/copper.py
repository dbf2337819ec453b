"""Resistance of a copper winding, brought to the temperature that its limit holds for."""

from __future__ import annotations

from typing import Any

import numpy as np
from pydantic import Field

from sondar.core.circuit.families.base import Fields
from sondar.core.circuit.model import COPPER_TEMPERATURE_COEFFICIENT
from sondar.core.limits.conformity import Measured
from sondar.core.limits.forms.base import Context, Converting
from sondar.core.quantities import format_si

SAID_FROM_K = 1.0

WINDING_SD_K = 4.0
"""Standard uncertainty of a winding's temperature: it follows the job's temperature slowly, and warms while it is driven."""


class CopperFields(Fields):
    """Fields of a limit of a winding."""

    copper_at_c: float | None = Field(None, description="Temperature that min and max of a copper winding hold for.")


class Copper(Converting):
    """R₂ = R₁·(1 + α·(T₂ − 20)) / (1 + α·(T₁ − 20)) with α = 0.00393 1/K at 20 °C (IEC 60028)."""

    def applies(self, limit: Any) -> bool:
        return limit.copper_at_c is not None

    def convert(self, limit: Any, measured: Measured, shown: str, context: Context) -> tuple[Measured, str]:
        found = copper_at(measured, context.temperature_c, limit.copper_at_c)
        if abs(context.temperature_c - limit.copper_at_c) > SAID_FROM_K:
            shown += f", {format_si(found.value, context.unit)} at {limit.copper_at_c:g} °C"
        return found, shown


def copper_at(measured: Measured, temperature_c: float, target_c: float) -> Measured:
    """Resistance of a copper winding measured at one temperature, as it would be at another (IEC 60028).

    Its temperature is known only to ``WINDING_SD_K``, which adds to the uncertainty.
    """
    factor = (1.0 + COPPER_TEMPERATURE_COEFFICIENT * (target_c - 20.0)) / (
        1.0 + COPPER_TEMPERATURE_COEFFICIENT * (temperature_c - 20.0)
    )
    value = measured.value * factor
    by_temperature = abs(value) * COPPER_TEMPERATURE_COEFFICIENT * WINDING_SD_K
    return Measured(value, float(np.hypot(measured.uncertainty * factor, by_temperature)))
