"""Start everything on this machine: database, migrations, library, and the application; with ``--demo`` also the demo data and the
simulator bench meter. Looks after both while they run, and stops what it started when it is told to stop.

``--stop`` and ``--status`` find a start again by its data folder.
"""

from __future__ import annotations

import argparse
import contextlib
import ctypes
import errno
import json
import os
import secrets
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from types import FrameType

from sondar import demo
from sondar.running import AlreadyRunningError, Running, alone, data_folder, note, status, stop
from sondar.simulators.bench_meter import DescribedVehicles, MeterServer
from sondar.store import people
from sondar.store.backup import BackupError, back_up
from sondar.store.database import is_begun, migrate, open_pool, pending
from sondar.store.local_server import LocalServer, ServerError

ROOT = Path(__file__).parent.parent

PREPARED_AFTER_S = 8.0
"""The demo vehicles are made when the application has had the machine to itself for this long."""
LOOKED_AFTER_S = 1.0
"""How often it is seen whether database and application still run."""
PR_SET_CHILD_SUBREAPER = 36
"""Linux, ``prctl(2)``."""
GIVEN_UP_AFTER, WITHIN_S = 12, 60.0
"""A process that ends so often within this time is not started again."""
WORKERS = max(2, os.cpu_count() or 1)
"""Worker processes, unless ``SONDAR_WORKER_PROCESSES`` says otherwise."""


