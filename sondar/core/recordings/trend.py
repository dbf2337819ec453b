"""Slopes and decays: how fast something held is lost, filled or cools."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy.optimize import least_squares

from sondar.core.recordings.estimate import Estimate, effective, likeness
from sondar.core.recordings.model import Array, Channel

MOST_POINTS = 3000


def slope(channel: Channel) -> Estimate | None:
    """Slope per second by least squares; residuals that resemble their neighbours count less. None with fewer than four samples."""
    t, y = channel.t, channel.y
    if len(t) < 4 or t[-1] <= t[0]:
        return None
    x = t - t.mean()
    power = float(x @ x)
    found = float(x @ y) / power
    left = y - y.mean() - found * x
    worth = max(3.0, effective(len(t), likeness(left)))
    sigma = math.sqrt(float(left @ left) / max(1, len(t) - 2))
    step = channel.resolution
    coarse = step / math.sqrt(12.0) / max(float(t[-1] - t[0]), 1e-9)
    return Estimate(
        found, math.hypot(sigma / math.sqrt(power) * math.sqrt(len(t) / worth), coarse), f"{channel.unit}/s".lstrip("/")
    )


@dataclass(frozen=True)
class Decay:
    """An exponential approach: time constant, where it goes, and from where."""

    lag: Estimate
    end: Estimate
    begin: Estimate


def decay(channel: Channel) -> Decay | None:
    """Fit y = end + (begin − end)·e^(−t/τ). None with fewer than eight samples, or if it is no such curve (a straight line fits as well)."""
    if len(channel.t) < 8:
        return None
    every = max(1, len(channel.t) // MOST_POINTS)
    t, y = channel.t[::every] - channel.t[0], channel.y[::every]
    span, scale = float(t[-1]), float(y.max() - y.min())
    if span <= 0 or scale <= 0:
        return None

    def curve(log_lag: float) -> tuple[Array, Array]:
        design = np.stack([np.ones_like(t), np.exp(-t / math.exp(log_lag))], axis=1)
        linear, *_ = np.linalg.lstsq(design, y, rcond=None)
        return linear, design @ linear - y

    start = min(np.linspace(math.log(span / 50), math.log(span * 2), 20), key=lambda s: float(curve(s)[1] @ curve(s)[1]))

    def left_over(p: Array) -> Array:
        return curve(float(p[0]))[1]

    solved = least_squares(left_over, [start], bounds=([math.log(span / 500)], [math.log(span * 20)]))
    log_lag = float(solved.x[0])
    linear, left = curve(log_lag)
    line = np.polyfit(t, y, 1)
    straight = y - np.polyval(line, t)
    worth = max(4.0, effective(len(t), likeness(left)))
    if worth * math.log(max(float(straight @ straight), 1e-30) / max(float(left @ left), 1e-30)) < math.log(worth) + 4.0:
        return None
    lag = math.exp(log_lag)
    shrunk = np.exp(-t / lag)
    jacobian = np.stack([linear[1] * shrunk * t / lag, np.ones_like(t), shrunk], axis=1)
    covariance = np.linalg.pinv(jacobian.T @ jacobian, hermitian=True) * float(left @ left) / max(1, len(t) - 3) * (len(t) / worth)
    end_and_begin = math.sqrt(max(0.0, float(covariance[1, 1] + covariance[2, 2] + 2 * covariance[1, 2])))
    return Decay(
        Estimate(lag, lag * math.sqrt(max(0.0, float(covariance[0, 0]))), "s"),
        Estimate(float(linear[0]), math.sqrt(max(0.0, float(covariance[1, 1]))), channel.unit),
        Estimate(float(linear[0] + linear[1]), end_and_begin, channel.unit),
    )
