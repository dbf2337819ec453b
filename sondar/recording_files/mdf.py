"""MDF 4 (ASAM MDF, measurement data format) through asammdf: channels with units, times and conversions; what else a file holds is listed."""

from __future__ import annotations

import io
import logging
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from sondar.core.errors import RefusedError, TooLargeError, invalid
from sondar.core.recordings.model import Channel, Lane, Mark, Recording
from sondar.recording_files.mapping import LONGEST_NAME, MOST_COLUMNS, MOST_ROWS
from sondar.recording_files.tables import MOST_CHANGES, Read

if TYPE_CHECKING:
    from asammdf import MDF, Signal

# asammdf brings pandas with it, which no process should hold that reads no such file: it is imported where it is needed.

MAGIC = b"MDF     "
HEAD_BYTES = 64 + 104
"""Identification and header block."""
logging.getLogger("asammdf").setLevel(logging.CRITICAL)


def is_mdf(head: bytes) -> bool:
    """True for the first bytes of an MDF file."""
    return head[:8] == MAGIC


def read_mdf(raw: bytes) -> Read:
    """Read an MDF file: figures become channels, words become lanes, events become marks.

    Raises:
        InvalidError: it is damaged, cut off, or none. TooLargeError: more samples or channels than are taken.
    """
    if not is_mdf(raw):
        raise invalid("file", "it is no MDF file")
    if raw[8:10] != b"4." or len(raw) < HEAD_BYTES:
        raise invalid(
            "file", "only MDF version 4 is read, and the whole file is needed: save it again as MDF 4, or export it as CSV"
        )
    from asammdf import MDF

    try:
        with MDF(io.BytesIO(raw)) as file:
            return _read(file)
    except RefusedError:
        raise
    except Exception as error:  # whatever a broken block makes the library raise: struct.error, zlib.error, its own, Python's
        raise invalid(
            "file", f"this MDF file is damaged or cut off ({type(error).__name__}): save it again, or export it as CSV"
        ) from error


def _read(file: MDF) -> Read:
    notes: list[str] = []
    channels: list[Channel] = []
    lanes: list[Lane] = []
    used = set[str]()
    rows, listed = 0, list[str]()
    for number, group in enumerate(file.virtual_groups):
        for signal in file.select(_wanted(file, group), ignore_value2text_conversions=False):
            name = _name(signal.name, used)
            rows = max(rows, len(signal.samples))
            if rows > MOST_ROWS:
                raise TooLargeError("Recording too long", f"at most {MOST_ROWS // 1_000_000} million samples a channel")
            if len(channels) + len(lanes) >= MOST_COLUMNS:
                notes.append(f"more than {MOST_COLUMNS} channels: those from group {number} on were left out")
                break
            _take(signal, name, channels, lanes, listed)
        else:
            continue
        break
    if listed:
        notes.append(f"neither figures nor words, left out: {', '.join(listed[:12])}{' …' if len(listed) > 12 else ''}")
    if file.attachments:
        notes.append(f"{len(file.attachments)} attachments were left out")
    if not channels and not lanes:
        raise invalid("file", "this MDF file holds no channel with samples")
    marks = _marks(file, notes)
    first = min([float(c.t[0]) for c in channels] + [lane.changes[0][0] for lane in lanes])
    began = file.header.start_time.timestamp() + first if file.header.start_time else None
    moved = Recording(
        tuple(Channel(c.name, c.unit, c.t - first, c.y, c.role) for c in channels),
        tuple(Lane(lane.name, tuple((t - first, word) for t, word in lane.changes), lane.commands) for lane in lanes),
        tuple(Mark(mark.at_s - first, mark.text) for mark in marks),
    )
    return Read(moved, rows, began, tuple(notes))


def _wanted(file: MDF, group: int) -> list[tuple[None, int, int]]:
    found = []
    for data_group, indices in file.included_channels(group)[group].items():
        master = file.masters_db.get(data_group)
        found += [(None, data_group, index) for index in sorted(indices) if index != master]
    return found


def _take(signal: Signal, name: str, channels: list[Channel], lanes: list[Lane], listed: list[str]) -> None:
    samples, t = np.asarray(signal.samples), np.asarray(signal.timestamps, dtype=np.float64)
    if len(samples) == 0:
        return
    if samples.ndim == 1 and samples.dtype.kind in "iufb":
        y = samples.astype(np.float64)
        good = np.isfinite(y) & np.isfinite(t) & np.concatenate([[True], np.diff(t) > 0])
        if good.any():
            channels.append(Channel(name, str(signal.unit or ""), t[good], y[good]))
        return
    if samples.ndim == 1 and samples.dtype.kind in "SU":
        words = [w.decode("utf-8", "replace") if isinstance(w, bytes) else str(w) for w in samples.tolist()]
        changes = [(float(t[i]), words[i].strip("\0 ")[:80]) for i in range(len(words)) if i == 0 or words[i] != words[i - 1]]
        if len(changes) <= MOST_CHANGES:
            lanes.append(Lane(name, tuple(changes)))
            return
    listed.append(name)


def _name(name: str, used: set[str]) -> str:
    label = (name or "channel")[:LONGEST_NAME]
    while label in used:
        label += "'"
    used.add(label)
    return label


def _marks(file: MDF, notes: list[str]) -> list[Mark]:
    found = []
    for event in getattr(file, "events", ()) or ():
        try:
            found.append(Mark(float(event.value), str(event.name or event.comment or "event")[:200]))
        except (TypeError, ValueError, AttributeError):
            notes.append("an event without a time was left out")
    return found[:500]


def write_mdf(recording: Recording) -> Iterator[bytes]:
    """A recording as MDF 4.10, in pieces: one group per channel or lane, each with its own clock."""
    from asammdf import MDF, Signal

    with tempfile.TemporaryDirectory() as folder, MDF(version="4.10") as file:
        for channel in recording.channels:
            file.append([Signal(channel.y, channel.t, unit=channel.unit, name=channel.name)], comment="Sondar")
        for lane in recording.lanes:
            if recording.channel(lane.name) is None:
                words = np.array([word.encode("utf-8") or b"-" for _, word in lane.changes])
                file.append(
                    [Signal(words, np.array([t for t, _ in lane.changes]), name=lane.name, encoding="utf-8")], comment="Sondar"
                )
        path = Path(file.save(Path(folder) / "recording.mf4", overwrite=True))
        with path.open("rb") as saved:
            while piece := saved.read(1 << 20):
                yield piece
