"""Figures of recordings in words: no more digits than the uncertainty leaves."""

from __future__ import annotations

import math

from sondar.core.recordings.estimate import Estimate


def figure(estimate: Estimate) -> str:
    """``12.31 ± 0.04 kPa``: the figure and half of its 95 % interval, two digits of it."""
    half = 1.96 * estimate.sd
    if not math.isfinite(half):
        return "not to be told from this recording"
    if half <= 0.0:
        return f"{estimate.value:.6g} {estimate.unit}".strip()
    decimals = min(12, max(0, 1 - math.floor(math.log10(half))))
    value = f"{estimate.value:.{decimals}f}".replace("-", "−")
    return f"{value} ± {half:.{decimals}f} {estimate.unit}".strip()
