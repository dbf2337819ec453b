"""A recording as it is kept: samples and pyramids in chunks of bytes, clocks only where they are uneven."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from sondar.core.recordings.model import Array, Channel, Lane, Mark, Recording
from sondar.core.recordings.pyramid import levels

CHUNK = 1 << 16
"""Samples, or groups of a level, in one chunk."""
DECIMALS = 9
"""Decimals of a second to which even clocks are put together again."""


@dataclass(frozen=True)
class Chunk:
    """A piece of a channel's level 0 (float64) or of level n (float32 pairs); ``t`` (float64) where its clock is uneven and its own."""

    channel: int
    level: int
    number: int
    t: bytes | None
    y: bytes


@dataclass(frozen=True)
class ChannelHead:
    """A channel without its samples; see ``recording_channel``."""

    number: int
    name: str
    unit: str
    role: str
    samples: int
    least: float
    greatest: float
    sample_s: float
    clock: int
    even_start: float | None
    even_step: float | None


@dataclass(frozen=True)
class Packed:
    """A recording ready to be stored."""

    heads: tuple[ChannelHead, ...]
    chunks: tuple[Chunk, ...]
    lanes: tuple[Lane, ...]
    marks: tuple[Mark, ...]
    start_s: float
    end_s: float
    began: float | None
    notes: tuple[str, ...]

    @property
    def samples(self) -> int:
        """Of all channels."""
        return sum(head.samples for head in self.heads)


def even(t: Array) -> tuple[float, float] | None:
    """(start, step) of a clock that is even to the last digit that matters; None if it is not."""
    if len(t) < 2:
        return None
    start, step = float(t[0]), round(float(t[-1] - t[0]) / (len(t) - 1), 12)
    return (start, step) if np.array_equal(even_clock(start, step, 0, len(t)), t) else None


def even_clock(start: float, step: float, first: int, count: int) -> Array:
    """Times of samples ``first`` … ``first + count − 1``."""
    return np.round(start + step * np.arange(first, first + count), DECIMALS)


def pack(recording: Recording, began: float | None = None, notes: Sequence[str] = ()) -> Packed:
    """Cut into chunks, with the pyramid of every channel."""
    heads: list[ChannelHead] = []
    chunks: list[Chunk] = []
    clocks: list[tuple[Array, int, tuple[float, float] | None]] = []
    for number, channel in enumerate(recording.channels):
        shared = next(
            (c for c in clocks if c[0] is channel.t or (len(c[0]) == len(channel.t) and np.array_equal(c[0], channel.t))), None
        )
        if shared is None:
            shared = (channel.t, number, even(channel.t))
            clocks.append(shared)
        _, clock, regular = shared
        heads.append(ChannelHead(
            number, channel.name, channel.unit, channel.role, len(channel.y), float(channel.y.min()), float(channel.y.max()),
            channel.sample_s, clock, *(regular or (None, None)),
        ))  # fmt: skip
        own_clock = channel.t if regular is None and clock == number else None
        chunks += _cut(number, 0, own_clock, channel.y)
        step = 1
        for level, groups in enumerate(levels(channel.y), start=1):
            step *= 16
            chunks += _cut(number, level, None if own_clock is None else own_clock[::step], groups)
    return Packed(
        tuple(heads),
        tuple(chunks),
        tuple(recording.lanes),
        tuple(recording.marks),
        recording.start_s,
        recording.end_s,
        began,
        tuple(notes),
    )


def _cut(channel: int, level: int, t: Array | None, y: np.ndarray) -> list[Chunk]:
    return [
        Chunk(
            channel,
            level,
            start // CHUNK,
            None if t is None else t[start : start + CHUNK].tobytes(),
            y[start : start + CHUNK].tobytes(),
        )
        for start in range(0, len(y), CHUNK)
    ]


def unpacked(head: ChannelHead, t: Array, y: Array) -> Channel:
    """A channel again."""
    return Channel(head.name, head.unit, t, y, head.role)  # type: ignore[arg-type]
