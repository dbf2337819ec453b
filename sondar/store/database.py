"""Connections, migrations, and whose data a transaction may see."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from uuid import UUID

from psycopg import Connection
from psycopg.conninfo import conninfo_to_dict
from psycopg.rows import TupleRow
from psycopg_pool import ConnectionPool
from yoyo import get_backend, read_migrations

MIGRATIONS = Path(__file__).parent / "migrations"
APPLICATION_ROLE = "sondar_app"

Db = Connection[TupleRow]


def open_pool(dsn: str, size: int = 8) -> ConnectionPool[Db]:
    """A pool that checks a connection before lending it, so that a restarted database is simply found again."""
    return ConnectionPool(dsn, min_size=1, max_size=size, open=True, timeout=10, check=ConnectionPool.check_connection)


def act_for(db: Db, workshop_id: UUID | None, account_id: UUID | None = None) -> None:
    """Say for the rest of the transaction whose data it works on; every policy and every default follows from it."""
    db.execute(
        "SELECT set_config('sondar.workshop', %s, true), set_config('sondar.account', %s, true)",
        (str(workshop_id or ""), str(account_id or "")),
    )


def migrate(dsn: str, until: str = "") -> list[str]:
    """Apply every migration not yet applied, as the owner of the database; return their names.

    Args:
        until: the last one to apply; all if left out.
    """
    parts: dict[str, Any] = conninfo_to_dict(dsn)
    url = f"postgresql+psycopg://{parts['user']}:{parts.get('password', '')}@{parts['host']}:{parts['port']}/{parts['dbname']}"
    backend = get_backend(url)
    try:
        with backend.lock():
            known = read_migrations(str(MIGRATIONS))
            todo = backend.to_apply(known.filter(lambda item: not until or item.id <= until))
            backend.apply_migrations(todo)
            return [migration.id for migration in todo]
    finally:
        backend.connection.close()
