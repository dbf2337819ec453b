"""Circuit documents, versioned. The text as given is kept; the checked document is read from it."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from psycopg.rows import class_row

from sondar.core.circuit.document.fields import CircuitDocument
from sondar.store.database import Db


@dataclass(frozen=True)
class CircuitVersion:
    """One version of a circuit document; an example comes with Sondar and is of an invented make."""

    id: UUID
    slug: str
    version: int
    title: str
    make: str
    source_text: str
    created_at: datetime
    example: bool = False


_COLUMNS = "v.id, c.slug, v.version, v.title, v.make, v.source_text, v.created_at, c.workshop_id IS NULL AS example"


def save_circuit(db: Db, document: CircuitDocument, text: str) -> CircuitVersion:
    """Store a checked document; the same text again is the same version, another text the next one."""
    digest = hashlib.sha256(text.encode()).hexdigest()
    row = db.execute(
        "INSERT INTO circuit (slug) VALUES (%s) ON CONFLICT (workshop_id, slug) DO UPDATE SET slug = excluded.slug RETURNING id",
        (document.id,),
    ).fetchone()
    assert row is not None
    db.execute(
        """
        INSERT INTO circuit_version (circuit_id, version, title, make, source_text, sha256)
        SELECT %(circuit)s, coalesce(max(version), 0) + 1, %(title)s, %(make)s, %(text)s, %(digest)s
        FROM circuit_version WHERE circuit_id = %(circuit)s
        ON CONFLICT (circuit_id, sha256) DO NOTHING
        """,
        {"circuit": row[0], "title": document.title, "make": document.vehicle.make, "text": text, "digest": digest},
    )
    with db.cursor(row_factory=class_row(CircuitVersion)) as cursor:
        found = cursor.execute(
            "SELECT "
            + _COLUMNS
            + " FROM circuit_version v JOIN circuit c ON c.id = v.circuit_id WHERE c.id = %s AND v.sha256 = %s",
            (row[0], digest),
        ).fetchone()
    assert found is not None
    return found


def stored_texts(db: Db) -> dict[str, CircuitVersion]:
    """Newest versions of the library's circuits by the text that they were stored from: what is there need not be read again."""
    return {version.source_text: version for version in newest_circuits(db)}


def newest_circuits(db: Db, slugs: Sequence[str] | None = None) -> list[CircuitVersion]:
    """The newest version of every circuit (or of those named), by title; the workshop's own before the library's of the same name."""
    with db.cursor(row_factory=class_row(CircuitVersion)) as cursor:
        return cursor.execute(
            """
            SELECT * FROM (
                SELECT DISTINCT ON (c.slug) """
            + _COLUMNS
            + """ FROM circuit_version v JOIN circuit c ON c.id = v.circuit_id
                WHERE %(slugs)s::text[] IS NULL OR c.slug = ANY(%(slugs)s)
                ORDER BY c.slug, (c.workshop_id IS NULL), v.version DESC
            ) newest ORDER BY title
            """,
            {"slugs": None if slugs is None else list(slugs)},
        ).fetchall()


def circuit_version(db: Db, version_id: UUID) -> CircuitVersion | None:
    """One version."""
    with db.cursor(row_factory=class_row(CircuitVersion)) as cursor:
        return cursor.execute(
            "SELECT " + _COLUMNS + " FROM circuit_version v JOIN circuit c ON c.id = v.circuit_id WHERE v.id = %s", (version_id,)
        ).fetchone()


def versions_of(db: Db, version_id: UUID) -> list[CircuitVersion]:
    """Every version of the circuit that one belongs to, the newest first."""
    with db.cursor(row_factory=class_row(CircuitVersion)) as cursor:
        return cursor.execute(
            "SELECT "
            + _COLUMNS
            + """ FROM circuit_version v JOIN circuit c ON c.id = v.circuit_id
            WHERE c.id = (SELECT circuit_id FROM circuit_version WHERE id = %s) ORDER BY v.version DESC LIMIT 50""",
            (version_id,),
        ).fetchall()
