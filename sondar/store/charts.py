"""Makers' charts of a workshop: kept as they were entered."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from psycopg.rows import class_row

from sondar.store.database import Db


@dataclass(frozen=True)
class StoredChart:
    """One chart."""

    id: UUID
    slug: str
    title: str
    source_text: str
    created_at: datetime


_COLUMNS = "id, slug, title, source_text, created_at"


def save_chart(db: Db, slug: str, title: str, text: str) -> StoredChart:
    """Keep a checked chart of a circuit; the same text again is the same chart."""
    digest = hashlib.sha256(text.encode()).hexdigest()
    db.execute(
        "INSERT INTO chart (slug, title, source_text, sha256) VALUES (%s, %s, %s, %s) ON CONFLICT (workshop_id, slug, sha256) DO NOTHING",
        (slug, title, text, digest),
    )
    with db.cursor(row_factory=class_row(StoredChart)) as cursor:
        found = cursor.execute(f"SELECT {_COLUMNS} FROM chart WHERE slug = %s AND sha256 = %s", (slug, digest)).fetchone()
    assert found is not None
    return found


def charts_of(db: Db, slug: str) -> list[StoredChart]:
    """Charts of a circuit, newest first."""
    with db.cursor(row_factory=class_row(StoredChart)) as cursor:
        return cursor.execute(f"SELECT {_COLUMNS} FROM chart WHERE slug = %s ORDER BY created_at DESC LIMIT 50", (slug,)).fetchall()


def chart_by_id(db: Db, chart_id: UUID) -> StoredChart | None:
    """One chart of this workshop."""
    with db.cursor(row_factory=class_row(StoredChart)) as cursor:
        return cursor.execute(f"SELECT {_COLUMNS} FROM chart WHERE id = %s", (chart_id,)).fetchone()
