"""The whole of Sondar as the start command runs it, in a folder of its own: launcher, database, web processes, workers."""

from __future__ import annotations

import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from benchmarks.site import PASSWORD, Client
from sondar.running import Running, found, is_ours, stop
from sondar.store.local_server import LocalServer

ROOT = Path(__file__).parent.parent


@dataclass
class Whole:
    """One start after another on one folder."""

    folder: Path
    port: int
    web: int = 2
    workers: int = 2
    _launcher: subprocess.Popen[bytes] | None = None
    _said: Path = field(default_factory=Path)

    def start(self) -> None:
        """Start, and wait until an entry could be stored and worked out."""
        environment = {
            **os.environ, "SONDAR_DATA": str(self.folder), "SONDAR_WEB_PROCESSES": str(self.web), "SONDAR_WORKER_PROCESSES": str(self.workers),
        }  # fmt: skip
        self._said = self.folder / "said"
        with self._said.open("ab") as said:
            self._launcher = subprocess.Popen(
                [sys.executable, "-m", "sondar.start", "--port", str(self.port)],
                cwd=ROOT,
                env=environment,
                stdout=said,
                stderr=said,
            )
        self.wait()

    def wait(self, seconds: float = 120.0) -> None:
        """Until it is ready."""
        deadline = time.monotonic() + seconds
        while not self.is_ready():
            if time.monotonic() > deadline:
                raise TimeoutError(self._said.read_text()[-2000:])
            time.sleep(0.1)

    def is_ready(self) -> bool:
        """As ``/ready`` says."""
        import http.client

        link = http.client.HTTPConnection("127.0.0.1", self.port, timeout=10)
        try:
            link.request("GET", "/api/v1/ready")
            return link.getresponse().status == 200
        except (OSError, http.client.HTTPException):
            return False
        finally:
            link.close()

    def set_up(self) -> None:
        """A workshop with a lead of the name ``t0``, through the API as its first visitor does it."""
        code = re.findall(r"give the code ([0-9a-f]{8})", self._said.read_text())[-1]
        link = Client.__new__(Client)
        link.connect(self.port)
        body = {"code": code, "workshop": "Situation", "name": "T 0", "sign_in": "t0", "password": PASSWORD}
        status, answer = link("POST", "/setup", body)
        assert status in (200, 201), answer

    @property
    def running(self) -> Running:
        """What runs now."""
        known = found(self.folder)
        assert known is not None
        return known

    def kinds(self) -> dict[str, list[int]]:
        """Process numbers by what they are."""
        web, workers = [], []
        for number in self.running.processes:
            words = Path(f"/proc/{number}/cmdline").read_bytes() if is_ours(number) else b""
            (workers if b"sondar.worker" in words else web).append(number)
        database = LocalServer(self.folder / "postgres").process()
        return {"web": web, "worker": workers, "database": [database] if database else [], "launcher": [self.running.launcher]}

    def kill(self, number: int) -> None:
        """The hard way."""
        try:
            os.kill(number, signal.SIGKILL)
        except ProcessLookupError:
            return
        if self._launcher is not None and number == self._launcher.pid:
            self._launcher.wait()

    def end(self) -> None:
        """Stop whatever runs."""
        if self._launcher is not None and self._launcher.poll() is None:
            self._launcher.terminate()
            self._launcher.wait(60)
        stop(self.folder)


@contextmanager
def whole(web: int = 2, workers: int = 2) -> Iterator[Whole]:
    """Started, with its first workshop; everything is removed afterwards."""
    folder = Path(tempfile.mkdtemp(prefix="sondar-whole-"))
    folder.chmod(0o755)
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = int(probe.getsockname()[1])
    made = Whole(folder, port, web, workers)
    try:
        made.start()
        made.set_up()
        yield made
    finally:
        made.end()
        shutil.rmtree(folder, ignore_errors=True)


def first_diagnosis(client: Client, slug: str = "ambient-temperature") -> tuple[str, str]:
    """(job, diagnosis) of a new job on a circuit of the library."""
    from uuid import uuid4

    circuits: list[dict[str, Any]] = client("GET", "/circuits")[1]["circuits"]
    version = next(c["version_id"] for c in circuits if c["slug"] == slug)
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Halden"}, "circuit_version_id": version}
    job = client("POST", "/jobs", body)[1]["id"]
    return job, client("GET", f"/jobs/{job}")[1]["diagnoses"][0]["id"]
