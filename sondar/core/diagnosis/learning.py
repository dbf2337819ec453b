"""What the readings have taught about everything that hypotheses share: a Kalman filter per hypothesis (Kalman, 1960).

θ starts as a standard normal vector. Each figure r = mean + slope·θ + noise updates it: with P the covariance of θ, S = slope·P·slope + noise²
and gain K = P·slope / S. P is kept as I − Σ u·uᵀ, one u per reading. A reading that was rather a probe or reading error, or taken while
an intermittent fault was away, teaches less: its noise is raised until its share of the update is the chance that it was proper
(as in probabilistic data association, Bar-Shalom and Fortmann, 1988, ch. 4, without the spread term).

What changes from reading to reading (``noise``) does not change when the same thing is read again, nor in a set-up that is
electrically the same: a reading shares its noise with an earlier one of the same instrument and place, under every hypothesis that
predicts both alike.

Temperatures are told apart by *cells* where resistance follows them steeply: each cell has its own filter, weights follow the evidence.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from sondar.core.diagnosis.forecast import Forecast, theta_samples
from sondar.core.instruments.reading import Reading

Array = npt.NDArray[np.float64]


SAME_AGAIN, ALIKE_SDS = 0.95, 0.5
"""Correlation of what is left to chance between two readings of the same thing; predictions so many noises apart are the same."""


@dataclass(frozen=True, eq=False)
class Filter:
    """θ under every hypothesis of the drawing, in one temperature cell.

    Attributes:
        width: D. mean: (H, D + R), the last R columns for the noise of each reading taken. used: (H, R, D + R) directions already learned.
        read: the forecasts of the readings taken.
    """

    width: int
    mean: Array
    used: Array
    read: tuple[Forecast, ...] = ()

    @classmethod
    def before_any(cls, count: int, width: int) -> Filter:
        """Nothing learned yet."""
        return cls(width, np.zeros((count, width)), np.zeros((count, 0, width)))

    def _left(self, directions: Array) -> Array:
        """P·d for directions (H, D + R)."""
        if not self.used.shape[1]:
            return directions
        along = self.used @ directions[..., None]  # (H, R, 1)
        result: Array = directions - (along.transpose(0, 2, 1) @ self.used)[:, 0]
        return result

    def _slope(self, forecast: Forecast) -> tuple[Array, Array, Array]:
        """Slopes (H, D + R) of the next figure, its noise shared with an earlier reading where both are alike; what of its noise it can
        share with a later one, and what it shares with none."""
        wide = np.zeros_like(self.mean)
        wide[:, : self.width] = forecast.slope
        alike = np.zeros(len(wide))
        for index, earlier in enumerate(self.read):
            if earlier.test.instrument == forecast.test.instrument and earlier.nodes == forecast.nodes:
                distance = (earlier.mean - forecast.mean) / np.maximum(forecast.noise, 1e-9)
                left = np.sqrt(np.maximum(SAME_AGAIN**2 - alike**2, 0.0))
                share = np.minimum(SAME_AGAIN * np.exp(-0.5 * (distance / ALIKE_SDS) ** 2), left)
                wide[:, self.width + index] = forecast.noise * share
                alike = np.hypot(alike, share)
        own = forecast.noise * np.sqrt(np.maximum(SAME_AGAIN**2 - alike**2, 0.0))
        return wide, own, np.hypot(forecast.noise * np.sqrt(1.0 - SAME_AGAIN**2), forecast.drift)

    def expected(self, forecast: Forecast) -> tuple[Array, Array]:
        """Mean and variance (H,) of the next figure."""
        slope, own, noise = self._slope(forecast)
        mean = forecast.mean + (slope * self.mean).sum(axis=1)
        return mean, np.maximum((slope * self._left(slope)).sum(axis=1), 0.0) + own**2 + noise**2

    def learn(self, forecast: Forecast, surprise: Array, variance: Array, proper: Array) -> Filter:
        """With one figure more: its distance (H,) from what was expected, and the chance (H,) that it was a proper reading."""
        slope, own, _ = self._slope(forecast)
        rest = np.concatenate([self._left(slope), own[:, None]], axis=1)
        mean = np.pad(self.mean, ((0, 0), (0, 1))) + rest * (proper * surprise / variance)[:, None]
        before = np.pad(self.used, ((0, 0), (0, 0), (0, 1)))
        used = np.concatenate([before, (rest * np.sqrt(proper / variance)[:, None])[:, None]], axis=1)
        return Filter(self.width, mean, used, (*self.read, forecast))

    def along(self, directions: Array) -> tuple[Array, Array]:
        """Mean and variance (H,) of a combination (D,) of θ, as far as it is learned."""
        along = self.used[:, :, : self.width] @ directions
        return self.mean[:, : self.width] @ directions, np.maximum(directions @ directions - (along**2).sum(axis=1), 0.0)

    def possible(self, forecast: Forecast) -> Array:
        """(N, H, D) values of θ that the readings have left possible."""
        draws = theta_samples(forecast.parameters)  # (N, D)
        mean, used = self.mean[:, : self.width], self.used[:, :, : self.width]
        along = (used @ draws.T).transpose(0, 2, 1)  # (H, N, R)
        return np.asarray(mean + draws[:, None] - (along @ used).transpose(1, 0, 2))


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
