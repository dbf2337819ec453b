"""Pyramids hold every extreme, and clocks come back to the last digit."""

from __future__ import annotations

import numpy as np
import pytest

from sondar.core.recordings.model import Channel, Recording
from sondar.core.recordings.packed import even, even_clock, pack
from sondar.core.recordings.pyramid import GROUP, in_columns, level_for, levels


@pytest.mark.parametrize("samples", [1, 513, 70_001])
def test_every_level_holds_the_extremes(samples: int) -> None:
    y = np.random.default_rng(2).normal(0, 1, samples)
    y[samples // 3] = 99.0
    for level, groups in enumerate(levels(y), start=1):
        assert len(groups) == -(-samples // GROUP**level)
        assert groups[samples // 3 // GROUP**level, 1] == 99.0
        assert groups[:, 0].min() == np.float32(y.min())


def test_a_stretch_is_drawn_from_a_bounded_number_of_groups() -> None:
    for samples in (100, 10_000, 10_000_000):
        level = level_for(samples, 1000, 4)
        assert samples / GROUP**level < 2 * 1000 * GROUP


def test_columns_keep_extremes() -> None:
    t = np.arange(1000.0)
    y = np.zeros(1000)
    y[777] = -5.0
    times, least, greatest = in_columns(t, y, y, 30)
    assert len(times) == 30
    assert least.min() == -5.0
    assert greatest.max() == 0.0


def test_even_clocks_come_back_exactly_and_uneven_ones_are_kept() -> None:
    t = np.round(np.arange(5000) * 0.01 + 2.0, 9)
    found = even(t)
    assert found is not None
    assert np.array_equal(even_clock(*found, 0, 5000), t)
    assert np.array_equal(even_clock(*found, 4000, 10), t[4000:4010])
    assert even(np.array([0.0, 0.1, 0.25])) is None


def test_channels_that_share_a_clock_keep_it_once() -> None:
    t = np.sort(np.random.default_rng(3).uniform(0, 100, 2000))
    packed = pack(Recording((Channel("a", "V", t, np.sin(t)), Channel("b", "A", t, np.cos(t)))))
    assert [head.clock for head in packed.heads] == [0, 0]
    assert {(chunk.channel, chunk.t is not None) for chunk in packed.chunks} == {(0, True), (1, False)}
    assert packed.samples == 4000
