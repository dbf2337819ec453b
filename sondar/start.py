"""Start everything on this machine: database, migrations, library, and the application; with ``--demo`` also the demo data and the
simulator bench meter. Looks after both while they run, and stops what it started when it is told to stop.

``--stop`` and ``--status`` find a start again by its data folder.
"""

from __future__ import annotations

import argparse
import contextlib
import ctypes
import json
import os
import secrets
import signal
import socket
import subprocess
import sys
import threading
import time
from dataclasses import dataclass, field
from pathlib import Path
from types import FrameType

from sondar import demo
from sondar.running import AlreadyRunningError, Running, alone, note, status, stop
from sondar.simulators.bench_meter import MeterServer, vehicles_from
from sondar.store import people
from sondar.store.database import migrate, open_pool
from sondar.store.local_server import LocalServer, ServerError

ROOT = Path(__file__).parent.parent

LOOKED_AFTER_S = 1.0
"""How often it is seen whether database and application still run."""
PR_SET_CHILD_SUBREAPER = 36
"""Linux, ``prctl(2)``."""
GIVEN_UP_AFTER, WITHIN_S = 4, 60.0
"""An application that ends so often within this time is not started again."""


def data_folder() -> Path:
    """Where the database lives: ``SONDAR_DATA``, else ``.sondar`` in the project, else (root's home is closed) ``/var/lib/sondar``."""
    chosen = os.environ.get("SONDAR_DATA")
    if chosen:
        return Path(chosen).resolve()
    if os.geteuid() == 0 and not all(parent.stat().st_mode & 0o001 for parent in (ROOT, *ROOT.parents)):
        return Path("/var/lib/sondar")
    return ROOT / ".sondar"


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
    except (AlreadyRunningError, ServerError, StartError) as error:
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
class Start:
    """One start of everything."""

    folder: Path
    port: int
    database_port: int
    demo: bool
    _ending: threading.Event = field(default_factory=threading.Event)

    def run(self) -> int:
        """Start, look after what runs until told to stop, stop."""
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", self.port)) == 0:
                raise StartError(
                    f"Port {self.port} is taken: stop what runs there or choose another, e.g. SONDAR_PORT=8010 ./run demo"
                )
        for received in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
            signal.signal(received, self._told_to_stop)
        _adopt_orphans()
        server = LocalServer(self.folder / "postgres", self.database_port)
        say("starting the database")
        dsn = server.start()
        try:
            applied = migrate(dsn)
            if applied:
                say(f"database brought up to date: {', '.join(applied)}")
            environment, setup_code = self._prepared(server, dsn)
            return self._look_after(server, environment, setup_code)
        finally:
            say("stopping the database")
            server.stop()

    def _told_to_stop(self, _signal: int, _frame: FrameType | None) -> None:
        self._ending.set()

    def _prepared(self, server: LocalServer, dsn: str) -> tuple[dict[str, str], str]:
        """Data, simulated devices, and the environment of the application; the code for the first set-up, empty if that is done."""
        meter, vehicles, setup_code = "", "", ""
        with open_pool(dsn, 2) as pool:
            if self.demo:
                say("loading the demo data")
                demo.seed(pool)
                vehicles = json.dumps(demo.serve_vehicles())
                demo.write_vehicles(self.folder / "demo-vehicles.json")
                simulated_vehicle = MeterServer(vehicles_from(self.folder / "demo-vehicles.json"))
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
            **os.environ, "SONDAR_DSN": server.application_dsn(dsn), "SONDAR_SETUP_CODE": setup_code,
        }, setup_code  # fmt: skip

    def _look_after(self, server: LocalServer, environment: dict[str, str], setup_code: str) -> int:
        """Keep database and application running until told to stop; the application's code if it cannot be kept."""
        say("starting the application")
        # The application stops by itself when this end is closed: nothing is left behind if this process is killed.
        watched, held = os.pipe()
        application = self._start_application(environment, watched)
        ended: list[float] = []
        greeted = False
        try:
            while not self._ending.wait(LOOKED_AFTER_S if greeted else 0.2):
                _reap(server)
                if not server.is_running():
                    self._start_again(server)
                if application.poll() is not None:
                    ended = [at for at in ended if time.monotonic() - at < WITHIN_S] + [time.monotonic()]
                    if len(ended) >= GIVEN_UP_AFTER or not greeted:
                        say(f"the application ended with {application.returncode} and is not started again; its messages are above")
                        return application.returncode or 1
                    say("the application has ended: starting it again")
                    application = self._start_application(environment, watched)
                if not greeted and Running(os.getpid(), application.pid, self.port).answers():
                    self._greet(setup_code)
                    greeted = True
            say("stopping the application")
            application.terminate()
            application.wait(20)
            return 0
        finally:
            if application.poll() is None:
                application.kill()
            os.close(held)
            os.close(watched)

    def _start_again(self, server: LocalServer) -> None:
        say("the database has ended: starting it again")
        try:
            server.start()
        except ServerError as error:  # what is left of the old one may need a moment to go
            say(f"not yet: {str(error).strip().splitlines()[-1]}")

    def _start_application(self, environment: dict[str, str], watched: int) -> subprocess.Popen[bytes]:
        application = subprocess.Popen(
            [sys.executable, "-m", "sondar.serving", "--port", str(self.port), "--while-open", str(watched)],
            env=environment, cwd=ROOT, pass_fds=(watched,), start_new_session=True,
        )  # fmt: skip
        note(self.folder, Running(os.getpid(), application.pid, self.port))
        return application

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
