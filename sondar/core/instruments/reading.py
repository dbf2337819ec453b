"""One reading that has not been voided: what was seen at a test."""

from __future__ import annotations

import math
from dataclasses import dataclass

from sondar.core.errors import QuantityError
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Instrument, Test


@dataclass(frozen=True)
class Reading:
    """What was read.

    Attributes:
        value: SI value, or None for a word.
        state: word shown, or None for a figure.
        resolution: half-width in SI units of the last digit entered.
        present: chance that the fault was there while reading; below 1 a normal reading clears less.
        meter_error: the meter's own error at this value in SI units, where it is worse than the usual one.
    """

    id: str
    test: Test
    value: float | None
    state: str | None
    resolution: float = 0.0
    present: float = 1.0
    meter_error: float = 0.0

    @property
    def device(self) -> Instrument:
        """The instrument it was taken with."""
        return instrument(self.test.instrument)

    @property
    def uncertainty(self) -> float:
        """Standard uncertainty of a figure in SI units: meter, last digit and any worse meter, each a rectangle (GUM 4.3.7)."""
        device = self.device
        bound = device.error_share * abs(self.value or 0.0) + device.error_floor + self.meter_error
        return math.hypot(bound, self.resolution) / math.sqrt(3.0)


def check_reading(reading: Reading) -> None:
    """A reading must fit its instrument.

    Raises:
        QuantityError: a word that the instrument cannot show, a figure that it cannot show, or nothing at all.
    """
    device = reading.device
    if reading.value is None and reading.state is None:
        raise QuantityError("", "a figure or a word")
    if reading.state is not None and reading.state not in (*device.words, *device.soft_words):
        raise QuantityError(reading.state, f"{device.expected_entry()} from the {device.title.lower()}")
    if reading.value is not None:
        if not device.figures:
            raise QuantityError(f"{reading.value:g}", f"{device.expected_entry()} from the {device.title.lower()}")
        device.check_value(reading.value)
