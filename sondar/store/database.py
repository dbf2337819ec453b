"""Connections, migrations, and whose data a transaction may see."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path
from typing import Any, TypeVar
from uuid import UUID

import psycopg
from psycopg import Connection
from psycopg.conninfo import conninfo_to_dict
from psycopg.rows import TupleRow
from psycopg_pool import ConnectionPool
from yoyo import get_backend, read_migrations

MIGRATIONS = Path(__file__).parent / "migrations"
APPLICATION_ROLE, DEFINER_ROLE = "sondar_app", "sondar_definer"
T = TypeVar("T")

CONNECTION_S = 5.0
"""Longest wait for a connection: each is held for milliseconds, so whoever waits longer waits for a database that is not there."""

Db = Connection[TupleRow]


def open_pool(dsn: str, size: int = 8, wait_s: float = CONNECTION_S) -> ConnectionPool[Db]:
    """A pool for ``borrowed``, which finds a restarted database again at once.

    The pool's own check is not used: it waits 1, 2, 4 … seconds between the connections it finds broken, and after a restart of the
    database all are. Nor are its attempts to connect again, each twice as long after the last: after an outage of minutes nobody
    would be answered for minutes more.
    """
    return ConnectionPool(dsn, min_size=1, max_size=size, open=True, timeout=wait_s, reconnect_timeout=wait_s)


def answers(dsn: str) -> bool:
    """True if the database takes a connection; a pool that has none to lend is then only busy."""
    try:
        psycopg.connect(dsn, connect_timeout=1).close()
    except psycopg.OperationalError:
        return False
    return True


_holds: ContextVar[bool] = ContextVar("holds", default=False)


@contextmanager
def borrowed(pool: ConnectionPool[Db]) -> Iterator[Db]:
    """A connection of the pool, in a transaction.

    One request holds one at a time, and none while it is computed for: as many requests as there are connections, each waiting for a
    second one, would wait for one another.

    Raises:
        RuntimeError: this request holds one already.
    """
    none_is_held()
    token = _holds.set(True)
    try:
        db = _sound_connection(pool)
        try:
            with db:  # commits, or rolls back; a pool's connection is not closed by it
                yield db
        finally:
            pool.putconn(db)
    finally:
        _holds.reset(token)


def _sound_connection(pool: ConnectionPool[Db]) -> Db:
    """One that answers; when one does not, every other that is idle is asked as well and replaced if need be.

    Raises:
        PoolTimeout: none within the time the pool waits.
    """
    until = time.monotonic() + pool.timeout
    while True:
        db = pool.getconn(max(0.0, until - time.monotonic()))
        try:
            pool.check_connection(db)
        except psycopg.OperationalError:
            pool.putconn(db)
            pool.check()
        except BaseException:
            pool.putconn(db)
            raise
        else:
            return db


def none_is_held() -> None:
    """Raise if this request holds a connection.

    Raises:
        RuntimeError: it does: a mistake of the program.
    """
    if _holds.get():
        raise RuntimeError("a connection is held: load everything in one transaction, give it back, then compute")


def act_for(db: Db, workshop_id: UUID | None, account_id: UUID | None = None) -> None:
    """Say for the rest of the transaction whose data it works on; every policy and every default follows from it."""
    db.execute(
        "SELECT set_config('sondar.workshop', %s, true), set_config('sondar.account', %s, true)",
        (str(workshop_id or ""), str(account_id or "")),
    )


def pending(dsn: str) -> list[str]:
    """Names of the migrations that have not been applied."""
    return [migration.id for migration in _with_backend(dsn, lambda backend: backend.to_apply(read_migrations(str(MIGRATIONS))))]


def is_begun(dsn: str) -> bool:
    """True if any migration has been applied: there is something that could be lost."""
    with psycopg.connect(dsn) as db:
        return db.execute("SELECT to_regclass('public.job')").fetchone() != (None,)


def migrate(dsn: str, until: str = "") -> list[str]:
    """Apply every migration not yet applied, as the owner of the database; return their names.

    Args:
        until: the last one to apply; all if left out.
    """

    def apply(backend: Any) -> list[str]:
        with backend.lock():
            known = read_migrations(str(MIGRATIONS))
            todo = backend.to_apply(known.filter(lambda item: not until or item.id <= until))
            backend.apply_migrations(todo)
            return [migration.id for migration in todo]

    return _with_backend(dsn, apply)


def _with_backend(dsn: str, do: Callable[[Any], T]) -> T:
    parts: dict[str, Any] = conninfo_to_dict(dsn)
    url = f"postgresql+psycopg://{parts['user']}:{parts.get('password', '')}@{parts['host']}:{parts['port']}/{parts['dbname']}"
    backend = get_backend(url)
    try:
        return do(backend)
    finally:
        backend.connection.close()