def main() -> int:
    """Parse arguments; start and wait, or stop, or say what runs."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--demo", action="store_true")
    parser.add_argument("--stop", action="store_true", help="stop what runs on the data folder")
    parser.add_argument("--status", action="store_true", help="say what runs on the data folder")
    parser.add_argument("--port", default=os.environ.get("SONDAR_PORT", "8000"))
    parser.add_argument("--database-port", default=os.environ.get("SONDAR_DATABASE_PORT", "0"))
    arguments = parser.parse_args()
    folder = data_folder()
    if arguments.status:
        answers, said = status(folder)
        print("\n".join(said))
        return 0 if answers else 3
    if arguments.stop:
        stopped = stop(folder)
        print(f"Stopped: {'; '.join(stopped)}." if stopped else f"Nothing of Sondar runs on {folder}.")
        return 0
    try:
        ports = _port("SONDAR_PORT", arguments.port), _port("SONDAR_DATABASE_PORT", arguments.database_port)
        made = not folder.exists()
        folder.mkdir(parents=True, exist_ok=True)
        if made:  # a folder that was there keeps the rights that somebody gave it
            folder.chmod(0o755)
        with alone(folder):
            return Start(folder, *ports, demo=arguments.demo).run()
    except (AlreadyRunningError, BackupError, ServerError, StartError) as error:
        print(error, file=sys.stderr)
    except OSError as error:
        print(
            f"Not started: {error.strerror or error} ({error.filename or folder}). Free space, or set SONDAR_DATA.", file=sys.stderr
        )
    return 1


class StartError(Exception):
    """Something that the person who starts it can put right; says what."""


def _port(name: str, text: str) -> int:
    if not text.isdigit() or int(text) > 65535:
        raise StartError(f"{name}={text} is no port: give a number from 1 to 65535, e.g. {name}=8010")
    return int(text)


def _adopt_orphans() -> None:
    """Processes whose parent has ended become this one's children, so that a dead database server can be cleared away here.

    Where nothing else does that (a container without an init) its number would seem to be in use for ever.
    """
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)


def _reap(server: LocalServer) -> None:
    process = server.process()
    if process is not None:
        with contextlib.suppress(ChildProcessError):
            os.waitpid(process, os.WNOHANG)


def say(text: str) -> None:
    """One step, as it begins."""
    print(f"· {text}", file=sys.stderr, flush=True)


@dataclass
class Kept:
    """A process that is started again when it ends.

    Attributes:
        words: module and arguments. passed: file numbers that it inherits.
    """

    name: str
    words: list[str]
    environment: dict[str, str]
    passed: tuple[int, ...]
    _process: subprocess.Popen[bytes] | None = None
    _ended: list[float] = field(default_factory=list)

    @property
    def number(self) -> int:
        """Of the process, 0 before it is started."""
        return self._process.pid if self._process else 0

    @property
    def code(self) -> int:
        """With which it ended last."""
        return self._process.returncode if self._process and self._process.returncode else 0

    def start(self) -> None:
        """Start it."""
        self._process = subprocess.Popen(
            [sys.executable, "-m", *self.words], env=self.environment, cwd=ROOT, pass_fds=self.passed, start_new_session=True
        )

    def has_ended(self) -> bool:
        """True if it does not run any more."""
        return self._process is not None and self._process.poll() is not None

    def start_again(self, worked_before: bool) -> bool:
        """Start it again; False if it ends so often that this helps nobody."""
        self._ended = [at for at in self._ended if time.monotonic() - at < WITHIN_S] + [time.monotonic()]
        if not worked_before or len(self._ended) >= GIVEN_UP_AFTER:
            say(f"{self.name} ended with {self.code} and is not started again; its messages are above")
            return False
        say(f"{self.name} has ended: starting it again")
        self.start()
        return True

    def tell_to_end(self) -> None:
        """Ask it to end."""
        if self._process is not None and not self.has_ended():
            self._process.terminate()

    def see_to_its_end(self) -> None:
        """Wait until it has ended; end it if that takes long."""
        if self._process is None:
            return
        try:
            self._process.wait(20)
        except subprocess.TimeoutExpired:
            self._process.kill()


def _count(name: str, otherwise: int) -> int:
    text = os.environ.get(name, str(otherwise))
    if not text.isdigit() or not 1 <= int(text) <= 64:
        raise StartError(f"{name}={text} is no number of processes: give 1 to 64")
    return int(text)


@dataclass
class Start:
    """One start of everything."""

    folder: Path
    port: int
    database_port: int
    demo: bool
    sockets: Path = Path()
    _ending: threading.Event = field(default_factory=threading.Event)
    _noted: Running | None = None

    def run(self) -> int:
        """Start, look after what runs until told to stop, stop."""
        door = self._door()
        for received in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
            signal.signal(received, self._told_to_stop)
        _adopt_orphans()
        server = LocalServer(self.folder / "postgres", self.database_port)
        say("starting the database")
        dsn = server.start()
        try:
            self._back_up_first(dsn)
            applied = migrate(dsn)
            if applied:
                say(f"database brought up to date: {', '.join(applied)}")
            environment, setup_code = self._prepared(server, dsn)
            with tempfile.TemporaryDirectory(prefix="sondar-") as sockets:
                self.sockets = Path(sockets)
                return self._look_after(server, environment, setup_code, door)
        finally:
            door.close()
            say("stopping the database")
            server.stop()

    def _back_up_first(self, dsn: str) -> None:
        """An upgrade may be regretted: what was there is kept in a file before anything is changed."""
        todo = pending(dsn)
        if not todo or not is_begun(dsn):
            return
        file = self.folder / "backups" / f"before-{todo[0]}-{datetime.now(UTC):%Y%m%d-%H%M%S}.dump"
        say(f"this version changes the database ({', '.join(todo)}); backing up to {file} first")
        file.parent.mkdir(mode=0o700, exist_ok=True)
        back_up(dsn, file)

    def _door(self) -> socket.socket:
        """The listening socket: it stays open while web processes come and go, so nobody is refused meanwhile."""
        door = socket.socket()
        door.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            door.bind(("127.0.0.1", self.port))
        except OSError as error:
            door.close()
            why = "is taken" if error.errno == errno.EADDRINUSE else f"cannot be used ({error.strerror})"
            said = f"Port {self.port} {why}: stop what runs there or choose another, e.g. SONDAR_PORT=8010 ./run demo"
            raise StartError(said) from error
        door.listen(512)
        return door

    def _told_to_stop(self, _signal: int, _frame: FrameType | None) -> None:
        self._ending.set()

    def _prepared(self, server: LocalServer, dsn: str) -> tuple[dict[str, str], str]:
        """Data, simulated devices, and the environment of the application; the code for the first set-up, empty if that is done."""
        meter, vehicles, setup_code = "", "", ""
        with open_pool(dsn, 2) as pool:
            if self.demo:
                say("loading the demo data")
                demo.seed(pool)
                demo.write_vehicles(self.folder / "demo-vehicles.json")
                described = DescribedVehicles(self.folder / "demo-vehicles.json")
                vehicles = json.dumps(demo.serve_vehicles(measured=described))
                simulated_vehicle = MeterServer(described)
                threading.Thread(target=described.prepare, args=(PREPARED_AFTER_S,), daemon=True).start()
                threading.Thread(target=simulated_vehicle.serve_forever, daemon=True).start()
                meter = simulated_vehicle.address
            else:
                say("loading the library")
                with pool.connection() as db:
                    demo.load_library(db)
            with pool.connection() as db:
                if not people.any_workshop(db):
                    setup_code = secrets.token_hex(4)
        return {
            # Plain loopback: a browser would not send a cookie marked for HTTPS. Behind a TLS proxy set SONDAR_SECURE_COOKIES=1.
            "SONDAR_SECURE_COOKIES": "0", "SONDAR_METER": meter, "SONDAR_VEHICLES": vehicles, "SONDAR_POOL": "16",
            # One thread for linear algebra: the workers share the cores among themselves.
            "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1", "SONDAR_WORKER_KEY": secrets.token_hex(32),
            "SONDAR_LOG": str(self.folder / "logs"),
            **os.environ, "SONDAR_DSN": server.application_dsn(dsn), "SONDAR_SETUP_CODE": setup_code,
        }, setup_code  # fmt: skip

    def _look_after(self, server: LocalServer, environment: dict[str, str], setup_code: str, door: socket.socket) -> int:
        """Keep everything running until told to stop; the code of what cannot be kept."""
        say("starting the application")
        # What is started stops by itself when this end is closed: nothing is left behind if this process is killed.
        watched, held = os.pipe()
        kept = self._processes(environment, watched, door)
        greeted = False
        try:
            for process in kept:
                process.start()
            self._note(kept)
            while not self._ending.wait(LOOKED_AFTER_S if greeted else 0.2):
                _reap(server)
                if not server.is_running():
                    self._start_again(server)
                for process in kept:
                    if process.has_ended() and not process.start_again(greeted):
                        return process.code or 1
                    self._note(kept)
                if not greeted and self._running(kept).answers():
                    self._greet(setup_code)
                    greeted = True
            say("stopping the application")
            return 0
        finally:
            for process in kept:
                process.tell_to_end()
            for process in kept:
                process.see_to_its_end()
            os.close(held)
            os.close(watched)

    def _processes(self, environment: dict[str, str], watched: int, door: socket.socket) -> list[Kept]:
        """Web processes, which share one listening socket, and worker processes."""
        workers = os.environ.get("SONDAR_WORKERS", "").split()  # of somebody else, on this host or another
        own = [] if workers else [str(self.sockets / f"worker-{n}") for n in range(_count("SONDAR_WORKER_PROCESSES", WORKERS))]
        environment = {**environment, "SONDAR_WORKERS": " ".join(workers or own)}
        web = ["sondar.serving", "--port", str(self.port), "--socket", str(door.fileno()), "--while-open", str(watched)]
        return [
            *(Kept("a worker", ["sondar.worker", "--listen", at, "--while-open", str(watched)], environment, (watched,)) for at in own),
            *(Kept("the application", [*web, "--name", f"web-{n}", *([] if n == 0 else ["--no-prepare"])], environment, (watched, door.fileno()))
              for n in range(_count("SONDAR_WEB_PROCESSES", 1))),
        ]  # fmt: skip

    def _running(self, kept: Sequence[Kept]) -> Running:
        return Running(os.getpid(), [process.number for process in kept], self.port)

    def _note(self, kept: Sequence[Kept]) -> None:
        running = self._running(kept)
        if running != self._noted:
            note(self.folder, running)
            self._noted = running

    def _start_again(self, server: LocalServer) -> None:
        say("the database has ended: starting it again")
        try:
            server.start()
        except ServerError as error:  # what is left of the old one may need a moment to go
            say(f"not yet: {str(error).strip().splitlines()[-1]}")

    def _greet(self, setup_code: str) -> None:
        print(f"\n  Sondar is ready: http://127.0.0.1:{self.port}/", flush=True)
        if self.demo:
            names = ", ".join(f"{sign_in} ({role})" for sign_in, _, role in demo.PEOPLE)
            print(f"  Sign in as {names}; password {demo.PASSWORD}", flush=True)
        if setup_code:
            print(f"  First set-up: open the address and give the code {setup_code}", flush=True)
        print("  Only this machine can reach it. Stop with Ctrl-C or './run stop'.\n", flush=True)


if __name__ == "__main__":
    sys.exit(main())
