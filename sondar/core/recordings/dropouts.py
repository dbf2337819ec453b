"""Short spells in which a signal is somewhere else; and what an instrument of a given rate can have seen of them."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import median_filter
from scipy.special import chdtri

from sondar.core.recordings.estimate import noise_of
from sondar.core.recordings.model import Channel

LONGEST_S = 1.0
"""What lasts longer is no dropout but a change."""
AWAY = 8.0
"""Noise standard deviations from its surroundings at which a sample belongs to a spell."""
SHARE_AWAY = 0.15
"""Of the figure's own size, or of its range, that a spell goes away at least."""


@dataclass(frozen=True)
class Spell:
    """One dropout: when, how long at least and at most (sampling), and where the signal was then."""

    start_s: float
    least_s: float
    most_s: float
    figure: float


@dataclass(frozen=True)
class Dropouts:
    """Spells of a channel.

    Attributes:
        per_minute: rate with its 95 % interval (Garwood, Biometrika 28, 1936).
        watched_s: how long was watched. sample_s: time between samples.
    """

    spells: tuple[Spell, ...]
    per_minute: float
    low: float
    high: float
    watched_s: float
    sample_s: float

    def chance_seen(self, spell_s: float, per_minute: float) -> float:
        """Chance that at least one spell of that length and rate shows in this recording: 1 − e^(−λT·min(1, spell/sample))."""
        return chance_seen(spell_s, per_minute, self.watched_s, self.sample_s)


def chance_seen(spell_s: float, per_minute: float, watched_s: float, sample_s: float) -> float:
    """Chance that an instrument with ``sample_s`` between samples shows at least one of the spells that come at random."""
    each = 1.0 if sample_s <= 0 else min(1.0, spell_s / sample_s)
    return 1.0 - math.exp(-per_minute / 60.0 * watched_s * each)


def dropouts(channel: Channel) -> Dropouts | None:
    """Spells of at most ``LONGEST_S`` in which the signal leaves its surroundings and comes back. None with fewer than ten samples."""
    t, y = channel.t, channel.y
    if len(t) < 10:
        return None
    sample_s, watched = channel.sample_s, float(t[-1] - t[0])
    width = int(min(len(y) // 3 * 2 + 1, max(5, 2 * round(LONGEST_S / max(sample_s, 1e-6)) + 1, 5), 4001)) | 1
    usual = median_filter(y, size=width, mode="nearest")
    scale = max(float(np.percentile(np.abs(usual), 90)), float(usual.max() - usual.min()))
    limit = max(AWAY * noise_of(y - usual), SHARE_AWAY * scale, 2.5 * channel.resolution)
    out = np.abs(y - usual) > limit
    edges = np.flatnonzero(np.diff(np.concatenate([[False], out, [False]]).astype(np.int8)))
    spells = []
    for first, after in zip(edges[::2], edges[1::2], strict=True):
        least = float(t[after - 1] - t[first])
        most = float(t[min(after, len(t) - 1)] - t[max(first - 1, 0)])
        if least <= LONGEST_S and first > 0 and after < len(t):
            spells.append(Spell(float(t[first]), least, most, float(np.median(y[first:after]))))
    n, minutes = len(spells), max(watched / 60.0, 1e-9)
    low = float(chdtri(2 * n, 0.975)) / 2 / minutes if n else 0.0
    return Dropouts(tuple(spells), n / minutes, low, float(chdtri(2 * n + 2, 0.025)) / 2 / minutes, watched, sample_s)
