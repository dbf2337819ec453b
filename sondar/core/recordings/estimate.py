"""A figure read off a recording, with its standard uncertainty; and how much samples that resemble their neighbours are worth."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy.special import stdtrit

from sondar.core.recordings.model import Array, Channel

WIDE = 1.96
"""Standard uncertainties to either side of a 95 % interval, with enough samples (GUM, table G.2)."""


@dataclass(frozen=True)
class Estimate:
    """A figure with its standard uncertainty, both in ``unit``."""

    value: float
    sd: float
    unit: str = ""

    @property
    def low(self) -> float:
        """Lower end of the 95 % interval."""
        return self.value - WIDE * self.sd

    @property
    def high(self) -> float:
        """Upper end of the 95 % interval."""
        return self.value + WIDE * self.sd

    def __sub__(self, other: Estimate) -> Estimate:
        return Estimate(self.value - other.value, math.hypot(self.sd, other.sd), self.unit)

    def over(self, other: Estimate) -> Estimate | None:
        """The ratio, to first order (GUM 5.1.2); None if the divisor may be zero."""
        if abs(other.value) < 3.0 * other.sd or other.value == 0.0:
            return None
        ratio = self.value / other.value
        return Estimate(ratio, math.hypot(self.sd / other.value, ratio * other.sd / other.value))


def likeness(y: Array) -> float:
    """Correlation of each sample with the next, corrected for its bias in short series (Kendall, Biometrika 41, 1954); 0 … 0.98."""
    n = len(y)
    if n < 8:
        return 0.0
    centred = y - y.mean()
    power = float(centred @ centred)
    if power <= 1e-18 * max(1.0, float(y @ y)):
        return 0.0
    rho = float(centred[:-1] @ centred[1:]) / power
    if rho > 1.0 / math.sqrt(n):
        # It is not known exactly either, and taking it as too small is what makes a mean look surer than it is.
        rho += math.sqrt(max(0.0, 1.0 - rho * rho) / n)
    return min(0.98, max(0.0, rho + (1.0 + 4.0 * rho) / n))


def effective(n: int, rho: float) -> float:
    """Independent samples that n samples are worth whose neighbours resemble each other by rho (AR(1)); at least 1."""
    return max(1.0, n * (1.0 - rho) / (1.0 + rho))


def noise_of(y: Array) -> float:
    """Standard deviation of the noise from the differences of neighbours, robust against steps and spells (1.4826 × median)."""
    if len(y) < 3:
        return 0.0
    return 1.4826 * float(np.median(np.abs(np.diff(y)))) / math.sqrt(2.0)


def undithered(step: float, sigma: float) -> float:
    """Standard uncertainty of a mean that a converter's step leaves: a rectangle of one step, less where noise dithers it.

    Noise of σ shrinks the error by e^(−2π²σ²/step²) (Widrow and Kollár, *Quantization Noise*, ch. 4); half of the exponent, for safety.
    """
    return step / math.sqrt(12.0) * math.exp(-((math.pi * sigma / step) ** 2)) if step > 0 else 0.0


def settled_level(channel: Channel) -> Estimate | None:
    """Level of a quiet stretch: mean of the samples within 4 robust standard deviations of their median.

    Uncertainty: √(σ²/n_eff + bound²/3), with n_eff = n(1−ρ)/(1+ρ); the resolution adds a rectangle of its own where the noise is too small to
    average it out (GUM F.2.2.1). None without samples.
    """
    y = channel.y
    if len(y) == 0:
        return None
    middle = float(np.median(y))
    spread = 1.4826 * float(np.median(np.abs(y - middle)))
    step = channel.resolution
    kept = y[np.abs(y - middle) <= max(4.0 * spread, 1.5 * step)] if spread > 0 or step > 0 else y
    sigma = float(kept.std(ddof=1)) if len(kept) > 1 else 0.0
    worth = effective(len(kept), likeness(kept))
    # A mean over dither finds what lies between two steps; without it the figure may be half a step off.
    coarse = undithered(step, sigma)
    few = float(stdtrit(max(1.5, worth - 1.0), 0.975)) / WIDE
    return Estimate(float(kept.mean()), math.sqrt((few * sigma) ** 2 / worth + coarse**2 + channel.bound**2 / 3.0), channel.unit)
