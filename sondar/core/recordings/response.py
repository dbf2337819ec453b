"""What a channel does after a command: by how much, after which dead time, how fast, and whether it overshoots.

Shapes fitted by least squares (Ljung, *System Identification*, 2nd ed., ch. 7): linear in level and gain, which are projected out, so that only
dead time and time constant are searched (Golub and Pereyra, SIAM J. Numer. Anal. 10, 1973). Real parts stick, run at limited speed or overshoot; so
several shapes are fitted and weighed by Schwarz's criterion, and what they disagree about counts as uncertainty.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy.optimize import least_squares

from sondar.core.recordings.estimate import Estimate, effective, likeness, noise_of, undithered
from sondar.core.recordings.model import Array, Channel

MOST_POINTS = 3000
COARSE_POINTS = 300
MOVES = 4.0
"""Standard uncertainties by which a channel must have moved before it is said to move."""
LACK = 3.5
"""How much more than the mean square left over a wrong shape may be wrong at one place."""
SHARE_REACHED = 1.0 - math.exp(-1.0)
"""Of the way, after one time constant: 63 %."""

Shape = Callable[[Array, Array], Any]
"""(seconds since dead time ended, parameters of the shape) -> share of the way, 0 before."""


@dataclass(frozen=True)
class Response:
    """How a channel answered a command.

    Attributes:
        shape: the shape that fits best, in words.
        before, gain: level before, and by how much it came to differ, both in the channel's unit.
        dead: seconds until it begins to move. lag: seconds from there to 63 % of the way. reached: seconds from the command to 90 % of the way.
        overshoot: share of the gain by which it passed its new level.
        moved: False if it cannot be told from not moving; then only ``gain`` says anything.
        settled: False if it was still on its way at the end.
    """

    shape: str
    before: Estimate
    gain: Estimate
    dead: Estimate
    lag: Estimate
    reached: Estimate
    overshoot: Estimate
    moved: bool
    settled: bool


@dataclass(frozen=True)
class _Form:
    """A shape: its words, the parameters beside dead time and time constant, each with start and bounds."""

    words: str
    share: Shape
    extra: tuple[tuple[float, float, float], ...] = ()


def _first_order(x: Array, p: Array) -> Any:
    return 1.0 - np.exp(-x / p[0])


def _ramp(x: Array, p: Array) -> Any:
    return np.clip(x / p[0], 0.0, 1.0)


def _second_order(x: Array, p: Array) -> Any:
    """Critically damped."""
    z = x / p[0]
    return 1.0 - (1.0 + z) * np.exp(-z)


def _two_lags(x: Array, p: Array) -> Any:
    """Two lags one behind the other, the second p[1] times the first (less than 1)."""
    second = p[0] * p[1]
    return 1.0 - (p[0] * np.exp(-x / p[0]) - second * np.exp(-x / second)) / (p[0] - second)


def _ramp_and_lag(x: Array, p: Array) -> Any:
    """At limited speed for p[0] seconds, seen through a lag of p[1]·p[0]."""
    lag = p[0] * p[1]
    running = (x - lag * (1.0 - np.exp(-x / lag))) / p[0]
    end = (p[0] - lag * (1.0 - math.exp(-1.0 / p[1]))) / p[0]
    return np.where(x <= p[0], running, 1.0 - (1.0 - end) * np.exp(-np.maximum(x - p[0], 0.0) / lag))


def _swinging(x: Array, p: Array) -> Any:
    """Underdamped: natural period p[0]·2π, damping ratio p[1]."""
    zeta = p[1]
    root = math.sqrt(1.0 - zeta * zeta)
    z = x / p[0]
    return 1.0 - np.exp(-zeta * z) * (np.cos(root * z) + zeta / root * np.sin(root * z))


def _jump_first(x: Array, p: Array) -> Any:
    """A part that sticks, then gives way by a share p[1] at once."""
    return np.where(x > 0, p[1] + (1.0 - p[1]) * (1.0 - np.exp(-x / p[0])), 0.0)


FORMS = (
    _Form("first order", _first_order), _Form("at limited speed", _ramp), _Form("second order", _second_order),
    _Form("two lags", _two_lags, ((0.4, 0.03, 0.97),)), _Form("at limited speed, then a lag", _ramp_and_lag, ((0.3, 0.03, 4.0),)),
    _Form("swinging", _swinging, ((0.5, 0.08, 0.92),)), _Form("sticks, then gives way", _jump_first, ((0.4, 0.05, 0.95),)),
)  # fmt: skip


def response(channel: Channel, at_s: float, from_s: float, until_s: float) -> Response | None:
    """The response to a command at ``at_s``, judged on the samples from ``from_s`` (before it) to ``until_s``.

    None with fewer than three samples before or five after the command.
    """
    part = channel.within(from_s, until_s)
    if np.count_nonzero(part.t < at_s) < 3 or np.count_nonzero(part.t >= at_s) < 5:
        return None
    sample_s, step = part.sample_s, part.resolution
    t, y = _thinned(part.t - at_s, part.y)
    scale = float(y.max() - y.min())
    noise = max(noise_of(y), step / math.sqrt(12.0), 1e-12)
    if scale <= 0.0:
        return _still(part, y, noise)
    longest = float(t[-1])
    # A dead time may not be told from no movement at all where it would last until nearly the end.
    fits = [fit for form in FORMS if (fit := _fit(form, t, y, longest, sample_s)) is not None]
    if not fits:
        return _still(part, y, noise)
    found = _weighed(fits, t, y, longest, sample_s, step, noise, part)
    return found if found.moved else _still(part, y, noise, found.gain)


def _thinned(t: Array, y: Array) -> tuple[Array, Array]:
    """Means of blocks where there are more samples than the fit needs; blocks never reach across the command."""
    if len(t) <= MOST_POINTS:
        return t, y
    block = -(-len(t) // MOST_POINTS)
    zero = int(np.searchsorted(t, 0.0))
    parts = []
    for a in (slice(zero % block, zero), slice(zero, zero + (len(t) - zero) // block * block)):
        parts.append((t[a].reshape(-1, block).mean(axis=1), y[a].reshape(-1, block).mean(axis=1)))
    return np.concatenate([p[0] for p in parts]), np.concatenate([p[1] for p in parts])


@dataclass(frozen=True)
class _Fit:
    form: _Form
    theta: Array
    level: float
    gain: float
    residual: Array
    covariance: Array
    rho: float
    squares: float


def _design(form: _Form, t: Array, theta: Array) -> Array:
    since = np.maximum(t - theta[0], 0.0)
    share = form.share(since, np.concatenate([[math.exp(theta[1])], theta[2:]]))
    return np.stack([np.ones_like(t), np.where(t > theta[0], share, 0.0)], axis=1)


def _projected(form: _Form, t: Array, y: Array, theta: Array) -> tuple[Array, Array]:
    """Level and gain that fit best at given non-linear parameters, and what is left."""
    design = _design(form, t, theta)
    n, s, ss = len(t), float(design[:, 1].sum()), float(design[:, 1] @ design[:, 1])
    sy, ssy = float(y.sum()), float(design[:, 1] @ y)
    determinant = n * ss - s * s
    if determinant <= 1e-12 * n * max(ss, 1e-12):
        linear = np.array([sy / n, 0.0])
    else:
        linear = np.array([(ss * sy - s * ssy) / determinant, (n * ssy - s * sy) / determinant])
    return linear, design @ linear - y


def _fit(form: _Form, t: Array, y: Array, longest: float, sample_s: float) -> _Fit | None:
    shortest = max(0.3 * sample_s, longest * 1e-4)
    lower = np.array([0.0, math.log(shortest), *(e[1] for e in form.extra)])
    upper = np.array([0.9 * longest, math.log(3.0 * longest), *(e[2] for e in form.extra)])

    def left_over(theta: Array) -> Array:
        return _projected(form, t, y, theta)[1]

    best = None
    for start in _jump_starts(t, y, longest, shortest) if form.share is _jump_first else _starts(form, t, y, longest, shortest):
        solved = least_squares(
            left_over, np.clip(start, lower + 1e-9, upper - 1e-9),
            bounds=(lower, upper), x_scale=np.array([max(sample_s, 0.02 * longest), 0.3, *(0.2 for _ in form.extra)]), max_nfev=60,
        )  # fmt: skip
        if best is None or solved.cost < best.cost:
            best = solved
    if best is None:
        return None
    linear, left = _projected(form, t, y, best.x)
    jacobian = np.concatenate([_slopes(form, t, best.x, linear, longest), _design(form, t, best.x)], axis=1)
    free = max(1.0, len(t) - jacobian.shape[1])
    squares = float(left @ left)
    rho = likeness(left)
    worth = max(3.0, effective(len(t), rho))
    information = jacobian.T @ jacobian
    if form.share is _jump_first:
        information[0, :] = information[:, 0] = 0.0
        information[0, 0] = 1.0
    ridge = 1e-12 * np.diag(np.maximum(np.diag(information), 1e-30))
    covariance = np.linalg.pinv(information + ridge, hermitian=True) * (squares / free) * (len(t) / worth)
    return _Fit(form, best.x, float(linear[0]), float(linear[1]), left, covariance, rho, squares)


def _starts(form: _Form, t: Array, y: Array, longest: float, shortest: float) -> list[Array]:
    """Where the search begins: the best of a coarse grid of dead times and time constants."""
    few = slice(None) if len(t) <= COARSE_POINTS else np.linspace(0, len(t) - 1, COARSE_POINTS).astype(int)
    found = []
    for dead in np.concatenate([[0.0], np.geomspace(max(shortest, 1e-3 * longest), 0.8 * longest, 22)]):
        for log_lag in np.linspace(math.log(shortest), math.log(longest), 14):
            theta = np.array([dead, log_lag, *(e[0] for e in form.extra)])
            _, left = _projected(form, t[few], y[few], theta)
            found.append((float(left @ left), tuple(theta)))
    return [np.array(theta) for _, theta in sorted(found)[:2]]


def _jump_starts(t: Array, y: Array, longest: float, shortest: float) -> list[Array]:
    """A jump is not found by going downhill: it is looked for in every gap between samples, first in a few, then around the best.

    Its size and the rest are linear, so only the place and the time constant are tried.
    """
    middle = 0.5 * (t[1:] + t[:-1])
    gaps = np.flatnonzero((middle > 0) & (middle < 0.8 * longest))
    if len(gaps) == 0:
        return []
    stride = max(1, len(gaps) // 120)
    lags = np.geomspace(shortest, longest, 9)

    def best(of: npt.NDArray[np.intp]) -> tuple[float, int, float, float]:
        found = (math.inf, int(of[0]), shortest, 0.5)
        for gap in of:
            after = t > middle[gap]
            since = np.maximum(t - middle[gap], 0.0)
            for lag in lags:
                design = np.stack([np.ones_like(t), after, after * (1.0 - np.exp(-since / lag))], axis=1)
                linear = np.linalg.lstsq(design.T @ design, design.T @ y, rcond=None)[0]
                left = design @ linear - y
                squares, whole = float(left @ left), linear[1] + linear[2]
                if squares < found[0]:
                    found = (squares, int(gap), float(lag), float(np.clip(linear[1] / whole if whole else 0.5, 0.06, 0.94)))
        return found

    _, gap, _, _ = best(gaps[::stride])
    at = int(np.searchsorted(gaps, gap))
    _, gap, lag, jump = best(gaps[max(0, at - stride) : at + stride + 1])
    return [np.array([middle[gap], math.log(lag), jump])]


def _slopes(form: _Form, t: Array, theta: Array, linear: Array, longest: float) -> Array:
    """(N, parameters) how the curve follows dead time, logarithm of the time constant and the rest."""
    columns = []
    for index in range(len(theta)):
        step = 1e-4 * (longest if index == 0 else 1.0)
        ahead, back = theta.copy(), theta.copy()
        ahead[index] += step
        back[index] -= step
        columns.append((_design(form, t, ahead) @ linear - _design(form, t, back) @ linear) / (2.0 * step))
    return np.stack(columns, axis=1)


def _times(form: _Form, theta: Array) -> Array:
    """Dead time, seconds from there to 63 %, and seconds from the command to 90 %; and the overshoot as a share."""
    lag = math.exp(theta[1])
    x = np.linspace(0.0, 14.0 * lag, 4001)
    share = form.share(x, np.concatenate([[lag], theta[2:]]))

    def first(part: float) -> float:
        at = int(np.argmax(share >= part))
        if at == 0:
            return 0.0
        inside = (part - share[at - 1]) / max(share[at] - share[at - 1], 1e-12)
        return float(x[at - 1] + inside * (x[at] - x[at - 1]))

    return np.array([theta[0], first(SHARE_REACHED), theta[0] + first(0.9), max(0.0, float(share.max()) - 1.0)])


def _weighed(
    fits: list[_Fit], t: Array, y: Array, longest: float, sample_s: float, step: float, noise: float, part: Channel
) -> Response:
    """All shapes together: Schwarz weights, on as many samples as they are worth, and the spread between shapes."""
    least = min(f.squares for f in fits)
    floor = len(t) * (0.3 * noise) ** 2
    rho = min(f.rho for f in fits)
    worth = effective(len(t), rho)
    scores = np.array([
        worth * math.log(max(f.squares, floor, 1e-30) / max(least, floor, 1e-30)) + (4 + len(f.form.extra)) * math.log(max(worth, 2.0))
        for f in fits
    ])  # fmt: skip
    weights = np.exp(-0.5 * (scores - scores.min()))
    weights /= weights.sum()
    best = fits[int(np.argmax(weights))]
    figures, variances = [], []
    for fit in fits:
        times = _times(fit.form, fit.theta)
        gradient = np.zeros((4, len(fit.theta)))
        for index in range(len(fit.theta)):
            small = 1e-3 * (longest if index == 0 else 1.0)
            moved = fit.theta.copy()
            moved[index] += small
            gradient[:, index] = (_times(fit.form, moved) - times) / small
        k = len(fit.theta)
        jumps = fit.form.share is _jump_first
        # The place of a jump is anywhere between two samples, where its size and the curve after it make up for one another.
        known = slice(1, k) if jumps else slice(0, k)
        own = np.einsum("ij,jk,ik->i", gradient[:, known], fit.covariance[known, known], gradient[:, known])
        own[:3] += sample_s**2 / 3.0 if jumps else 0.0
        figures.append([fit.level, fit.gain, *times])
        variances.append([fit.covariance[k, k], fit.covariance[k + 1, k + 1], *own])
    figure = weights @ np.array(figures)
    variance = weights @ (np.array(variances) + (np.array(figures) - figure) ** 2)
    # What lies between two samples, and between two steps of the converter, is not known.
    gain = abs(figure[1]) or 1.0
    grain = (sample_s**2 + (figure[3] * step / gain) ** 2) / 12.0
    variance[2:5] += grain
    variance[1:5] += _lack_of_fit(best, t, figure, noise)
    coarse = undithered(step, noise_of(y)) ** 2
    variance[0] += part.bound**2 / 3.0 + coarse
    variance[1] += 2.0 * coarse
    sd = np.sqrt(np.maximum(variance, 0.0))
    quiet = max(noise, step / math.sqrt(12.0)) / math.sqrt(max(1.0, worth / 4.0))
    moves = gain > MOVES * math.hypot(float(sd[1]), quiet) and gain > 1.5 * step
    return Response(
        best.form.words, Estimate(float(figure[0]), float(sd[0]), part.unit), Estimate(float(figure[1]), float(sd[1]), part.unit),
        Estimate(float(figure[2]), float(sd[2]), "s"), Estimate(float(figure[3]), float(sd[3]), "s"), Estimate(float(figure[4]), float(sd[4]), "s"),
        Estimate(float(figure[5]), float(sd[5])), bool(moves), bool(figure[4] < 0.8 * longest),
    )  # fmt: skip


def _lack_of_fit(best: _Fit, t: Array, figure: Array, noise: float) -> Array:
    """Variances of gain, dead time, lag and time to 90 % where no shape fits: what is left beyond the noise, over the slope there.

    Residuals are averaged over blocks, in which noise shrinks and a wrong shape does not.
    """
    _, gain, dead, lag, reached = figure[:5]
    inside = (t > 0.0) & (t < max(2.0 * reached, dead + 4.0 * lag))
    block = max(1, int(inside.sum()) // 24)
    left = best.residual[inside][: int(inside.sum()) // block * block]
    if len(left) < 8:
        return np.zeros(4)
    means = left.reshape(-1, block).mean(axis=1)
    expected = noise**2 * (1.0 + best.rho) / (1.0 - best.rho) / block if best.rho < 0.9 else float(np.mean(means**2)) * 0.5
    beyond = max(0.0, float(np.mean(means**2)) - 1.5 * min(expected, float(np.var(left)) * 2.0 / block))
    size, to_90 = max(abs(gain), 1e-12), max(reached - dead, lag, 1e-9)
    return (
        LACK * beyond * np.array([1.0, (max(lag, 1e-9) / size) ** 2, (2.5 * max(lag, 1e-9) / size) ** 2, (8.0 * to_90 / size) ** 2])
    )


def _still(part: Channel, y: Array, noise: float, gain: Estimate | None = None) -> Response:
    """It cannot be told from standing still: by how much it may have moved at most is all that is known."""
    nothing = Estimate(0.0, 0.0, "s")
    spread = max(noise, float(y.std()))
    level = Estimate(float(y.mean()), math.hypot(spread / math.sqrt(max(1, len(y))), part.bound / math.sqrt(3.0)), part.unit)
    moved = gain or Estimate(0.0, max(noise * 2.0 / math.sqrt(max(1, len(y))), part.resolution / math.sqrt(12.0)), part.unit)
    return Response("no movement", level, moved, nothing, nothing, nothing, Estimate(0.0, 0.0), False, True)
