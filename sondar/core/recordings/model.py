"""What a recording is: sampled channels, lanes of commands and states, marks; all on one clock in seconds."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
Role = Literal["signal", "command", "feedback", "supply", "reference", "counter"]
ROLES: tuple[Role, ...] = ("signal", "command", "feedback", "supply", "reference", "counter")


@dataclass(frozen=True, eq=False)
class Channel:
    """One sampled quantity.

    Attributes:
        t: (N,) seconds on the recording's clock, rising. y: (N,) figures in ``unit``; no infinities and no gaps (they are left out).
        bound: the instrument's own error in ``unit``, within which it is right (half-width); 0 if not known.
    """

    name: str
    unit: str
    t: Array
    y: Array
    role: Role = "signal"
    bound: float = 0.0

    def within(self, start_s: float, end_s: float) -> Channel:
        """The part of it from ``start_s`` to ``end_s``, both included."""
        first, last = np.searchsorted(self.t, start_s, "left"), np.searchsorted(self.t, end_s, "right")
        return Channel(self.name, self.unit, self.t[first:last], self.y[first:last], self.role, self.bound)

    @property
    def sample_s(self) -> float:
        """Usual time from one sample to the next in seconds; 0 with fewer than two."""
        return float(np.median(np.diff(self.t))) if len(self.t) > 1 else 0.0

    @property
    def resolution(self) -> float:
        """Smallest step between different figures: what its last digit or its converter leaves. 0 if it never changes."""
        return resolution_of(self.y)


MANY = 5
"""Different figures, or changes to and fro, from which on a grid of figures tells of a converter."""


def resolution_of(y: Array, looked_at: int = 20_000) -> float:
    """Smallest step between figures of an array, if they stand on a grid of it; 0 if not, or if all are the same."""
    some = y if len(y) <= looked_at else y[:: len(y) // looked_at]
    different = np.unique(some)
    if len(different) < 2 or (len(different) < MANY and np.count_nonzero(np.diff(some)) < 2 * MANY):
        return 0.0  # a few levels that are kept are positions, not steps of a converter
    steps = np.diff(different)
    smallest = float(steps[steps > 1e-9 * max(float(np.abs(different).max()), 1e-12)].min(initial=np.inf))
    if not np.isfinite(smallest):
        return 0.0
    multiples = steps / smallest
    return smallest if float(np.abs(multiples - np.round(multiples)).max()) < 0.05 else 0.0


@dataclass(frozen=True)
class Lane:
    """A command or a status word over time: (seconds, position) of every change, the first being where it begins.

    Attributes:
        commands: it drives something, so that channels are asked how they answered; else it only says a state.
    """

    name: str
    changes: tuple[tuple[float, str], ...]
    commands: bool = False

    def at(self, seconds: float) -> str:
        """Position at a time; "" before the first."""
        found = bisect_right([t for t, _ in self.changes], seconds) - 1
        return self.changes[found][1] if found >= 0 else ""

    @property
    def steps(self) -> list[Step]:
        """Every change of position but the first entry, with how long it stayed so."""
        found = []
        for index in range(1, len(self.changes)):
            at, after = self.changes[index]
            before = self.changes[index - 1][1]
            if after != before:
                found.append(Step(self.name, at, before, after))
        return found


@dataclass(frozen=True)
class Step:
    """A change of a lane's position."""

    lane: str
    at_s: float
    before: str
    after: str

    @property
    def size(self) -> float:
        """By how much the command changed, where both positions are figures; 1 otherwise."""
        try:
            return (level(self.after) - level(self.before)) or 1.0
        except ValueError:
            return 1.0


def level(position: str) -> float:
    """The figure of a position such as ``60``, ``60 %`` or ``off``.

    Raises:
        ValueError: it is none.
    """
    word = position.strip().lower().removesuffix("%").strip().replace(",", ".")
    return {"off": 0.0, "closed": 0.0}.get(word) if word in ("off", "closed") else float(word)  # type: ignore[return-value]


@dataclass(frozen=True)
class Mark:
    """A moment that somebody or something marked."""

    at_s: float
    text: str


@dataclass(frozen=True, eq=False)
class Recording:
    """Channels, lanes and marks on one clock."""

    channels: Sequence[Channel]
    lanes: Sequence[Lane] = ()
    marks: Sequence[Mark] = ()

    @property
    def start_s(self) -> float:
        """First sample or change."""
        return min(
            [float(c.t[0]) for c in self.channels if len(c.t)] + [lane.changes[0][0] for lane in self.lanes if lane.changes],
            default=0.0,
        )

    @property
    def end_s(self) -> float:
        """Last sample or change."""
        return max(
            [float(c.t[-1]) for c in self.channels if len(c.t)] + [lane.changes[-1][0] for lane in self.lanes if lane.changes],
            default=0.0,
        )

    def channel(self, name: str) -> Channel | None:
        """The channel of that name."""
        return next((c for c in self.channels if c.name == name), None)
