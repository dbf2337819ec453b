"""MDF 4 in and out; broken files say so."""

from __future__ import annotations

import numpy as np
import pytest

from sondar.core.errors import InvalidError
from sondar.core.recordings.model import Channel, Lane, Recording
from sondar.recording_files.mdf import is_mdf, read_mdf, write_mdf


def written() -> bytes:
    t = np.sort(np.random.default_rng(5).uniform(0, 10, 300))
    t[0] = 0.0
    channels = (Channel("Pressure", "kPa", t, np.sin(t)), Channel("Speed", "rpm", np.arange(50) / 5.0, np.arange(50.0)))
    return b"".join(write_mdf(Recording(channels, (Lane("Valve", ((0.0, "off"), (2.5, "on"), (7.5, "off"))),))))


def test_a_recording_comes_back_from_mdf() -> None:
    raw = written()
    assert is_mdf(raw)
    found = read_mdf(raw).recording
    assert [(c.name, c.unit, len(c.y)) for c in found.channels] == [("Pressure", "kPa", 300), ("Speed", "rpm", 50)]
    assert np.array_equal(found.channels[0].y, np.sin(found.channels[0].t))
    assert found.lanes[0].changes == ((0.0, "off"), (2.5, "on"), (7.5, "off"))


@pytest.mark.parametrize("cut", [0.2, 0.5, 0.8])
def test_a_file_that_is_cut_off_is_refused(cut: float) -> None:
    raw = written()
    with pytest.raises(InvalidError, match="damaged or cut off"):
        read_mdf(raw[: int(cut * len(raw))])


def test_bytes_changed_anywhere_give_a_recording_or_a_reason() -> None:
    raw, rng = bytearray(written()), np.random.default_rng(8)
    for _ in range(60):
        broken = bytearray(raw)
        for at in rng.integers(64, len(raw), 4):
            broken[at] = int(rng.integers(0, 256))
        try:
            assert read_mdf(bytes(broken)).recording.end_s >= 0.0
        except InvalidError as error:
            assert "MDF" in error.detail
