"""Two channels against each other: do they move together and with which lag; does one report what the other shows."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy.signal import correlate

from sondar.core.recordings.estimate import Estimate, likeness
from sondar.core.recordings.model import Array, Channel

MOST_POINTS = 20_000


@dataclass(frozen=True)
class Together:
    """How far two channels move together.

    Attributes:
        r: correlation at the best lag, with its 95 % interval. lag_s: by which the second is later than the first.
    """

    r: float
    low: float
    high: float
    lag_s: float


@dataclass(frozen=True)
class Line:
    """``reported = offset + gain · reference``."""

    gain: Estimate
    offset: Estimate
    error: Estimate


def on_one_clock(a: Channel, b: Channel, most: int = MOST_POINTS) -> tuple[Array, Array, Array] | None:
    """Both on an even clock where both were recorded, at the rate of the slower one; None if they share less than eight samples."""
    if len(a.t) < 4 or len(b.t) < 4:
        return None
    start, end = max(a.t[0], b.t[0]), min(a.t[-1], b.t[-1])
    step = max(a.sample_s, b.sample_s, (end - start) / most, 1e-9)
    count = int((end - start) / step) + 1
    if end <= start or count < 8:
        return None
    t = start + step * np.arange(count)
    return t, np.interp(t, a.t, a.y), np.interp(t, b.t, b.y)


def pairs(a: Channel, b: Channel, most: int = 2_000) -> tuple[Array, Array, Array] | None:
    """(times, first, second) to draw one channel over the other: at the samples of the slower one, where both were recorded.

    Not more than ``most`` of them, evenly left out; None if they share fewer than two. Nothing is extended beyond what was recorded.
    """
    if len(a.t) < 2 or len(b.t) < 2:
        return None
    slower = a if a.sample_s >= b.sample_s else b
    start, end = max(a.t[0], b.t[0]), min(a.t[-1], b.t[-1])
    t = slower.t[(slower.t >= start) & (slower.t <= end)]
    if len(t) < 2:
        return None
    if len(t) > most:
        t = t[np.linspace(0, len(t) - 1, most).astype(int)]
    return t, np.interp(t, a.t, a.y), np.interp(t, b.t, b.y)


def together(a: Channel, b: Channel, longest_lag_s: float = 5.0) -> Together | None:
    """Correlation at the best lag (Fisher's z on the samples that such series are worth: Bartlett, J. R. Stat. Soc. 98, 1935)."""
    shared = on_one_clock(a, b)
    if shared is None:
        return None
    t, x, y = shared
    x, y = x - x.mean(), y - y.mean()
    sx, sy = float(np.sqrt(x @ x)), float(np.sqrt(y @ y))
    if sx <= 0 or sy <= 0:
        return Together(0.0, 0.0, 0.0, 0.0)
    n, step = len(x), float(t[1] - t[0])
    most = min(int(longest_lag_s / step), n // 4)
    full = correlate(y, x, mode="full", method="fft")[n - 1 - most : n + most] / (sx * sy)
    lags = np.arange(-most, most + 1)
    best = int(np.argmax(np.abs(full)))
    r = float(np.clip(full[best], -0.999999, 0.999999))
    reach = min(n // 4, 2000)
    ax = correlate(x, x, mode="full", method="fft")[n - 1 : n + reach] / sx**2
    ay = correlate(y, y, mode="full", method="fft")[n - 1 : n + reach] / sy**2
    worth = max(4.0, n / max(1.0, 1.0 + 2.0 * float(np.sum(ax[1:] * ay[1:]))))
    half = 1.96 / math.sqrt(max(worth - 3.0, 1.0))
    z = math.atanh(r)
    return Together(r, math.tanh(z - half), math.tanh(z + half), float(lags[best]) * step)


def line(reported: Channel, reference: Channel) -> Line | None:
    """Gain and offset of what is reported against a reference, by the median of slopes (Theil and Sen; Sen, J. Am. Stat. Assoc. 63, 1968).

    None if the reference hardly moves: then only the error at that point is known, and no gain.
    """
    shared = on_one_clock(reference, reported, 400)
    if shared is None:
        return None
    _, x, y = shared
    error = y - x
    scatter = 1.4826 * float(np.median(np.abs(error - np.median(error))))
    spread = float(x.max() - x.min())
    bound = math.hypot(reported.bound, reference.bound) / math.sqrt(3.0)
    at_once = Estimate(float(np.median(error)), math.hypot(1.25 * scatter / math.sqrt(len(x)), bound), reported.unit)
    if spread <= 6.0 * max(scatter * 0.2, reference.resolution, 1e-12):
        return Line(Estimate(1.0, math.inf), Estimate(at_once.value, math.inf, reported.unit), at_once)
    from scipy.stats import theilslopes

    gain, offset, low, high = theilslopes(y, x, 0.95)
    # The interval holds for samples that do not resemble their neighbours; what is left here often does.
    rho = likeness(y - offset - gain * x)
    sd = float(high - low) / 3.92 * math.sqrt((1.0 + rho) / (1.0 - rho))
    sd = math.hypot(sd, reported.resolution / math.sqrt(12.0) / spread)
    return Line(
        Estimate(float(gain), sd),
        Estimate(float(offset), math.hypot(sd * float(np.median(x)), scatter / math.sqrt(len(x)), bound), reported.unit),
        at_once,
    )  # fmt: skip
