"""Manufacturers' procedures of a workshop: kept as they were entered."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from psycopg.rows import class_row

from sondar.store.database import Db


@dataclass(frozen=True)
class StoredProcedure:
    """One procedure."""

    id: UUID
    slug: str
    title: str
    source_text: str
    created_at: datetime


_COLUMNS = "id, slug, title, source_text, created_at"


def save_procedure(db: Db, slug: str, title: str, text: str) -> StoredProcedure:
    """Keep a checked procedure of a circuit; the same text again is the same procedure."""
    digest = hashlib.sha256(text.encode()).hexdigest()
    db.execute(
        """
        INSERT INTO diagnostic_procedure (slug, title, source_text, sha256) VALUES (%s, %s, %s, %s)
        ON CONFLICT (workshop_id, slug, sha256) DO NOTHING
        """,
        (slug, title, text, digest),
    )
    with db.cursor(row_factory=class_row(StoredProcedure)) as cursor:
        found = cursor.execute(
            "SELECT " + _COLUMNS + " FROM diagnostic_procedure WHERE slug = %s AND sha256 = %s", (slug, digest)
        ).fetchone()
    assert found is not None
    return found


def procedures_of(db: Db, slug: str) -> list[StoredProcedure]:
    """Procedures of a circuit, newest first."""
    with db.cursor(row_factory=class_row(StoredProcedure)) as cursor:
        return cursor.execute(
            "SELECT " + _COLUMNS + " FROM diagnostic_procedure WHERE slug = %s ORDER BY created_at DESC LIMIT 50", (slug,)
        ).fetchall()


def procedure_by_id(db: Db, procedure_id: UUID) -> StoredProcedure | None:
    """One procedure of this workshop."""
    with db.cursor(row_factory=class_row(StoredProcedure)) as cursor:
        return cursor.execute("SELECT " + _COLUMNS + " FROM diagnostic_procedure WHERE id = %s", (procedure_id,)).fetchone()
