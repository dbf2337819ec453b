"""Recordings of a job: a file arrives in pieces, is looked at, read in the background, drawn, and read off. What of it
counts as evidence is in ``recorded_evidence``.

Reading a file never holds a connection while it is computed; who begins it says so in the recording's row, so that it is begun again if whoever
did so is gone.
"""

from __future__ import annotations

import hashlib
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any
from uuid import UUID

import numpy as np

from sondar.app.room import room_for_recordings
from sondar.app.workspace import Workspace, known_job
from sondar.computing.asking import StillWorkingError
from sondar.core.errors import ConflictError, NotFoundError, RefusedError, TooLargeError, invalid
from sondar.core.recordings.model import Array, Channel, Lane, Mark, Recording
from sondar.core.recordings.offered import Feature, compared, features
from sondar.core.recordings.packed import ChannelHead, Packed, pack
from sondar.core.recordings.together import pairs
from sondar.recording_files.dialect import Understood, understand
from sondar.recording_files.mapping import Mapping, check
from sondar.recording_files.mdf import is_mdf, read_mdf, write_mdf
from sondar.recording_files.tables import read_table, write_table
from sondar.store import recordings as store
from sondar.store.recordings import StoredMark, StoredRecording

PIECE_BYTES = 2 * 1024 * 1024
MOST_BYTES = 600 * 1024 * 1024
MOST_RECORDINGS = 200
MOST_READ_OFF = 2_000_000
"""Samples of one stretch from which features are read."""
ASKED_AGAIN_S = 0.5


@dataclass(frozen=True)
class Looked:
    """What a file seems to be, before it is read.

    Attributes:
        form: ``table`` or ``MDF 4``; understood: for a table. remembered: its mapping is that of the last file from the same source.
    """

    form: str
    understood: Understood | None
    remembered: bool


@dataclass(frozen=True)
class Opened:
    """A recording with everything but its samples.

    Attributes:
        known_good: conditions under which it is of a vehicle in order; empty if nobody said so.
        good_ones: (recording, name, conditions) of other vehicles of the make and model that are in order.
    """

    recording: StoredRecording
    channels: list[ChannelHead]
    lanes: list[Lane]
    marks: list[StoredMark]
    ties: dict[str, dict[str, Any]]
    known_good: str = ""
    good_ones: Sequence[tuple[UUID, str, str]] = ()


@dataclass(frozen=True)
class Line:
    """A stretch of a channel as it is drawn: times, least and greatest figure of each group."""

    channel: int
    t: list[float]
    least: list[float]
    greatest: list[float]


def listed(work: Workspace, job_id: UUID) -> list[StoredRecording]:
    """Recordings of a job."""
    with work.transaction() as db:
        known_job(db, job_id)
        return store.recordings_of(db, job_id)


def begin(work: Workspace, job_id: UUID, client_key: UUID, name: str, size: int) -> StoredRecording:
    """A file that is about to come in pieces.

    Raises:
        TooLargeError: more than is taken. ConflictError: too many recordings.
    """
    if size > MOST_BYTES:
        raise TooLargeError("File too large", f"at most {MOST_BYTES // 1024 // 1024} MB; divide it, or record fewer channels")
    with work.transaction() as db:
        known_job(db, job_id)
        if len(store.recordings_of(db, job_id)) >= MOST_RECORDINGS:
            raise ConflictError("Too many recordings", f"a job has at most {MOST_RECORDINGS}: give up some that are not ready")
        room_for_recordings(db, size)
        return store.recording(db, store.begin(db, job_id, client_key, name, "file", size))


def put_piece(work: Workspace, recording_id: UUID, number: int, body: bytes) -> StoredRecording:
    """Keep a piece of the file; pieces are ``PIECE_BYTES`` long, but for the last.

    Raises:
        InvalidError: it has not the length that this piece must have. ConflictError: the recording takes no pieces any more.
    """
    with work.transaction() as db:
        found = store.recording(db, recording_id)
        if found.state not in ("arriving", "failed"):
            raise ConflictError("Not taken", f"this recording is {found.state}; its file is complete")
        wanted = min(PIECE_BYTES, found.bytes - number * PIECE_BYTES)
        if number < 0 or wanted <= 0 or len(body) != wanted:
            raise invalid(
                "body",
                f"piece {number} must have {max(wanted, 0)} bytes and has {len(body)}: the file may have changed; begin again",
            )
        store.put_piece(db, recording_id, number, body)
        return store.recording(db, recording_id)


