"""A PostgreSQL server of the project's own: its data folder, on loopback, run by an unprivileged user.

Used by the start command and, with a throw-away folder, by the tests. The server outlives neither a reboot nor ``stop``; its
data does. PostgreSQL refuses to run as root, so as root everything runs as the ``postgres`` user of Debian's package.
"""

from __future__ import annotations

import os
import pwd
import secrets
import shutil
import socket
import subprocess
import time
from dataclasses import dataclass
from pathlib import Path

import psycopg
from psycopg import sql
from psycopg.conninfo import make_conninfo

from sondar.store.database import APPLICATION_ROLE

DEAD_WITHIN_S = 20.0
"""What is left of a killed server has ended by then."""
USER = "sondar"
DATABASE = "sondar"


class ServerError(Exception):
    """The database server could not be set up or started; the message says why and what to do."""


@dataclass(frozen=True)
class LocalServer:
    """A server kept in ``folder`` (``data``, ``log`` and ``password`` inside).

    Attributes:
        folder: absolute path; created on first start.
        port: TCP port, or 0 for the last one used, else a free one.
        options: further options of the server, as on its command line; tests do without waiting for the disk.
    """

    folder: Path
    port: int = 0
    options: str = ""

    @property
    def data(self) -> Path:
        """PostgreSQL's data directory."""
        return self.folder / "data"

    def dsn(self, port: int, database: str = DATABASE) -> str:
        """Connection string."""
        password = (self.folder / "password").read_text().strip()
        return f"host=127.0.0.1 port={port} user={USER} password={password} dbname={database}"

    def start(self) -> str:
        """Initialise if new, start if not running, create the database; return its connection string.

        Raises:
            ServerError: no PostgreSQL programs, no rights to the folder, or the server does not come up.
        """
        self._prepare_folder()
        if not (self.data / "PG_VERSION").exists():
            self._initialise()
        port = self._running_port() if self.is_running() else None
        if port is None:
            self._clear_away_dead()
            port = self._start()
        self._create_database(port)
        return self.dsn(port)

    def application_dsn(self, dsn: str) -> str:
        """The same database for the application: a role that owns nothing and is held by the row policies.

        Call after migrating; gives the role a password of its own.
        """
        secret = self.folder / "application-password"
        if not secret.exists():
            secret.write_text(secrets.token_urlsafe(24))
            secret.chmod(0o600)
        password = secret.read_text().strip()
        with psycopg.connect(dsn, autocommit=True) as connection:
            role = sql.Identifier(APPLICATION_ROLE)
            connection.execute(sql.SQL("ALTER ROLE {} LOGIN PASSWORD {}").format(role, sql.Literal(password)))
        return make_conninfo(dsn, user=APPLICATION_ROLE, password=password)

    def process(self) -> int | None:
        """Number of its main process, as it was written down last."""
        try:
            return int((self.data / "postmaster.pid").read_text().splitlines()[0])
        except (OSError, ValueError, IndexError):
            return None

    def is_running(self) -> bool:
        """True if its main process is alive; asks the kernel, not the server."""
        process = self.process()
        try:
            state = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0]
        except (OSError, IndexError):
            return False
        return state != "Z"  # ended, and nobody has asked for its result yet

    def _clear_away_dead(self) -> None:
        """Take away the lock of a main process that was killed and that nobody has asked for its result (a container without an init).

        PostgreSQL asks the kernel whether the number is in use, and of such a process the kernel says yes for ever. The server's other
        processes work in its data folder and end by themselves; the lock goes only when none of them is left.
        """
        process, lock = self.process(), self.data / "postmaster.pid"
        if process is None or not Path(f"/proc/{process}").exists():
            return  # PostgreSQL itself sees that it is gone
        deadline = time.monotonic() + DEAD_WITHIN_S
        while self._works_in_data():
            if time.monotonic() > deadline:
                return
            time.sleep(0.1)
        lock.unlink(missing_ok=True)

    def _works_in_data(self) -> bool:
        data = self.data.resolve()
        for entry in Path("/proc").glob("[0-9]*/cwd"):
            try:
                if entry.resolve(strict=True) == data:
                    return True
            except OSError:
                continue
        return False

    def stop(self, mode: str = "fast") -> None:
        """Stop the server (``fast`` rolls back open transactions, ``immediate`` is a crash)."""
        self._run(["pg_ctl", "-D", str(self.data), "-w", "-m", mode, "stop"], check=False)

    def _prepare_folder(self) -> None:
        self.folder.mkdir(parents=True, exist_ok=True)
        if os.geteuid() == 0:
            owner = _service_user()
            os.chown(self.folder, owner.pw_uid, owner.pw_gid)
            reachable = subprocess.run([*_as_service_user(), "test", "-w", str(self.folder)], check=False).returncode == 0
            if not reachable:
                raise ServerError(f"user {owner.pw_name} cannot reach {self.folder}: set SONDAR_DATA to a folder outside /root")
        self.folder.chmod(0o700)

    def _initialise(self) -> None:
        password = self.folder / "password"
        password.write_text(secrets.token_urlsafe(24))
        if os.geteuid() == 0:
            os.chown(password, _service_user().pw_uid, -1)
        password.chmod(0o600)
        self._run(
            ["initdb", "-D", str(self.data), "-U", USER, "--auth=scram-sha-256", f"--pwfile={password}", "--encoding=UTF8",
             "--locale=C.UTF-8", "--data-checksums"]
        )  # fmt: skip

    def _running_port(self) -> int | None:
        status = self._run(["pg_ctl", "-D", str(self.data), "status"], check=False)
        if status.returncode != 0:
            return None
        lines = (self.data / "postmaster.pid").read_text().splitlines()
        return int(lines[3])

    def _start(self) -> int:
        remembered = self.folder / "port"
        wanted = self.port or (int(remembered.read_text()) if remembered.exists() else 0)
        port = wanted if wanted and (self.port or _is_free(wanted)) else _free_port()
        options = (
            f"-c listen_addresses=127.0.0.1 -c port={port} -c unix_socket_directories='' -c shared_buffers=64MB {self.options}"
        )
        done = self._run(
            ["pg_ctl", "-D", str(self.data), "-w", "-t", "60", "-l", str(self.folder / "log"), "-o", options, "start"], check=False
        )
        if done.returncode != 0:
            log = self.folder / "log"
            tail = log.read_text()[-600:] if log.exists() else done.stderr
            raise ServerError(f"the database server did not start on port {port}: {tail}")
        remembered.write_text(str(port))
        return port

    def _create_database(self, port: int) -> None:
        deadline = time.monotonic() + 30
        while True:
            try:
                with psycopg.connect(self.dsn(port, "postgres"), autocommit=True) as connection:
                    row = connection.execute("SELECT 1 FROM pg_database WHERE datname = %s", (DATABASE,)).fetchone()
                    if row is None:
                        connection.execute(f"CREATE DATABASE {DATABASE}")
                return
            except psycopg.OperationalError as error:  # recovering after a crash
                if time.monotonic() > deadline:
                    raise ServerError(f"the database server on port {port} does not answer: {error}") from error
                time.sleep(0.2)

    def _run(self, command: list[str], check: bool = True) -> subprocess.CompletedProcess[str]:
        program = [*_as_service_user(), str(_programs() / command[0]), *command[1:]]
        # Not captured through a pipe: the server keeps its parent's descriptors and a pipe would never close.
        with open(os.devnull) as nothing:
            scratch = self.folder / "last-command"
            with scratch.open("w") as output:
                done = subprocess.run(program, stdin=nothing, stdout=output, stderr=output, check=False, cwd="/")
        text = scratch.read_text()
        if check and done.returncode != 0:
            raise ServerError(f"{command[0]} failed: {text[-600:]}")
        return subprocess.CompletedProcess(program, done.returncode, text, text)


def _programs() -> Path:
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/pg_ctl"), key=lambda p: int(p.parts[-3]))
    if found:
        return found[-1].parent
    on_path = shutil.which("pg_ctl")
    if on_path is None:
        raise ServerError("no PostgreSQL server programs: install Debian's package postgresql")
    return Path(on_path).resolve().parent


def program(name: str) -> str:
    """Path of one of PostgreSQL's programs, of the same version as the server.

    Raises:
        ServerError: PostgreSQL is not installed.
    """
    return str(_programs() / name)


def _service_user() -> pwd.struct_passwd:
    try:
        return pwd.getpwnam("postgres")
    except KeyError as error:
        raise ServerError("running as root needs the user 'postgres': install Debian's package postgresql") from error


def _as_service_user() -> list[str]:
    if os.geteuid() != 0:
        return []
    owner = _service_user()
    return ["setpriv", f"--reuid={owner.pw_uid}", f"--regid={owner.pw_gid}", "--clear-groups"]


def _is_free(port: int) -> bool:
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) != 0


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
