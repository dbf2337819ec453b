"""Recordings: files arriving in pieces, what was read from them, and stretches of it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

import numpy as np
from psycopg.rows import class_row
from psycopg.types.json import Jsonb

from sondar.core.errors import NotFoundError
from sondar.core.recordings.model import Array, Channel, Lane, Mark
from sondar.core.recordings.packed import CHUNK, ChannelHead, Packed, even_clock, unpacked
from sondar.core.recordings.pyramid import GROUP, in_columns, level_for
from sondar.store.database import Db
from sondar.store.jobs import next_seq

CLAIMED_S = 240
"""Seconds after which reading a file that was begun and not ended may be begun again: whoever began it is gone."""


CHUNKS_AT_ONCE = 32


@dataclass(frozen=True)
class StoredRecording:
    """A recording without its samples."""

    id: UUID
    job_id: UUID
    seq: int
    name: str
    source: str
    bytes: int
    state: str
    problem: str
    mapping: dict[str, Any] | None
    notes: list[str]
    began_at: datetime | None
    start_s: float
    end_s: float
    samples: int
    created_at: datetime
    arrived: int
    by: str | None


_SELECT = """
    SELECT r.id, r.job_id, r.seq, r.name, r.source, r.bytes, r.state, r.problem, r.mapping, r.notes, r.began_at, r.start_s, r.end_s, r.samples,
           r.created_at, CASE WHEN r.state IN ('arriving', 'failed') THEN
               (SELECT coalesce(sum(octet_length(p.body)), 0) FROM recording_piece p WHERE p.recording_id = r.id) ELSE r.bytes END AS arrived,
           a.name AS by
    FROM recording r LEFT JOIN account a ON a.id = r.account_id
