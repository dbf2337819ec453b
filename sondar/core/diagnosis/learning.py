"""What the readings have taught about everything that hypotheses share: a Kalman filter per hypothesis (Kalman, 1960).

θ starts as a standard normal vector. Each figure r = mean + slope·θ + noise updates it: with P the covariance of θ, S = slope·P·slope + noise²
and gain K = P·slope / S. P is kept as I − Σ u·uᵀ, one u per reading. A reading that was rather a probe or reading error, or taken while
an intermittent fault was away, teaches less: its noise is raised until its share of the update is the chance that it was proper
(as in probabilistic data association, Bar-Shalom and Fortmann, 1988, ch. 4, without the spread term).

Temperatures are told apart by *cells* where resistance follows them steeply: each cell has its own filter, weights follow the evidence.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from sondar.core.diagnosis.forecast import Forecast, theta_samples
from sondar.core.instruments.reading import Reading

Array = npt.NDArray[np.float64]


class Filter:
    """θ under every hypothesis of the drawing, in one temperature cell.

    Attributes:
        mean: (H, D). used: (H, n, D) directions already learned.
    """

    def __init__(self, count: int, width: int) -> None:
        self.mean = np.zeros((count, width))
        self.used = np.zeros((count, 0, width))

    def left(self, directions: Array) -> Array:
        """P·d for directions (H, D)."""
        if not self.used.shape[1]:
            return directions
        along = self.used @ directions[..., None]  # (H, n, 1)
        result: Array = directions - (self.used * along).sum(axis=1)
        return result

    def expected(self, forecast: Forecast) -> tuple[Array, Array]:
        """Mean and variance (H,) of the next figure."""
        rest = self.left(forecast.slope)
        mean = forecast.mean + (forecast.slope * self.mean).sum(axis=1)
        return mean, np.maximum((forecast.slope * rest).sum(axis=1), 0.0) + forecast.noise**2

    def learn(self, forecast: Forecast, surprise: Array, variance: Array, proper: Array) -> None:
        """Fold in one figure: its distance (H,) from what was expected, and the chance (H,) that it was a proper reading."""
        rest = self.left(forecast.slope)
        self.mean = self.mean + rest * (proper * surprise / variance)[:, None]
        self.used = np.concatenate([self.used, (rest * np.sqrt(proper / variance)[:, None])[:, None]], axis=1)

    def along(self, directions: Array) -> tuple[Array, Array]:
        """Mean and variance (H,) of a combination (D,) of θ, as far as it is learned."""
        wide = np.broadcast_to(directions, self.mean.shape)
        return self.mean @ directions, np.maximum((wide * self.left(wide)).sum(axis=1), 0.0)

    def possible(self, forecast: Forecast) -> Array:
        """(N, H, D) values of θ that the readings have left possible."""
        draws = theta_samples(forecast.parameters)  # (N, D)
        if not self.used.shape[1]:
            return self.mean + np.broadcast_to(draws[:, None], (len(draws), *self.mean.shape))
        along = np.einsum("hkd,nd->nhk", self.used, draws)
        return np.asarray(self.mean + draws[:, None] - np.einsum("nhk,hkd->nhd", along, self.used))


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
    density = np.exp(-0.5 * surprise**2 / variance) / np.sqrt(2.0 * np.pi * variance)
    return density, surprise, variance
