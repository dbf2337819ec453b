"""Scans of trouble codes, clearings, and what the workshop knows about manufacturers' codes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from psycopg.rows import class_row
from psycopg.types.json import Jsonb

from sondar.core.codes import FoundCode
from sondar.store.database import Db
from sondar.store.jobs import next_seq


@dataclass(frozen=True)
class Scan:
    """One reading of the codes, with what it found.

    Attributes:
        modules: module -> True if it answered, False if it was silent, else in words why it did not say its codes though it is there;
            empty for a typed list.
        conditions: what was run since clearing.
    """

    id: UUID
    seq: int
    source: str
    modules: dict[str, bool | str]
    conditions: list[str]
    created_at: datetime
    by: str | None
    codes: tuple[FoundCode, ...]


@dataclass(frozen=True)
class Clearing:
    """Codes were cleared; ``scan_id`` is the list kept from before."""

    id: UUID
    seq: int
    scan_id: UUID
    source: str
    created_at: datetime


@dataclass(frozen=True)
class Meaning:
    """What the workshop wrote about a code of a make."""

    make: str
    code: str
    title: str
    about: str
    created_at: datetime


def add_scan(
    db: Db, job_id: UUID, client_key: UUID, source: str, codes: Sequence[FoundCode], modules: Mapping[str, bool | str],
    conditions: Sequence[str],
) -> bool:  # fmt: skip
    """Append a scan; False for a repeat."""
    seq = next_seq(db, job_id)
    row = db.execute(
        """
        INSERT INTO code_scan (job_id, seq, client_key, source, modules, conditions) VALUES (%s, %s, %s, %s, %s, %s)
        ON CONFLICT (job_id, client_key) DO NOTHING RETURNING id
        """,
        (job_id, seq, client_key, source, Jsonb(dict(modules)), list(conditions)),
    ).fetchone()
    if row is None:
        return False
    db.execute(
        """
        INSERT INTO scanned_code (scan_id, position, module, code, failure_type, status)
        SELECT %s, number - 1, module, code, failure_type, status
        FROM unnest(%s::text[], %s::text[], %s::text[], %s::integer[]) WITH ORDINALITY AS c(module, code, failure_type, status, number)
        """,
        (row[0], [(c.module or "")[:40] for c in codes], [c.code for c in codes], [c.failure_type for c in codes],
         [c.status for c in codes]),
    )  # fmt: skip
    return True


def scans_of(db: Db, job_id: UUID) -> list[Scan]:
    """Scans of a job in order."""
    rows = db.execute(
        """
        SELECT s.id, s.seq, s.source, s.modules, s.conditions, s.created_at, a.name
        FROM code_scan s LEFT JOIN account a ON a.id = s.account_id WHERE s.job_id = %s ORDER BY s.seq
        """,
        (job_id,),
    ).fetchall()
    found: dict[UUID, list[FoundCode]] = {row[0]: [] for row in rows}
    for scan_id, module, code, failure, status in db.execute(
        """
        SELECT c.scan_id, c.module, c.code, c.failure_type, c.status
        FROM scanned_code c JOIN code_scan s ON s.id = c.scan_id WHERE s.job_id = %s ORDER BY c.scan_id, c.position
        """,
        (job_id,),
    ):
        found[scan_id].append(FoundCode(code, failure, status, module or None))
    return [
        Scan(scan_id, seq, source, modules, conditions, created_at, by, tuple(found[scan_id]))
        for scan_id, seq, source, modules, conditions, created_at, by in rows
    ]


def add_clearing(db: Db, job_id: UUID, client_key: UUID, scan_id: UUID, source: str) -> bool:
    """Append that codes were cleared; False for a repeat."""
    seq = next_seq(db, job_id)
    row = db.execute(
        """
        INSERT INTO clearing (job_id, seq, client_key, scan_id, source) VALUES (%s, %s, %s, %s, %s)
        ON CONFLICT (job_id, client_key) DO NOTHING RETURNING id
        """,
        (job_id, seq, client_key, scan_id, source),
    ).fetchone()
    return row is not None


def clearings_of(db: Db, job_id: UUID) -> list[Clearing]:
    """Clearings of a job in order."""
    with db.cursor(row_factory=class_row(Clearing)) as cursor:
        return cursor.execute(
            "SELECT id, seq, scan_id, source, created_at FROM clearing WHERE job_id = %s ORDER BY seq", (job_id,)
        ).fetchall()


def add_meaning(db: Db, make: str, code: str, title: str, about: str) -> None:
    """Describe a code; the latest description counts."""
    db.execute("INSERT INTO code_meaning (make, code, title, about) VALUES (%s, %s, %s, %s)", (make, code, title, about))


def meanings(db: Db, make: str, codes: Sequence[str]) -> dict[str, Meaning]:
    """What the workshop knows about codes of a make."""
    with db.cursor(row_factory=class_row(Meaning)) as cursor:
        rows = cursor.execute(
            """
            SELECT DISTINCT ON (code) make, code, title, about, created_at FROM code_meaning
            WHERE code = ANY(%s) AND lower(make) = lower(%s) ORDER BY code, created_at DESC
            """,
            (list(codes), make),
        ).fetchall()
    return {row.code: row for row in rows}