"""


def recordings_of(db: Db, job_id: UUID) -> list[StoredRecording]:
    """Recordings of a job in order; those that were given up are left out."""
    with db.cursor(row_factory=class_row(StoredRecording)) as cursor:
        return cursor.execute(_SELECT + " WHERE r.job_id = %s AND r.state <> 'left' ORDER BY r.seq", (job_id,)).fetchall()


def recording(db: Db, recording_id: UUID) -> StoredRecording:
    """One of them.

    Raises:
        NotFoundError: there is none.
    """
    with db.cursor(row_factory=class_row(StoredRecording)) as cursor:
        found = cursor.execute(_SELECT + " WHERE r.id = %s", (recording_id,)).fetchone()
    if found is None:
        raise NotFoundError("No such recording", f"no recording {recording_id}")
    return found


def begin(db: Db, job_id: UUID, client_key: UUID, name: str, source: str, size: int, state: str = "arriving") -> UUID:
    """A recording that is yet to come; the same key again gives the same one."""
    seq = next_seq(db, job_id)
    db.execute(
        "INSERT INTO recording (job_id, seq, client_key, name, source, bytes, state, claimed_at) VALUES (%s, %s, %s, %s, %s, %s, %s, now()) "
        "ON CONFLICT (job_id, client_key) DO NOTHING",
        (job_id, seq, client_key, name, source, size, state),
    )
    row = db.execute("SELECT id FROM recording WHERE job_id = %s AND client_key = %s", (job_id, client_key)).fetchone()
    assert row is not None
    return UUID(str(row[0]))


def put_piece(db: Db, recording_id: UUID, number: int, body: bytes) -> None:
    """Keep a piece of its file; the same piece again changes nothing."""
    db.execute(
        "INSERT INTO recording_piece (recording_id, number, body) VALUES (%s, %s, %s) ON CONFLICT (recording_id, number) DO NOTHING",
        (recording_id, number, body),
    )


def pieces(db: Db, recording_id: UUID) -> list[tuple[int, int]]:
    """(number, bytes) of the pieces that are here."""
    rows = db.execute(
        "SELECT number, octet_length(body) FROM recording_piece WHERE recording_id = %s ORDER BY number", (recording_id,)
    ).fetchall()
    return [(int(n), int(size)) for n, size in rows]


def first_piece(db: Db, recording_id: UUID) -> bytes:
    """The beginning of its file; empty if it is not here."""
    row = db.execute("SELECT body FROM recording_piece WHERE recording_id = %s AND number = 0", (recording_id,)).fetchone()
    return b"" if row is None else bytes(row[0])


def whole_file(db: Db, recording_id: UUID) -> bytes:
    """All pieces, one after the other."""
    with db.cursor(binary=True) as cursor:
        rows = cursor.execute("SELECT body FROM recording_piece WHERE recording_id = %s ORDER BY number", (recording_id,))
        return b"".join(bytes(row[0]) for row in rows)


def piece_bodies(db: Db, recording_id: UUID, first: int = 0) -> list[bytes]:
    """Pieces from a number on, in order."""
    rows = db.execute(
        "SELECT body FROM recording_piece WHERE recording_id = %s AND number >= %s ORDER BY number", (recording_id, first)
    ).fetchall()
    return [bytes(row[0]) for row in rows]


def claim(db: Db, recording_id: UUID, mapping: dict[str, Any] | None) -> bool:
    """Begin to read its file; False if somebody does so already or has done so."""
    done = db.execute(
        "UPDATE recording SET state = 'reading', problem = '', claimed_at = now(), mapping = coalesce(%s, mapping) "
        "WHERE id = %s AND (state IN ('arriving', 'failed') OR state = 'reading' AND claimed_at < now() - make_interval(secs => %s))",
        (None if mapping is None else Jsonb(mapping), recording_id, CLAIMED_S),
    )
    return done.rowcount == 1


def fail(db: Db, recording_id: UUID, problem: str) -> None:
    """It cannot be read, and why; its file is kept for another try."""
    db.execute(
        "UPDATE recording SET state = 'failed', problem = %s WHERE id = %s AND state = 'reading'", (problem[:2000], recording_id)
    )


def leave(db: Db, recording_id: UUID) -> None:
    """Give it up: its file is removed."""
    db.execute("UPDATE recording SET state = 'left' WHERE id = %s AND state IN ('arriving', 'failed', 'reading')", (recording_id,))
    db.execute(
        "DELETE FROM recording_piece p USING recording r WHERE r.id = p.recording_id AND r.id = %s AND r.state = 'left'",
        (recording_id,),
    )


def keep(db: Db, recording_id: UUID, packed: Packed) -> bool:
    """Store what was read and remove the file; False if it was given up meanwhile."""
    began = None if packed.began is None else datetime.fromtimestamp(packed.began, UTC)
    locked = db.execute("SELECT state FROM recording WHERE id = %s FOR UPDATE", (recording_id,)).fetchone()
    if locked is None or locked[0] != "reading":
        return False
    with db.cursor() as cursor:
        cursor.executemany(
            "INSERT INTO recording_channel (recording_id, number, name, unit, role, samples, least, greatest, sample_s, "
            "clock, even_start, even_step) VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s)",
            [(recording_id, h.number, h.name, h.unit[:40], h.role, h.samples, h.least, h.greatest, h.sample_s, h.clock, h.even_start, h.even_step)
             for h in packed.heads],
        )  # fmt: skip
        cursor.executemany(
            "INSERT INTO recording_lane (recording_id, number, name, changes, commands) VALUES (%s, %s, %s, %s, %s)",
            [(recording_id, number, lane.name, Jsonb(lane.changes), lane.commands) for number, lane in enumerate(packed.lanes)],
        )
        cursor.executemany(
            "INSERT INTO recording_mark (recording_id, client_key, at_s, text) VALUES (%s, gen_random_uuid(), %s, %s)",
            [(recording_id, mark.at_s, mark.text) for mark in packed.marks],
        )
        # COPY is not for tables with row-level policies; in batches, parameters as binary, inserts come near it.
        for batch in range(0, len(packed.chunks), CHUNKS_AT_ONCE):
            cursor.executemany(
                "INSERT INTO recording_chunk (recording_id, channel, level, number, t, y) VALUES (%s, %s, %s, %s, %b, %b)",
                [(recording_id, c.channel, c.level, c.number, c.t, c.y) for c in packed.chunks[batch : batch + CHUNKS_AT_ONCE]],
            )
    db.execute("DELETE FROM recording_piece WHERE recording_id = %s", (recording_id,))
    db.execute(
        "UPDATE recording SET state = 'ready', notes = %s, began_at = %s, start_s = %s, end_s = %s, samples = %s WHERE id = %s",
        (list(packed.notes), began, packed.start_s, packed.end_s, packed.samples, recording_id),
    )
    return True


def heads(db: Db, recording_id: UUID) -> list[ChannelHead]:
    """Channels without their samples."""
    with db.cursor(row_factory=class_row(ChannelHead)) as cursor:
        return cursor.execute(
            "SELECT number, name, unit, role, samples, least, greatest, sample_s, clock, even_start, even_step FROM recording_channel "
            "WHERE recording_id = %s ORDER BY number",
            (recording_id,),
        ).fetchall()


def lanes(db: Db, recording_id: UUID) -> list[Lane]:
    """Lanes in order."""
    rows = db.execute(
        "SELECT name, changes, commands FROM recording_lane WHERE recording_id = %s ORDER BY number", (recording_id,)
    ).fetchall()
    return [Lane(name, tuple((float(t), str(word)) for t, word in changes), commands) for name, changes, commands in rows]


@dataclass(frozen=True)
class StoredMark:
    """A mark with who set it."""

    at_s: float
    text: str
    by: str | None


def marks(db: Db, recording_id: UUID) -> list[StoredMark]:
    """Marks by time."""
    with db.cursor(row_factory=class_row(StoredMark)) as cursor:
        return cursor.execute(
            "SELECT m.at_s, m.text, a.name AS by FROM recording_mark m LEFT JOIN account a ON a.id = m.account_id WHERE m.recording_id = %s "
            "ORDER BY m.at_s, m.created_at",
            (recording_id,),
        ).fetchall()


def add_mark(db: Db, recording_id: UUID, client_key: UUID, at_s: float, text: str) -> None:
    """Set a mark; the same key again adds nothing."""
    db.execute(
        "INSERT INTO recording_mark (recording_id, client_key, at_s, text) VALUES (%s, %s, %s, %s) "
        "ON CONFLICT (recording_id, client_key) DO NOTHING",
        (recording_id, client_key, at_s, text),
    )


def ties(db: Db, recording_id: UUID) -> dict[str, dict[str, Any]]:
    """Channel or lane -> what it stands for."""
    return {
        str(name): tie
        for name, tie in db.execute("SELECT name, tie FROM recording_tie WHERE recording_id = %s", (recording_id,)).fetchall()
    }


def tie(db: Db, recording_id: UUID, name: str, stands_for: dict[str, Any]) -> None:
    """Say what a channel or lane stands for."""
    db.execute(
        "INSERT INTO recording_tie (recording_id, name, tie) VALUES (%s, %s, %s) ON CONFLICT (recording_id, name) DO UPDATE SET tie = excluded.tie",
        (recording_id, name, Jsonb(stands_for)),
    )


def known_good(db: Db, recording_id: UUID) -> str:
    """Under which conditions this recording is of a vehicle in order; empty if nobody said that it is."""
    row = db.execute("SELECT said FROM known_good WHERE recording_id = %s", (recording_id,)).fetchone()
    return "" if row is None else str(row[0])


def say_known_good(db: Db, recording_id: UUID, said: str) -> None:
    """Say that a recording is of a vehicle in order, or with no words that it is not."""
    if not said:
        db.execute("DELETE FROM known_good WHERE recording_id = %s", (recording_id,))
        return
    db.execute(
        "INSERT INTO known_good (recording_id, said) VALUES (%s, %s) ON CONFLICT (recording_id) DO UPDATE SET said = excluded.said",
        (recording_id, said),
    )


def good_ones(db: Db, recording_id: UUID) -> list[tuple[UUID, str, str]]:
    """(recording, its name, conditions) of vehicles in order of the same make and model, from other jobs, the newest first."""
    rows = db.execute(
        """
        SELECT r.id, r.name, g.said FROM known_good g JOIN recording r ON r.id = g.recording_id
        JOIN job j ON j.id = r.job_id JOIN vehicle v ON v.id = j.vehicle_id,
        recording own JOIN job oj ON oj.id = own.job_id JOIN vehicle ov ON ov.id = oj.vehicle_id
        WHERE own.id = %s AND r.job_id <> own.job_id AND r.state = 'ready'
          AND lower(v.make) = lower(ov.make) AND lower(v.model) = lower(ov.model)
        ORDER BY g.created_at DESC LIMIT 50
        """,
        (recording_id,),
    ).fetchall()
    return [(UUID(str(row[0])), str(row[1]), str(row[2])) for row in rows]


def remembered_mapping(db: Db, signature: str) -> dict[str, Any] | None:
    """How a file with the same first lines was read last."""
    row = db.execute("SELECT mapping FROM recording_mapping WHERE signature = %s", (signature,)).fetchone()
    return None if row is None else row[0]


def remember_mapping(db: Db, signature: str, mapping: dict[str, Any]) -> None:
    """Keep how a file was read for the next from the same source."""
    db.execute(
        "INSERT INTO recording_mapping (signature, mapping) VALUES (%s, %s) "
        "ON CONFLICT (workshop_id, signature) DO UPDATE SET mapping = excluded.mapping, used_at = now()",
        (signature, Jsonb(mapping)),
    )


def _chunks(
    db: Db, recording_id: UUID, channel: int, level: int, first: int, last: int
) -> Iterator[tuple[int, bytes | None, bytes]]:
    with db.cursor(binary=True) as cursor:
        for number, t, y in cursor.execute(
            "SELECT number, t, y FROM recording_chunk WHERE recording_id = %s AND channel = %s AND level = %s AND number BETWEEN %s AND %s "
            "ORDER BY number",
            (recording_id, channel, level, first, last),
        ):
            yield int(number), None if t is None else bytes(t), bytes(y)


def _clock_chunk(db: Db, recording_id: UUID, head: ChannelHead, level: int, number: int, count: int) -> Array:
    if head.even_start is not None and head.even_step is not None:
        step = head.even_step * GROUP**level
        return even_clock(head.even_start, step, number * CHUNK, count)
    found = next(_chunks(db, recording_id, head.clock, level, number, number), None)
    if found is None or found[1] is None:
        raise NotFoundError("Recording damaged", f"the times of {head.name} are missing")
    return np.frombuffer(found[1], dtype="<f8")


def _span(db: Db, recording_id: UUID, head: ChannelHead, start_s: float, end_s: float) -> tuple[int, int]:
    """First sample and the one after the last of a stretch, one more on either side where there is one."""
    if head.even_start is not None and head.even_step:
        first = int(np.floor((start_s - head.even_start) / head.even_step))
        last = int(np.ceil((end_s - head.even_start) / head.even_step)) + 1
        return max(0, first), min(head.samples, max(0, last))
    deepest = _deepest(head.samples)
    t = np.concatenate(
        [np.frombuffer(t, dtype="<f8") for _, t, _ in _chunks(db, recording_id, head.clock, deepest, 0, 1 << 20) if t is not None]
    )
    group = GROUP**deepest
    first, last = int(np.searchsorted(t, start_s, "right")) - 1, int(np.searchsorted(t, end_s, "right")) + 1
    return max(0, first * group), min(head.samples, last * group)


def _deepest(samples: int) -> int:
    from_top, level = samples, 0
    while from_top > 512:
        from_top, level = -(-from_top // GROUP), level + 1
    return level


def drawn(db: Db, recording_id: UUID, head: ChannelHead, start_s: float, end_s: float, columns: int) -> tuple[Array, Array, Array]:
    """(time, least, greatest) of at most ``2 · columns`` groups of a stretch; single samples where they are few."""
    first, after = _span(db, recording_id, head, start_s, end_s)
    if after <= first:
        return (np.empty(0),) * 3
    level = level_for(after - first, columns, _deepest(head.samples))
    group = GROUP**level
    low, high = first // group, -(-after // group)
    times, least, greatest = [], [], []
    for number, own, raw in _chunks(db, recording_id, head.number, level, low // CHUNK, (high - 1) // CHUNK):
        y = np.frombuffer(raw, dtype="<f8") if level == 0 else np.frombuffer(raw, dtype="<f4").reshape(-1, 2)
        t = np.frombuffer(own, dtype="<f8") if own is not None else _clock_chunk(db, recording_id, head, level, number, len(y))
        inside = slice(max(0, low - number * CHUNK), max(0, high - number * CHUNK))
        times.append(t[inside])
        least.append(y[inside] if level == 0 else y[inside, 0])
        greatest.append(y[inside] if level == 0 else y[inside, 1])
    return in_columns(np.concatenate(times), np.concatenate(least), np.concatenate(greatest), 2 * columns)


def samples(db: Db, recording_id: UUID, head: ChannelHead, start_s: float, end_s: float, most: int) -> Channel | None:
    """All samples of a stretch; None if there are more than ``most``."""
    first, after = _span(db, recording_id, head, start_s, end_s)
    if after - first > most:
        return None
    times: list[Array] = [np.empty(0)]
    figures: list[Array] = [np.empty(0)]
    for number, own, raw in _chunks(db, recording_id, head.number, 0, first // CHUNK, max(first, after - 1) // CHUNK):
        y = np.frombuffer(raw, dtype="<f8")
        t = np.frombuffer(own, dtype="<f8") if own is not None else _clock_chunk(db, recording_id, head, 0, number, len(y))
        times.append(t)
        figures.append(y)
    return unpacked(head, np.concatenate(times), np.concatenate(figures)).within(start_s, end_s)


def all_samples(db: Db, recording_id: UUID, found: Sequence[ChannelHead]) -> list[Channel]:
    """Every channel with all its samples."""
    whole = [samples(db, recording_id, head, -np.inf if head.even_step is None else head.even_start or 0.0, np.inf if head.even_step is None else
                     (head.even_start or 0.0) + (head.even_step or 0.0) * head.samples, 1 << 62) for head in found]  # fmt: skip
    return [channel for channel in whole if channel is not None]


def as_marks(found: Sequence[StoredMark]) -> list[Mark]:
    """Marks as the core takes them."""
    return [Mark(mark.at_s, mark.text) for mark in found]
