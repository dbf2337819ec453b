"""Short names: units, faults, readings, ranges, tests."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import CHASSIS
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN, Suspect
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Display, Instrument, Test
from sondar.core.instruments.reading import Reading
from sondar.core.quantities import format_si

NONE_TITLE = "No fault present now"
UNKNOWN_TITLE = "Something not on the drawing"
WIDE_SHARE = 0.1
"""A reading left open by more than this share is written as a range."""
FLOATS_ABOVE = 0.2


def unit_title(circuit: Circuit, unit: str) -> str:
    """Name of a unit, or of one of the two answers that are not units."""
    if unit == NONE:
        return NONE_TITLE
    return UNKNOWN_TITLE if unit == UNKNOWN else circuit.units[unit].title


def fault_title(circuit: Circuit, suspect: Suspect) -> str:
    """A fault with its severity where that is a figure: ``Wire W8 corroded or partly broken, about 300 Ω``."""
    fault = circuit.faults.get(suspect.fault)
    if fault is None:
        return unit_title(circuit, suspect.unit)
    return fault.title + (f", about {suspect.severity}" if suspect.severity[:1].isdigit() else "")


def reading_label(reading: Reading) -> str:
    """A reading as a person writes it."""
    device = reading.device
    if reading.state is not None:
        return reading.state
    assert reading.value is not None
    if reading.resolution > WIDE_SHARE * max(abs(reading.value), 1e-9) and reading.resolution > 2 * device.error_floor:
        low, high = reading.value - reading.resolution, reading.value + reading.resolution
        return f"{format_si(low, device.unit)} to {format_si(high, device.unit)}"
    return format_si(reading.value, device.unit)


def range_label(device: Instrument, low: float, high: float) -> str:
    """Two ends in the working scale as a range with its unit."""
    ends = [device.from_working(low), device.from_working(high)]
    if device.unit == "V":
        if all(abs(v) < 0.1 for v in ends):
            return "about 0 V"
        if abs(ends[1] - ends[0]) < 0.1:
            return f"about {format_si(0.5 * (ends[0] + ends[1]), 'V')}"
        low_text, high_text = (f"{v if abs(v) >= 0.05 else 0:.1f}".replace("-", "−") for v in ends)
        return f"{low_text} to {high_text} V"
    if device.unit == "Ω" and ends[1] < 5.0 * device.error_floor:
        return f"below {format_si(5.0 * device.error_floor, 'Ω', 1)}"
    if device.unit == "%":
        return f"{max(ends[0], 0):.0f} to {min(ends[1], 100):.0f} %"
    labels = [format_si(v, device.unit, 2) for v in ends]
    return labels[0] if labels[0] == labels[1] else f"{labels[0]} to {labels[1]}"


def expected_range(shown: Display) -> tuple[str, float | None, float | None]:
    """What a healthy circuit shows at one test (display of one test): label, and both ends in SI units."""
    return range_of(shown.instrument, float(shown.mean[0, 0]), float(shown.sd[0, 0]), shown.words[0, 0])


def range_of(device: Instrument, mean: float, sd: float, words: npt.NDArray[np.float64]) -> tuple[str, float | None, float | None]:
    """The same from a figure's mean and standard deviation in the working scale and the chance of each word."""
    if not device.figures or words.sum() > 0.5:
        return device.label(device.words[int(np.argmax(words))]), None, None
    low, high = mean - 2 * sd, mean + 2 * sd
    label = range_label(device, low, high)
    if len(words) and words.sum() > FLOATS_ABOVE:
        label += f", or {device.words[int(np.argmax(words))]}"
    return label, device.from_working(low), device.from_working(high)


def describe_test(circuit: Circuit, test: Test) -> str:
    """A test in one phrase."""
    device = instrument(test.instrument)
    usual = test.black in (circuit.black_reference, CHASSIS)
    where = f"at {test.red}" if usual else f"from {test.red} to {test.black}"
    return f"{device.title.lower()} {where}, {test.setup.describe()}"
