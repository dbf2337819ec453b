"""A dropout says nothing of the level that it interrupts, nor of the response beside it."""

from __future__ import annotations

import numpy as np
import pytest

from sondar.core.recordings.model import Channel, Lane
from sondar.core.recordings.offered import Feature, features, without_dropouts


def recorded(*spells: float) -> tuple[Channel, Lane]:
    """A valve that follows a command at 5 s with 0.4 s, and drops to zero for 0.1 s now and then."""
    rng, t = np.random.default_rng(4), np.arange(0.0, 20.0, 0.02)
    y = 1.0 + 2.0 * np.where(t > 5.0, 1.0 - np.exp(-(t - 5.0) / 0.4), 0.0) + rng.normal(0.0, 0.01, len(t))
    for at in spells:
        y = np.where((t >= at) & (t < at + 0.1), 0.0, y)
    return Channel("Position", "V", t, y), Lane("Valve", ((0.0, "closed"), (5.0, "open")), True)


def by_kind(*spells: float) -> dict[str, Feature]:
    channel, lane = recorded(*spells)
    return {one.kind: one for one in features(channel, [lane], 0.0, 20.0)}


def test_figures_are_those_without_the_dropout_and_the_dropout_is_told() -> None:
    without, with_ = by_kind(), by_kind(8.0, 12.3, 17.01)
    assert with_["dropouts"].word.startswith("3 in 20 s")
    for kind in ("gain", "lag", "dead"):
        one, other = without[kind].estimate, with_[kind].estimate
        assert one is not None
        assert other is not None
        assert other.value == pytest.approx(one.value, abs=0.02)
        assert other.sd < 2.0 * one.sd + 1e-3


def test_what_stands_at_a_command_is_kept() -> None:
    channel, lane = recorded(5.0, 9.0)
    kept = without_dropouts(channel, [lane])
    assert len(channel.t) - 7 <= len(kept.t) < len(channel.t), "the one at the command stays"
    assert len(without_dropouts(channel, []).t) < len(kept.t)
