"""How long things are kept and how much room they take: personal data erased, photographs and recordings counted."""

from __future__ import annotations

from uuid import UUID

from sondar.store.database import Db


def erase_personal(db: Db, vehicle_id: UUID, *, words: bool) -> int:
    """Erase what tells whose vehicle it is: plate, VIN, photographs, share links; number of its jobs.

    Args:
        words: also what was written freely (complaint, notes), which may name people. The technical record stays either way.
    """
    row = db.execute("SELECT erase_personal(%s, %s)", (vehicle_id, words)).fetchone()
    return int(row[0]) if row else 0


def workshops_that_erase(db: Db) -> list[UUID]:
    """Workshops that have personal data erased after a time."""
    return [UUID(str(row[0])) for row in db.execute("SELECT workshops_that_erase()").fetchall()]


def vehicles_due(db: Db, limit: int = 200) -> list[UUID]:
    """Vehicles of this workshop of which every job is closed, untouched for as long as it keeps personal data, and not erased yet."""
    rows = db.execute(
        """
        SELECT j.vehicle_id FROM job j, workshop w WHERE w.id = current_workshop() AND w.erase_after_months IS NOT NULL
        GROUP BY j.vehicle_id, w.erase_after_months
        HAVING bool_and(j.stage = 'closed') AND max(j.touched_at) < now() - make_interval(months => w.erase_after_months)
           AND bool_or(j.erased_at IS NULL)
        LIMIT %s
        """,
        (limit,),
    ).fetchall()
    return [UUID(str(row[0])) for row in rows]


def photo_bytes(db: Db) -> int:
    """Bytes of all photographs and wiring sheets of this workshop."""
    row = db.execute(
        """
        SELECT coalesce(sum(bytes), 0) FROM (
            SELECT octet_length(body) + octet_length(thumbnail) AS bytes FROM photo
            UNION ALL SELECT octet_length(body) + octet_length(thumbnail) FROM sheet_picture
        ) pictures
        """
    ).fetchone()
    return int(row[0]) if row else 0


def recording_bytes(db: Db) -> int:
    """Bytes of all recordings of this workshop, and of files that are arriving."""
    row = db.execute(
        """
        SELECT (SELECT coalesce(sum(octet_length(y) + coalesce(octet_length(t), 0)), 0) FROM recording_chunk)
             + (SELECT coalesce(sum(bytes), 0) FROM recording WHERE state IN ('arriving', 'reading'))
        """
    ).fetchone()
    return int(row[0]) if row else 0
