"""``./run backup FILE`` and ``./run restore FILE``: everything of a data folder in one file and back again.

A backup may be taken while people work. For putting one back Sondar must be stopped; what was there before is kept in the same server
under another name.
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import psycopg

from sondar.running import AlreadyRunningError, alone, data_folder
from sondar.store.backup import BackupError, back_up, content, restore
from sondar.store.local_server import LocalServer, ServerError


def main() -> int:
    """Parse arguments; back up or restore, and say what was done."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("what", choices=("backup", "restore"))
    parser.add_argument("file", type=Path)
    arguments = parser.parse_args()
    folder, file = data_folder(), arguments.file.resolve()
    try:
        if arguments.what == "backup":
            if not (folder / "postgres" / "data" / "PG_VERSION").exists():
                raise BackupError(f"there is no data in {folder}: set SONDAR_DATA to the folder that is to be backed up")
            with _running(LocalServer(folder / "postgres")) as dsn:
                back_up(dsn, file)
                rows = sum(table.rows for table in content(dsn).values())
            print(
                f"Backed up {folder} to {file}: {file.stat().st_size / 1e6:.1f} MB, {rows} rows. Keep it where only you can read it."
            )
            return 0
        folder.mkdir(parents=True, exist_ok=True)
        with alone(folder), _running(LocalServer(folder / "postgres")) as dsn:
            former = restore(dsn, file)
            rows = sum(table.rows for table in content(dsn).values())
        kept = f" What was there before is kept as database {former}." if former else ""
        print(f"Restored {file} into {folder}: {rows} rows.{kept} Start with ./run start.")
        return 0
    except (AlreadyRunningError, BackupError, ServerError, psycopg.Error, OSError) as error:
        print(error, file=sys.stderr)
        return 1


@contextmanager
def _running(server: LocalServer) -> Iterator[str]:
    """The database server, started for this if it does not run."""
    was_running = (server.data / "postmaster.pid").exists() and server.is_running()
    dsn = server.start()
    try:
        yield dsn
    finally:
        if not was_running:
            server.stop()


if __name__ == "__main__":
    sys.exit(main())
