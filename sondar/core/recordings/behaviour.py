"""Words for how a channel behaves: constant, clipped, noisy; and what a counter counted."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sondar.core.recordings.estimate import noise_of
from sondar.core.recordings.model import Channel

STILL_STEPS = 2.0
"""Steps of its resolution within which a channel does not change at all."""
CLIPPED_SHARE = 0.02
"""Of the samples at one end, in a row, at which a signal is clipped there."""


@dataclass(frozen=True)
class Range:
    """Least and greatest figure, and the noise on it (one standard deviation)."""

    least: float
    greatest: float
    noise: float


def range_of(channel: Channel) -> Range:
    """Range and noise.

    Raises:
        ValueError: no samples.
    """
    return Range(float(channel.y.min()), float(channel.y.max()), noise_of(channel.y))


def is_constant(channel: Channel) -> bool:
    """True if it does not change by more than its own last digit; a signal that is only steady still has some noise."""
    if len(channel.y) < 5:
        return False
    moved = float(np.percentile(channel.y, 99) - np.percentile(channel.y, 1))
    return moved <= STILL_STEPS * channel.resolution


def clipped(channel: Channel) -> str:
    """``top``, ``bottom``, ``both`` or "": where a signal that moves stands exactly at its end for a while."""
    y = channel.y
    if len(y) < 50 or float(y.max() - y.min()) <= 4.0 * channel.resolution:
        return ""
    found = [
        name for name, end in (("bottom", y.min()), ("top", y.max())) if _longest_run(y == end) >= max(4, CLIPPED_SHARE * len(y))
    ]
    return "both" if len(found) == 2 else "".join(found)


def _longest_run(flags: np.ndarray) -> int:
    edges = np.flatnonzero(np.diff(np.concatenate([[False], flags, [False]]).astype(np.int8)))
    return int((edges[1::2] - edges[::2]).max(initial=0))


def counted(channel: Channel, turns_over_at: float = 0.0) -> float:
    """What a counter counted from the first sample to the last; a fall is a reset, or a turn-over where the counter's size is known."""
    steps = np.diff(channel.y)
    falls = steps < 0
    steps[falls] = steps[falls] + turns_over_at if turns_over_at else channel.y[1:][falls]
    return float(steps.sum())
