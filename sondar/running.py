"""What runs on a data folder: one start at a time, found again by ``stop`` and ``status``, even if the start itself was killed."""

from __future__ import annotations

import fcntl
import json
import os
import signal
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path

from sondar.store.local_server import LocalServer

ROOT = Path(__file__).parent.parent
PATIENCE_S = 15.0


def data_folder() -> Path:
    """Where the database lives: ``SONDAR_DATA``, else ``.sondar`` in the project, else (root's home is closed) ``/var/lib/sondar``."""
    chosen = os.environ.get("SONDAR_DATA")
    if chosen:
        return Path(chosen).resolve()
    if os.geteuid() == 0 and not all(parent.stat().st_mode & 0o001 for parent in (ROOT, *ROOT.parents)):
        return Path("/var/lib/sondar")
    return ROOT / ".sondar"


@dataclass(frozen=True)
class Running:
    """A start: its process, those of the application and its workers, and the port on which it is reached."""

    launcher: int
    processes: list[int]
    port: int

    @property
    def address(self) -> str:
        """Where a browser finds it."""
        return f"http://127.0.0.1:{self.port}/"

    def answers(self, seconds: float = 3.0) -> bool:
        """True if the application answers, and its database too."""
        try:
            with urllib.request.urlopen(f"{self.address}api/v1/health", timeout=seconds) as answer:
                return bool(answer.status == 200)
        except OSError:
            return False


class AlreadyRunningError(Exception):
    """Another start holds this data folder."""

    def __init__(self, found: Running | None) -> None:
        where = f"at {found.address} (process {found.launcher})" if found else "or starting"
        super().__init__(f"Sondar is already running {where} on this data folder. './run stop' stops it.")


@contextmanager
def alone(folder: Path) -> Iterator[None]:
    """Hold a data folder for this process; the kernel lets go of it when the process ends, however it ends.

    Raises:
        AlreadyRunningError: another process holds it.
    """
    with (folder / "lock").open("a") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            raise AlreadyRunningError(found(folder)) from error
        try:
            yield
        finally:
            (folder / "running.json").unlink(missing_ok=True)


def note(folder: Path, running: Running) -> None:
    """Write down what runs, for ``stop`` and ``status``."""
    written = folder / "running.json.new"
    written.write_text(json.dumps(asdict(running)))
    written.replace(folder / "running.json")


def found(folder: Path) -> Running | None:
    """What was written down last; it may have ended since."""
    try:
        return Running(**json.loads((folder / "running.json").read_text()))
    except (OSError, ValueError, TypeError):
        return None


def is_ours(process: int) -> bool:
    """True if a process is alive and one of Sondar's: numbers are given again after a restart of the machine."""
    try:
        words = Path(f"/proc/{process}/cmdline").read_bytes().split(b"\0")
    except OSError:
        return False
    return any(word.startswith(b"sondar.") for word in words)


def stop(folder: Path) -> list[str]:
    """Stop whatever runs on a data folder; what was stopped, in words."""
    running, stopped = found(folder), []
    if running is not None and is_ours(running.launcher):
        _end(running.launcher)
        stopped.append(f"Sondar at {running.address}")
    left = [] if running is None else [process for process in running.processes if is_ours(process)]
    for process in left:
        _end(process)
    if running is not None and left:
        stopped.append(f"the application on port {running.port}, which its start had left behind")
    server = LocalServer(folder / "postgres")
    if (server.data / "postmaster.pid").exists() and server.is_running():
        server.stop()
        stopped.append("the database, which its start had left behind")
    (folder / "running.json").unlink(missing_ok=True)
    return stopped


def _end(process: int) -> None:
    for sent in (signal.SIGTERM, signal.SIGKILL):
        deadline = time.monotonic() + PATIENCE_S
        try:
            os.kill(process, sent)
            while time.monotonic() < deadline:
                os.kill(process, 0)
                if _is_zombie(process):
                    return
                time.sleep(0.1)
        except ProcessLookupError:
            return


def _is_zombie(process: int) -> bool:
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0] == "Z"
    except OSError:
        return True


def status(folder: Path) -> tuple[bool, list[str]]:
    """Whether it runs and answers, and what there is to say."""
    running, server = found(folder), LocalServer(folder / "postgres")
    said = [f"data folder: {folder}"]
    database = (server.data / "postmaster.pid").exists() and server.is_running()
    said.append(f"database: {'running' if database else 'not running'}")
    alive = [] if running is None else [process for process in running.processes if is_ours(process)]
    if running is None or not alive:
        said.append("application: not running")
        return False, said
    answers = running.answers()
    said.append(
        f"application: {running.address} {'answers' if answers else 'does not answer'} (processes {', '.join(map(str, alive))})"
    )
    if not is_ours(running.launcher):
        said.append("its start has been killed: './run stop' cleans up")
    return answers, said
