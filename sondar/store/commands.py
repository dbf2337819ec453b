"""Commands to vehicles: who commands which, whether somebody is still there, and how it went."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from psycopg.rows import class_row

from sondar.core.errors import NotFoundError
from sondar.store.database import Db

ALIVE_S = 15
"""Seconds after which a run is left by the process that carried it out."""


@dataclass(frozen=True)
class Run:
    """A command, or a recording without one."""

    id: UUID
    job_id: UUID
    recording_id: UUID
    vehicle: str
    command: str
    title: str
    module: str
    hold: bool
    state: str
    said: str
    position: str
    found: str
    created_at: datetime
    by: str | None
    left: bool


@dataclass(frozen=True)
class Sign:
    """What the person who gives a command wants now.

    Attributes:
        stop: it was asked to end. quiet_s: seconds since the page was heard. held: a finger holds it.
    """

    stop: bool
    quiet_s: float
    held: bool


@dataclass(frozen=True)
class Covered:
    """How often a module did something on a make and model, by outcome."""

    module: str
    title: str
    state: str
    times: int


_SELECT = f"""
    SELECT r.id, r.job_id, r.recording_id, r.vehicle, r.command, r.title, r.module, r.hold, r.state, r.said, r.position, r.found, r.created_at,
           a.name AS by, r.state = 'running' AND r.alive_at < now() - make_interval(secs => {ALIVE_S}) AS left
    FROM command_run r LEFT JOIN account a ON a.id = r.account_id
"""


def begin(
    db: Db, job_id: UUID, recording_id: UUID, vehicle: str, command: str, title: str, module: str, hold: bool
) -> tuple[UUID, bool] | None:
    """Begin a run: (id, True), or (id, False) for the same recording again; None if somebody commands or records this vehicle."""
    db.execute(
        "UPDATE command_run SET state = 'lost', said = 'The program that gave it has ended.' || "
        "CASE command WHEN '' THEN '' ELSE ' Control may still be active: switch the key off.' END "
        "WHERE vehicle = %s AND state = 'running' AND alive_at < now() - make_interval(secs => %s)",
        (vehicle, ALIVE_S),
    )
    row = db.execute("SELECT id FROM command_run WHERE recording_id = %s", (recording_id,)).fetchone()
    known = row is not None
    if row is None:
        row = db.execute(
            "INSERT INTO command_run (job_id, recording_id, vehicle, command, title, module, hold) VALUES (%s, %s, %s, %s, %s, %s, %s) "
            "ON CONFLICT DO NOTHING RETURNING id",
            (job_id, recording_id, vehicle, command, title, module, hold),
        ).fetchone()
    return None if row is None else (UUID(str(row[0])), not known)


def run(db: Db, run_id: UUID) -> Run:
    """One of them.

    Raises:
        NotFoundError: there is none.
    """
    with db.cursor(row_factory=class_row(Run)) as cursor:
        found = cursor.execute(_SELECT + " WHERE r.id = %s", (run_id,)).fetchone()
    if found is None:
        raise NotFoundError("No such command", f"no command {run_id}")
    return found


def of_recording(db: Db, recording_id: UUID) -> Run | None:
    """The run that made a recording; None if it came from a file."""
    row = db.execute("SELECT id FROM command_run WHERE recording_id = %s", (recording_id,)).fetchone()
    return None if row is None else run(db, row[0])


def running(db: Db, job_id: UUID) -> Run | None:
    """What is going on at a job's vehicle, if anything."""
    with db.cursor(row_factory=class_row(Run)) as cursor:
        return cursor.execute(
            _SELECT + " WHERE r.job_id = %s AND r.state = 'running' ORDER BY r.created_at DESC LIMIT 1", (job_id,)
        ).fetchone()


def given(db: Db, job_id: UUID) -> list[Run]:
    """Commands of a job that are over, in order."""
    with db.cursor(row_factory=class_row(Run)) as cursor:
        return cursor.execute(
            _SELECT + " WHERE r.job_id = %s AND r.command <> '' AND r.state <> 'running' ORDER BY r.created_at", (job_id,)
        ).fetchall()


def heard(db: Db, run_id: UUID, number: int, held_s: float | None) -> None:
    """The page is still there; a finger holds it for so many seconds more (None: nothing is said about that).

    Args:
        number: counts the signs of the page. One that comes after a later one is late, and holds nothing any more.
    """
    db.execute(
        "UPDATE command_run SET heard_at = now(), held_number = %(number)s, held_until = CASE WHEN %(held)s::float IS NULL THEN held_until "
        "ELSE now() + make_interval(secs => %(held)s) END WHERE id = %(id)s AND state = 'running' AND held_number < %(number)s",
        {"id": run_id, "number": number, "held": held_s},
    )


def ask_to_stop(db: Db, run_id: UUID) -> None:
    """End it at the next look."""
    db.execute("UPDATE command_run SET stop = true WHERE id = %s AND state = 'running'", (run_id,))


def sign(db: Db, run_id: UUID, position: str) -> Sign:
    """What is wanted now; says at the same time that the run is alive and in which position."""
    row = db.execute(
        "UPDATE command_run SET alive_at = now(), position = %s WHERE id = %s "
        "RETURNING stop, extract(epoch FROM now() - heard_at)::float, coalesce(held_until > now(), false), state",
        (position, run_id),
    ).fetchone()
    if row is None or row[3] != "running":
        return Sign(True, 0.0, False)
    return Sign(bool(row[0]), float(row[1]), bool(row[2]))


def end(db: Db, run_id: UUID, state: str, said: str) -> None:
    """It has ended, and how."""
    db.execute(
        "UPDATE command_run SET state = %s, said = %s, position = '' WHERE id = %s AND state = 'running'",
        (state, said[:500], run_id),
    )


def noticed(db: Db, run_id: UUID, found: str) -> None:
    """What a person noticed that it did."""
    db.execute("UPDATE command_run SET found = %s WHERE id = %s", (found, run_id))


def coverage(db: Db, make: str, model: str) -> list[Covered]:
    """What modules of a make and model have done on request so far in this workshop."""
    with db.cursor(row_factory=class_row(Covered)) as cursor:
        return cursor.execute(
            "SELECT r.module, r.title, r.state, count(*)::int AS times FROM command_run r "
            "JOIN job j ON j.id = r.job_id JOIN vehicle v ON v.id = j.vehicle_id "
            "WHERE lower(v.make) = lower(%s) AND lower(v.model) = lower(%s) AND r.command <> '' AND r.state <> 'running' "
            "GROUP BY r.module, r.title, r.state ORDER BY r.module, r.title, r.state",
            (make, model),
        ).fetchall()
