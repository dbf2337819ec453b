"""What is learnt of a job beside measurements: answers, notes, photographs, and the timeline of everything.

An answer is appended like a reading: the latest on a field counts, the earlier ones tell the history. Whoever answers says which
entry they saw last, so two people who answer the same field at once both learn of it and nothing is overwritten unseen.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from psycopg import sql
from psycopg.rows import class_row
from psycopg.types.json import Jsonb

from sondar.store.database import Db
from sondar.store.jobs import next_seq


@dataclass(frozen=True)
class Answer:
    """The latest answer on a field, by whom and when."""

    field: str
    value: Any
    seq: int
    by: str | None
    created_at: datetime


@dataclass(frozen=True)
class Photo:
    """A photograph without its picture."""

    id: UUID
    seq: int
    caption: str
    sha256: str
    media_type: str
    width: int
    height: int
    created_at: datetime
    by: str | None


@dataclass(frozen=True)
class TimelineEntry:
    """One thing that happened."""

    seq: int
    kind: str
    text: str
    detail: str
    ref: UUID | None
    at: datetime
    by: str | None


def answers_of(db: Db, job_id: UUID) -> dict[str, Answer]:
    """The latest answer on every field."""
    with db.cursor(row_factory=class_row(Answer)) as cursor:
        rows = cursor.execute(
            """
            SELECT DISTINCT ON (n.field) n.field, n.value, n.seq, a.name AS by, n.created_at
            FROM answer n LEFT JOIN account a ON a.id = n.account_id WHERE n.job_id = %s ORDER BY n.field, n.seq DESC
            """,
            (job_id,),
        ).fetchall()
    return {row.field: row for row in rows}


def latest_of_vehicle(db: Db, vehicle_id: UUID, fields: Sequence[str]) -> list[tuple[UUID, datetime, dict[str, Any]]]:
    """(job, when it began, latest answer on each of some fields that was given) of every job of a vehicle, the oldest first."""
    rows = db.execute(
        """
        SELECT j.id, j.created_at, jsonb_object_agg(n.field, n.value) FROM job j JOIN LATERAL (
            SELECT DISTINCT ON (field) field, value FROM answer WHERE job_id = j.id AND field = ANY(%s) ORDER BY field, seq DESC
        ) n ON true
        WHERE j.vehicle_id = %s GROUP BY j.id, j.created_at ORDER BY j.created_at
        """,
        (list(fields), vehicle_id),
    ).fetchall()
    return [(row[0], row[1], row[2]) for row in rows]


def give_answer(db: Db, job_id: UUID, client_key: UUID, field: str, value: Any, seen_seq: int) -> Answer | None:
    """Append an answer; if another came after the one the writer saw and differs, return that one and append nothing."""
    seq = next_seq(db, job_id)
    if db.execute("SELECT 1 FROM answer WHERE job_id = %s AND client_key = %s", (job_id, client_key)).fetchone() is not None:
        return None
    current = answers_of(db, job_id).get(field)
    if current is not None and current.value == value:
        return None
    if current is not None and current.seq > seen_seq:
        return current
    db.execute(
        "INSERT INTO answer (job_id, seq, client_key, field, value) VALUES (%s, %s, %s, %s, %s)",
        (job_id, seq, client_key, field, Jsonb(value)),
    )
    return None


def add_note(db: Db, job_id: UUID, client_key: UUID, body: str) -> None:
    """Append a note."""
    seq = next_seq(db, job_id)
    db.execute(
        "INSERT INTO note (job_id, seq, client_key, body) VALUES (%s, %s, %s, %s) ON CONFLICT (job_id, client_key) DO NOTHING",
        (job_id, seq, client_key, body),
    )


def add_photo(db: Db, job_id: UUID, client_key: UUID, values: dict[str, Any]) -> UUID:
    """Append a photograph, already checked and stripped."""
    seq = next_seq(db, job_id)
    db.execute(
        """
        INSERT INTO photo (job_id, seq, client_key, caption, sha256, media_type, width, height, body, thumbnail)
        VALUES (%(job_id)s, %(seq)s, %(client_key)s, %(caption)s, %(sha256)s, %(media_type)s, %(width)s, %(height)s, %(body)s,
                %(thumbnail)s) ON CONFLICT (job_id, client_key) DO NOTHING
        """,
        {**values, "job_id": job_id, "seq": seq, "client_key": client_key},
    )
    row = db.execute("SELECT id FROM photo WHERE job_id = %s AND client_key = %s", (job_id, client_key)).fetchone()
    assert row is not None
    return UUID(str(row[0]))


def photos_of(db: Db, job_id: UUID) -> list[Photo]:
    """Photographs of a job in order."""
    with db.cursor(row_factory=class_row(Photo)) as cursor:
        return cursor.execute(
            """
            SELECT p.id, p.seq, p.caption, p.sha256, p.media_type, p.width, p.height, p.created_at, a.name AS by
            FROM photo p LEFT JOIN account a ON a.id = p.account_id WHERE p.job_id = %s ORDER BY p.seq
            """,
            (job_id,),
        ).fetchall()


def picture(db: Db, photo_id: UUID, thumbnail: bool) -> tuple[bytes, str] | None:
    """(bytes, media type) of a photograph; thumbnails are JPEG."""
    column = sql.Identifier("thumbnail" if thumbnail else "body")
    row = db.execute(sql.SQL("SELECT {}, media_type FROM photo WHERE id = %s").format(column), (photo_id,)).fetchone()
    return None if row is None else (bytes(row[0]), "image/jpeg" if thumbnail else str(row[1]))


_TIMELINE = """
    SELECT e.seq, e.kind, e.text, e.detail, e.ref, e.at, a.name AS by FROM (
        SELECT 0 AS seq, 'checked in' AS kind, complaint AS text, '' AS detail, id AS ref, created_at AS at, account_id FROM job WHERE id = %(job)s
        UNION ALL
        SELECT n.seq, 'answer', n.field, n.value::text, n.id, n.created_at, n.account_id FROM answer n WHERE n.job_id = %(job)s
        UNION ALL
        SELECT n.seq, 'note', n.body, '', n.id, n.created_at, n.account_id FROM note n WHERE n.job_id = %(job)s
        UNION ALL
        SELECT p.seq, 'photograph', p.caption, '', p.id, p.created_at, p.account_id FROM photo p WHERE p.job_id = %(job)s
        UNION ALL
        SELECT s.seq, 'codes read',
               coalesce((SELECT string_agg(concat_ws(' ', nullif(x.module, ''), x.code), ', ' ORDER BY x.position) FROM scanned_code x
                         WHERE x.scan_id = s.id AND (x.status IS NULL OR x.status & 47 <> 0)), 'no codes'),
               CASE s.source WHEN 'vehicle' THEN 'from the vehicle' WHEN 'import' THEN 'from a file' ELSE 'typed' END,
               s.id, s.created_at, s.account_id
        FROM code_scan s WHERE s.job_id = %(job)s
        UNION ALL
        SELECT c.seq, 'codes cleared', CASE c.source WHEN 'vehicle' THEN 'through the vehicle interface' ELSE 'by hand' END, '',
               c.id, c.created_at, c.account_id FROM clearing c WHERE c.job_id = %(job)s
        UNION ALL
        SELECT c.seq, 'circuit diagnosis opened', v.title, c.reason, c.id, c.created_at, c.account_id
        FROM circuit_diagnosis c JOIN circuit_version v ON v.id = c.circuit_version_id WHERE c.job_id = %(job)s
        UNION ALL
        SELECT r.seq, 'reading', r.instrument || ' at ' || r.red || ': ' || r.entry,
               CASE WHEN t.id IS NULL THEN r.note ELSE 'voided: ' || t.reason END, r.diagnosis_id, r.created_at, r.account_id
        FROM reading r LEFT JOIN voided_reading t ON t.reading_id = r.id WHERE r.job_id = %(job)s
        UNION ALL
        SELECT x.seq, CASE WHEN x.excluded THEN 'excluded' ELSE 'included again' END, x.kind || ' ' || x.name, '', x.diagnosis_id, x.created_at,
               x.account_id FROM exclusion x WHERE x.job_id = %(job)s
        UNION ALL
        SELECT d.seq, 'diagnosis', d.sentence, '', d.diagnosis_id, d.created_at, d.account_id FROM conclusion d WHERE d.job_id = %(job)s
        UNION ALL
        SELECT r.seq, 'repair', r.action, array_to_string(r.units, ', '), r.diagnosis_id, r.created_at, r.account_id
        FROM repair r WHERE r.job_id = %(job)s
        UNION ALL
        SELECT r.seq, 'recording', r.name, '', r.id, r.created_at, r.account_id FROM recording r WHERE r.job_id = %(job)s AND r.state <> 'left'
        UNION ALL
        SELECT x.seq, 'circuit filled in', x.said, '', x.diagnosis_id, x.created_at, x.account_id
        FROM circuit_revision x WHERE x.job_id = %(job)s
    ) e LEFT JOIN account a ON a.id = e.account_id
    ORDER BY e.seq, e.at
"""


def timeline(db: Db, job_id: UUID) -> list[TimelineEntry]:
    """Everything of a job in the order it happened."""
    with db.cursor(row_factory=class_row(TimelineEntry)) as cursor:
        return cursor.execute(_TIMELINE, {"job": job_id}).fetchall()
