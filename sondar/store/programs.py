"""Outside programs: each has an account of its own that no password opens, and one token, which is a session that lasts."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID, uuid4

from psycopg.rows import class_row

from sondar.store import people
from sondar.store.database import Db

NO_PASSWORD = "!"
"""Not the hash of anything."""


@dataclass(frozen=True)
class Program:
    """An outside program and its token."""

    id: UUID
    name: str
    role: str
    created_at: datetime
    seen_at: datetime | None
    expires_at: datetime | None
    active: bool


def add_program(db: Db, name: str, role: str, token: str, days: int) -> UUID:
    """A program that may read, or record as a technician does, until its token ends."""
    row = db.execute(
        "INSERT INTO account (sign_in, name, role, password_hash, program) VALUES (%s, %s, %s, %s, true) RETURNING id",
        (f"program-{uuid4().hex}", name, role, NO_PASSWORD),
    ).fetchone()
    assert row is not None
    made = UUID(str(row[0]))
    people.open_session(db, made, token, "", "program", "", days * 24)
    return made


def programs(db: Db) -> list[Program]:
    """Every program of the workshop, those that still may first."""
    with db.cursor(row_factory=class_row(Program)) as cursor:
        return cursor.execute(
            """
            SELECT a.id, a.name, a.role, a.created_at, s.seen_at, s.expires_at,
                   a.active AND s.revoked_at IS NULL AND s.expires_at > now() AS active
            FROM account a LEFT JOIN LATERAL (
                SELECT * FROM session WHERE session.account_id = a.id ORDER BY created_at DESC LIMIT 1
            ) s ON true
            WHERE a.program ORDER BY active DESC, a.created_at DESC LIMIT 200
            """
        ).fetchall()


def end_program(db: Db, program_id: UUID) -> bool:
    """Make its token open nothing; what it has entered stays under its name."""
    row = db.execute(
        "UPDATE account SET active = false WHERE id = %s AND program AND active RETURNING id", (program_id,)
    ).fetchone()
    if row is not None:
        people.revoke_sessions(db, program_id)
    return row is not None
