"""Everything of a database in one file and back again, with PostgreSQL's own ``pg_dump`` and ``pg_restore``.

A backup is one snapshot: it is taken while people work, and holds what had been acknowledged when it began. Photographs and circuit
files are rows like everything else, so nothing lies beside it.
"""

from __future__ import annotations

import os
import subprocess
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import psycopg
from psycopg import sql
from psycopg.conninfo import conninfo_to_dict, make_conninfo

from sondar.store.database import APPLICATION_ROLE, DEFINER_ROLE, migrate
from sondar.store.local_server import program


class BackupError(Exception):
    """A backup could not be made, read or put back; says why and what to do."""


@dataclass(frozen=True)
class TableContent:
    """How many rows a table has, and one number for all that stands in them."""

    rows: int
    digest: str


def back_up(dsn: str, file: Path) -> None:
    """Write everything of a database into a file; a file that is there is replaced once the new one is complete.

    Raises:
        BackupError: it cannot be written.
    """
    unfinished = file.with_name(f"{file.name}.unfinished")
    try:
        unfinished.touch(mode=0o600)  # it holds names, plates and password hashes
        _run("pg_dump", "--format=custom", "--no-owner", f"--file={unfinished}", dsn=dsn)
        with unfinished.open("rb") as written:
            os.fsync(written.fileno())
        unfinished.replace(file)
    except OSError as error:
        raise BackupError(f"{file} cannot be written ({error.strerror}): choose another place or free space") from error
    finally:
        unfinished.unlink(missing_ok=True)


def restore(dsn: str, file: Path) -> str | None:
    """Put a backup in place of a database, brought up to this version; what was there is kept under another name.

    Nothing is changed unless the whole file could be read.

    Args:
        dsn: of the database, as its owner.

    Returns:
        The name under which the former content is kept; None if there was none.

    Raises:
        BackupError: no such file, not a backup, or someone is connected.
    """
    if not file.is_file():
        raise BackupError(f"there is no file {file}")
    name = str(conninfo_to_dict(dsn)["dbname"])
    fresh, former = f"{name}_restored", f"{name}_until_{datetime.now(UTC):%Y%m%d_%H%M%S}"
    with psycopg.connect(make_conninfo(dsn, dbname="postgres"), autocommit=True) as server:
        for role in (APPLICATION_ROLE, DEFINER_ROLE):
            if server.execute("SELECT 1 FROM pg_roles WHERE rolname = %s", (role,)).fetchone() is None:
                server.execute(sql.SQL("CREATE ROLE {} NOLOGIN").format(sql.Identifier(role)))
        server.execute(sql.SQL("DROP DATABASE IF EXISTS {}").format(sql.Identifier(fresh)))
        server.execute(sql.SQL("CREATE DATABASE {}").format(sql.Identifier(fresh)))
        server.execute(sql.SQL("REVOKE TEMPORARY ON DATABASE {} FROM PUBLIC").format(sql.Identifier(fresh)))
        try:
            restored = make_conninfo(dsn, dbname=fresh)
            _run("pg_restore", "--exit-on-error", "--no-owner", f"--dbname={restored}", str(file), dsn=restored)
            with psycopg.connect(restored) as db:
                give_definer_its_functions(db)
            migrate(restored)
            return _exchange(server, name, fresh, former)
        except BaseException:
            server.execute(sql.SQL("DROP DATABASE IF EXISTS {}").format(sql.Identifier(fresh)))
            raise


def give_definer_its_functions(db: psycopg.Connection) -> None:
    """A backup names no owners: functions that look across workshops become again those of the role that can do nothing else."""
    rows = db.execute(
        "SELECT p.oid::regprocedure::text FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname = 'public' AND p.prosecdef"
    ).fetchall()
    for (function,) in rows:
        db.execute(sql.SQL("ALTER FUNCTION {} OWNER TO {}").format(sql.SQL(function), sql.Identifier(DEFINER_ROLE)))


def _exchange(server: psycopg.Connection, name: str, fresh: str, former: str) -> str | None:
    tables = 0
    if server.execute("SELECT 1 FROM pg_database WHERE datname = %s", (name,)).fetchone():
        with psycopg.connect(make_conninfo(server.info.dsn, password=server.info.password, dbname=name)) as db:
            row = db.execute("SELECT count(*) FROM information_schema.tables WHERE table_schema = 'public'").fetchone()
            tables = int(row[0]) if row else 0
        try:
            if tables:
                server.execute(sql.SQL("ALTER DATABASE {} RENAME TO {}").format(sql.Identifier(name), sql.Identifier(former)))
            else:
                server.execute(sql.SQL("DROP DATABASE {}").format(sql.Identifier(name)))
        except psycopg.errors.ObjectInUse as error:
            raise BackupError("the database is in use: stop Sondar first (./run stop)") from error
    server.execute(sql.SQL("ALTER DATABASE {} RENAME TO {}").format(sql.Identifier(fresh), sql.Identifier(name)))
    return former if tables else None


def content(dsn: str) -> dict[str, TableContent]:
    """Rows and digest of every table, for comparing two databases; independent of the order in which rows lie on the disk."""
    with psycopg.connect(dsn) as db:
        names = [row[0] for row in db.execute("SELECT tablename FROM pg_tables WHERE schemaname = 'public' ORDER BY 1").fetchall()]
        found = {}
        for name in names:
            query = sql.SQL("SELECT count(*), coalesce(md5(string_agg(md5(t::text), '' ORDER BY md5(t::text))), '') FROM {} t")
            row = db.execute(query.format(sql.Identifier(name))).fetchone()
            assert row is not None
            found[name] = TableContent(int(row[0]), str(row[1]))
        return found


def _run(name: str, *arguments: str, dsn: str) -> None:
    parts = conninfo_to_dict(dsn)
    environment = {
        **os.environ, "PGHOST": str(parts["host"]), "PGPORT": str(parts["port"]), "PGUSER": str(parts["user"]),
        "PGPASSWORD": str(parts.get("password", "")), "PGDATABASE": str(parts["dbname"]),
    }  # fmt: skip
    # The password goes by the environment: a command line can be read by everyone on the machine.
    without = [f"--dbname={parts['dbname']}" if argument.startswith("--dbname=") else argument for argument in arguments]
    done = subprocess.run([program(name), *without], env=environment, capture_output=True, text=True, check=False)
    if done.returncode != 0:
        raise BackupError(f"{name} failed: {done.stderr.strip()[-600:]}")
