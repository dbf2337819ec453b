"""What the readings have taught about everything that hypotheses share: a Kalman filter per hypothesis (Kalman, 1960).

θ starts as a standard normal vector. Each figure r = mean + slope·θ + noise updates it: with P the covariance of θ, S = slope·P·slope + noise²
and gain K = P·slope / S. P is kept as I − Σ u·uᵀ, one u per reading. A reading that was rather a probe or reading error, or taken while
an intermittent fault was away, teaches less: its noise is raised until its share of the update is the chance that it was proper
(as in probabilistic data association, Bar-Shalom and Fortmann, 1988, ch. 4, without the spread term).

Temperatures are told apart by *cells* where resistance follows them steeply: each cell has its own filter, weights follow the evidence.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from sondar.core.diagnosis.forecast import Forecast, theta_samples
from sondar.core.instruments.reading import Reading

Array = npt.NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Filter:
    """θ under every hypothesis of the drawing, in one temperature cell.

    Attributes:
        mean: (H, D). used: (H, n, D) directions already learned.
    """

    mean: Array
    used: Array

    @classmethod
    def before_any(cls, count: int, width: int) -> Filter:
        """Nothing learned yet."""
        return cls(np.zeros((count, width)), np.zeros((count, 0, width)))

    def _left(self, directions: Array) -> Array:
        """P·d for directions (H, D)."""
        if not self.used.shape[1]:
            return directions
        along = self.used @ directions[..., None]  # (H, n, 1)
        result: Array = directions - (along.transpose(0, 2, 1) @ self.used)[:, 0]
        return result

    def expected(self, forecast: Forecast) -> tuple[Array, Array]:
        """Mean and variance (H,) of the next figure."""
        mean = forecast.mean + (forecast.slope * self.mean).sum(axis=1)
        spread = np.maximum((forecast.slope * self._left(forecast.slope)).sum(axis=1), 0.0)
        return mean, spread + forecast.noise**2 + forecast.drift**2

    def learn(self, forecast: Forecast, surprise: Array, variance: Array, share: Array) -> Filter:
        """With one figure more: its distance (H,) from what was expected, and the share (H,) of a whole reading that it counts for."""
        rest = self._left(forecast.slope)
        mean = self.mean + rest * (share * surprise / variance)[:, None]
        return Filter(mean, np.concatenate([self.used, (rest * np.sqrt(share / variance)[:, None])[:, None]], axis=1))

    def along(self, directions: Array) -> tuple[Array, Array]:
        """Mean and variance (H, K) of combinations (K, D) of θ, as far as they are learned."""
        on = np.flatnonzero(directions.any(axis=0))  # a handful of the parameters
        part = directions[:, on].T
        learned = self.used[:, :, on] @ part  # (H, n, K)
        return self.mean[:, on] @ part, np.maximum((part**2).sum(axis=0) - (learned**2).sum(axis=1), 0.0)

    def possible(self, forecast: Forecast) -> Array:
        """(N, H, D) values of θ that the readings have left possible."""
        draws = theta_samples(forecast.parameters)  # (N, D)
        along = (self.used @ draws.T).transpose(0, 2, 1)  # (H, N, n)
        return np.asarray(self.mean + draws[:, None] - (along @ self.used).transpose(1, 0, 2))


def density_of(reading: Reading, forecast: Forecast, mean: Array, variance: Array) -> tuple[Array, Array, Array]:
    """Likelihood (H,) of a figure where a figure is shown, its distance from what was expected, and the variance with its last digit."""
    assert reading.value is not None
    device = forecast.device
    at = float(device.working(reading.value))
    digit = np.hypot(reading.resolution, reading.meter_error) / np.sqrt(3.0)
    if device.log_scale:
        size = max(reading.value, 0.0)
        digit = digit * float(device.working(size + 0.01) - device.working(size)) / 0.01
    variance = variance + digit**2
    surprise = at - mean
    steady = normal_density(surprise, variance)
    floats = forecast.wander > 0.0
    if floats.any():
        variance = variance + forecast.wander**2
        steady = np.where(floats, 0.5 * (steady + normal_density(surprise, variance)), steady)
    return steady, surprise, variance


def normal_density(distance: Array, variance: Array) -> Array:
    """Density of a normal distribution at a distance from its mean."""
    return np.asarray(np.exp(-0.5 * distance**2 / variance) / np.sqrt(2.0 * np.pi * variance))