def missing(work: Workspace, recording_id: UUID) -> list[int]:
    """Numbers of the pieces that are not here yet, so that an interrupted file is resumed."""
    with work.transaction() as db:
        found = store.recording(db, recording_id)
        here = {number for number, _ in store.pieces(db, recording_id)}
    return [n for n in range(-(-found.bytes // PIECE_BYTES)) if n not in here]


def look(work: Workspace, recording_id: UUID) -> Looked:
    """What the file seems to be, from its first piece.

    Raises:
        InvalidError: it is no table and no MDF file. ConflictError: its beginning has not come yet, or it has been read.
    """
    with work.transaction() as db:
        store.recording(db, recording_id)
        head = store.first_piece(db, recording_id)
    if not head:
        raise ConflictError("Not here", "the beginning of this file has not come yet, or it has been read already")
    if is_mdf(head):
        return Looked("MDF 4", None, False)
    found: Understood = work.compute(recording_id, _understood, head)
    with work.transaction() as db:
        kept = store.remembered_mapping(db, _signature(head, found.mapping))
    if kept is None:
        return Looked("table", found, False)
    return Looked("table", replace(found, mapping=Mapping.of(kept)), True)


def _understood(_computed: object, head: bytes) -> Understood:
    return understand(head)


def _signature(head: bytes, found: Mapping) -> str:
    """The same for files of the same source: their lines before the figures but for digits, which are dates and serial numbers."""
    lines = head.split(b"\n", found.head)[: found.head]
    words = b"\n".join(lines).translate(None, b"0123456789\r")
    return hashlib.sha256(words + f"|{found.delimiter}|{found.decimal}|{len(found.columns)}".encode()).hexdigest()


def read(work: Workspace, recording_id: UUID, mapping: Mapping | None) -> StoredRecording:
    """Begin to read the file; it goes on in the background, whoever leaves.

    Raises:
        InvalidError: the mapping does not fit. ConflictError: pieces are missing.
    """
    if mapping is not None:
        check(mapping)
    if absent := missing(work, recording_id):
        raise ConflictError("Not complete", f"{len(absent)} pieces of this file have not come yet: send piece {absent[0]}")
    with work.transaction() as db:
        mine = store.claim(db, recording_id, None if mapping is None else mapping.as_dict())
        found = store.recording(db, recording_id)
    if mine:  # only now is the mapping there for the reader to see
        work.meanwhile(lambda: _read(work, recording_id))
    return found


def _read(work: Workspace, recording_id: UUID) -> None:
    """Read the file and store what is in it, or why it cannot be read."""
    with work.transaction() as db:
        found = store.recording(db, recording_id)
        raw = store.whole_file(db, recording_id)
    mapping = None if found.mapping is None else Mapping.of(found.mapping)
    try:
        packed = _patiently(work, recording_id, raw, mapping)
        with work.transaction() as db:
            if store.keep(db, recording_id, packed) and mapping is not None:
                store.remember_mapping(db, _signature(raw[: 1 << 18], mapping), mapping.as_dict())
    except RefusedError as error:
        _failed(work, recording_id, error.detail)
    except Exception:
        _failed(work, recording_id, "It could not be read. The file is kept: try again, or with another mapping.")
        raise


def _failed(work: Workspace, recording_id: UUID, problem: str) -> None:
    with work.transaction() as db:
        store.fail(db, recording_id, problem)


def _patiently(work: Workspace, about: UUID, raw: bytes, mapping: Mapping | None) -> Packed:
    while True:
        try:
            return work.compute(about, _packed, raw, mapping)
        except StillWorkingError:
            time.sleep(ASKED_AGAIN_S)


def _packed(_computed: object, raw: bytes, mapping: Mapping | None) -> Packed:
    if is_mdf(raw):
        found = read_mdf(raw)
    elif mapping is None:
        found = read_table(raw, understand(raw).mapping)
    else:
        found = read_table(raw, mapping)
    return pack(found.recording, found.began, found.notes)


def leave(work: Workspace, recording_id: UUID) -> None:
    """Give up a recording that is not ready."""
    with work.transaction() as db:
        if store.recording(db, recording_id).state == "ready":
            raise ConflictError("Kept", "a recording that has been read is evidence and stays")
        store.leave(db, recording_id)


def opened(work: Workspace, recording_id: UUID) -> Opened:
    """A recording with its channels, lanes and marks. One whose reading was left behind is begun again."""
    with work.transaction() as db:
        found = store.recording(db, recording_id)
        shown = Opened(
            found,
            store.heads(db, recording_id),
            store.lanes(db, recording_id),
            store.marks(db, recording_id),
            store.ties(db, recording_id),
            store.known_good(db, recording_id),
            store.good_ones(db, recording_id),
        )
        again = found.state == "reading" and found.source == "file" and store.claim(db, recording_id, None)
    if again:
        work.meanwhile(lambda: _read(work, recording_id))
    return shown


def drawn(work: Workspace, recording_id: UUID, start_s: float, end_s: float, columns: int, channels: Sequence[int]) -> list[Line]:
    """Channels over a stretch, in so many columns of a screen."""
    found = []
    with work.transaction() as db:
        store.recording(db, recording_id)
        for head in store.heads(db, recording_id):
            if head.number in channels:
                t, least, greatest = store.drawn(db, recording_id, head, start_s, end_s, columns)
                found.append(Line(head.number, t.tolist(), least.tolist(), greatest.tolist()))
    return found


def stretch(
    work: Workspace, recording_id: UUID, numbers: Sequence[int], start_s: float, end_s: float
) -> tuple[list[Channel], list[Lane]]:
    with work.transaction() as db:
        store.recording(db, recording_id)
        heads = {head.number: head for head in store.heads(db, recording_id)}
        found = []
        for number in numbers:
            if number not in heads:
                raise NotFoundError("No such channel", f"this recording has no channel {number}")
            channel = store.samples(db, recording_id, heads[number], start_s, end_s, MOST_READ_OFF)
            if channel is None:
                raise invalid(
                    "start_s", f"more than {MOST_READ_OFF // 1_000_000} million samples: choose a shorter stretch to read off"
                )
            found.append(channel)
        return found, store.lanes(db, recording_id)


def read_off(work: Workspace, recording_id: UUID, number: int, other: int | None, start_s: float, end_s: float) -> list[Feature]:
    """What a channel offers in a stretch, and against another if one is named."""
    channels, lanes = stretch(work, recording_id, [number] if other is None else [number, other], start_s, end_s)
    with work.transaction() as db:
        source = store.recording(db, recording_id).source
    found = work.compute(recording_id, read_off_here, channels, lanes, start_s, end_s)
    return [one for one in found if one.kind == "level"] if source == "typed" else found


def read_off_here(
    _computed: object, channels: Sequence[Channel], lanes: Sequence[Lane], start_s: float, end_s: float
) -> list[Feature]:
    if len(channels) == 2:
        return compared(channels[0], channels[1], start_s, end_s)
    return features(channels[0], lanes, start_s, end_s)


def over_each_other(
    work: Workspace, recording_id: UUID, number: int, other: int, start_s: float, end_s: float
) -> tuple[Array, Array, Array] | None:
    """(times, first, second) of two channels in a stretch, to draw one over the other; None if they share fewer than two samples."""
    channels, _ = stretch(work, recording_id, [number, other], start_s, end_s)
    return work.compute(recording_id, _pairs, channels)


def _pairs(_computed: object, channels: Sequence[Channel]) -> tuple[Array, Array, Array] | None:
    return pairs(channels[0], channels[1])


@dataclass(frozen=True)
class TypedChannel:
    """What somebody read off a display without recording it; figures in ``unit``, None for those that were not read."""

    name: str
    unit: str
    rest: float | None = None
    least: float | None = None
    greatest: float | None = None
    command_off: float | None = None
    command_on: float | None = None


TYPED = (
    ("rest", "at rest"),
    ("least", "least"),
    ("greatest", "greatest"),
    ("command_off", "command off"),
    ("command_on", "command on"),
)
"""Figures in the order in which they stand in a typed recording, a second each: field, and what the mark says."""
HELD_S = 0.5


def typed(
    work: Workspace,
    job_id: UUID,
    client_key: UUID,
    name: str,
    channels: Sequence[TypedChannel],
    command: str,
    positions: tuple[str, str],
) -> StoredRecording:
    """Keep figures that were read off a display as a recording: each stands for a second, marked with what it is.

    How late or how fast anything followed is not known from them, so no lane drives anything: the command is a state.

    Args:
        command: what was commanded; empty for nothing. positions: what it was at *off* and at *on*.

    Raises:
        InvalidError: no figure at all. ConflictError: too many recordings.
    """
    if not any(getattr(one, field) is not None for one in channels for field, _ in TYPED):
        raise invalid("channels", "not one figure: give at least one of rest, least, greatest, command off, command on")
    made = work.compute("recordings", _typed, list(channels), command, positions)
    with work.transaction() as db:
        known_job(db, job_id)
        if len(store.recordings_of(db, job_id)) >= MOST_RECORDINGS:
            raise ConflictError("Too many recordings", f"a job has at most {MOST_RECORDINGS}: give up some that are not ready")
        recording_id = store.begin(db, job_id, client_key, name, "typed", 0, "reading")
        store.keep(db, recording_id, made)
        return store.recording(db, recording_id)


def _typed(_computed: object, channels: list[TypedChannel], command: str, positions: tuple[str, str]) -> Packed:
    made, there = [], set()
    for one in channels:
        t, y = [], []
        for second, (field, _) in enumerate(TYPED):
            figure = getattr(one, field)
            if figure is not None:
                t += [float(second), second + HELD_S / 2, second + HELD_S]
                y += [figure] * 3
                there.add(second)
        if t:
            made.append(Channel(one.name, one.unit, np.array(t), np.array(y)))
    marks = [Mark(float(second), words) for second, (_, words) in enumerate(TYPED) if second in there]
    off, on = (next(n for n, (field, _) in enumerate(TYPED) if field == wanted) for wanted in ("command_off", "command_on"))
    changes = [(float(second), word) for second, word in zip((off, on), positions, strict=True) if second in there]
    lanes = [Lane(command, tuple(changes), False)] if command and changes else []
    return pack(Recording(made, lanes, marks), None, ["Typed from a display: how late or how fast is not known from it."])


def say_known_good(work: Workspace, recording_id: UUID, said: str) -> Opened:
    """Say under which conditions a recording is of a vehicle in order, or with no words that it is not.

    Raises:
        ConflictError: it is not ready.
    """
    with work.transaction() as db:
        if store.recording(db, recording_id).state != "ready":
            raise ConflictError("Not ready", "only a recording that has been read can be held against others")
        store.say_known_good(db, recording_id, said)
    return opened(work, recording_id)


def mark(work: Workspace, recording_id: UUID, client_key: UUID, at_s: float, text: str) -> Opened:
    """Set a mark."""
    with work.transaction() as db:
        store.recording(db, recording_id)
        store.add_mark(db, recording_id, client_key, at_s, text)
    return opened(work, recording_id)


def exported(work: Workspace, recording_id: UUID, form: str) -> tuple[str, Iterator[bytes]]:
    """(name, pieces) of a recording as a file: ``csv`` or ``mf4``."""
    with work.transaction() as db:
        found = store.recording(db, recording_id)
        if found.state != "ready":
            raise ConflictError("Not ready", f"this recording is {found.state}")
        channels = store.all_samples(db, recording_id, store.heads(db, recording_id))
        whole = Recording(channels, store.lanes(db, recording_id), store.as_marks(store.marks(db, recording_id)))
    return found.name.rsplit(".", 1)[0], write_mdf(whole) if form == "mf4" else write_table(whole)
