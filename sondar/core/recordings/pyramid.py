"""Least and greatest figures of ever larger groups of samples, so that a stretch of any length is drawn from a bounded number of them."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from sondar.core.recordings.model import Array

GROUP = 16
"""Samples, or groups of the level below, in one group."""
TOP = 512
"""Groups with which the uppermost level is at most as long."""


def levels(y: Array) -> list[npt.NDArray[np.float32]]:
    """[(groups, 2) least and greatest] of 16, 256, … samples, as far as one has more than ``TOP`` groups below it."""
    found: list[npt.NDArray[np.float32]] = []
    least: npt.NDArray[np.floating] = y
    greatest: npt.NDArray[np.floating] = y
    while len(least) > TOP:
        least, greatest = _grouped(least, np.minimum), _grouped(greatest, np.maximum)
        found.append(np.stack([least, greatest], axis=1).astype(np.float32))
    return found


def _grouped(y: npt.NDArray[np.floating], function: np.ufunc) -> npt.NDArray[np.floating]:
    whole = len(y) // GROUP * GROUP
    grouped = function.reduce(y[:whole].reshape(-1, GROUP), axis=1)
    return grouped if whole == len(y) else np.append(grouped, function.reduce(y[whole:]))


def level_for(samples: int, columns: int, deepest: int) -> int:
    """The level from which a stretch of so many samples is drawn in so many columns: the coarsest that still has two groups a column."""
    level = 0
    while level < deepest and samples / GROUP ** (level + 1) >= 2 * columns:
        level += 1
    return level


def in_columns(t: Array, least: Array, greatest: Array, columns: int) -> tuple[Array, Array, Array]:
    """At most so many (time, least, greatest) of groups, the first of each column giving its time."""
    if len(t) <= columns:
        return t, least, greatest
    edges = np.linspace(0, len(t), columns + 1).astype(int)[:-1]
    return t[edges], np.minimum.reduceat(least, edges), np.maximum.reduceat(greatest, edges)
