"""Is the order of magnitude right? A reading is held against every suspect's prediction before it is taken.

``0.0124`` where somebody means 12.4 V is an error of unit or decimal sign. It is asked about, never changed: if nothing predicts the
figure as it stands, or it has more digits than the meter can show there, and the same digits shifted by powers of ten are predicted.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from sondar.core.diagnosis.belief import density
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.reading import Reading
from sondar.core.quantities import format_si

SHIFTS = (3, -3, 6, -6, 1, -1, 2, -2)
"""Powers of ten that such errors are made of: prefixes first, then decimal signs."""

FINEST_SHARE = 0.02
"""Digits below this share of the meter's floor are more than it shows, unless its own display ends there."""
SHOWN_STEP = 0.4
"""Half of the last digit is what an entry with as many digits as the display is uncertain by; below this it has more."""

TIMES_BETTER, TYPICAL = 1000.0, 0.1
"""A shifted figure must be this much more typical, and this typical at least, before it is asked about."""


def meant_instead(predictor: Predictor, reading: Reading) -> str | None:
    """What was probably meant, as a label, or None if the entry may stand as it is."""
    device = reading.device
    if reading.value is None or reading.value == 0 or not device.figures or reading.test.instrument not in predictor.instruments:
        return None
    shown = predictor.display_of(reading.test)
    too_fine = 0 < reading.resolution < min(FINEST_SHARE * device.error_floor, SHOWN_STEP * 10.0**-device.decimals)

    suspects = predictor.hypotheses.suspects[:-1]
    names, fault = np.unique([suspect.fault for suspect in suspects], return_inverse=True)
    rates = np.bincount(fault, predictor.hypotheses.prior[:-1])

    def best(value: float, shift: float = 1.0) -> float:
        moved = replace(reading, value=value, resolution=reading.resolution * shift)
        # How typical of each suspect, 1 at its middle: wide and narrow predictions alike, coarse entries less.
        typical = (density(moved, shown) * shown.sd * np.sqrt(2.0 * np.pi))[:, 0]
        fitting = np.zeros(len(names))
        np.maximum.at(fitting, fault, typical)  # of the cells of a fault the one that fits best
        return float(rates @ fitting)

    as_typed = best(reading.value)
    if too_fine:
        as_typed *= 1e-3
    found = [
        (best(reading.value * 10.0**power, 10.0**power), -rank, power)
        for rank, power in enumerate(SHIFTS)
        if reading.resolution * 10.0**power >= FINEST_SHARE * device.error_floor or not reading.resolution
    ]
    score, _, power = max(found, default=(0.0, 0, 0))
    if score > TIMES_BETTER * as_typed and score > TYPICAL:
        return format_si(reading.value * 10.0**power, device.unit, 4)
    return None
