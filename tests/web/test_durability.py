"""An acknowledged reading outlives SIGKILL of the application and of the database."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
import time
import urllib.error
import urllib.request
from pathlib import Path
from typing import Any
from uuid import uuid4

import pytest

from sondar.store.database import migrate
from sondar.store.local_server import LocalServer
from tests.conftest import AMBIENT_TEXT, ROOT
from tests.web.conftest import reading


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def call(port: int, path: str, body: dict[str, Any] | None = None) -> Any:
    data = None if body is None else json.dumps(body).encode()
    request = urllib.request.Request(f"http://127.0.0.1:{port}/api/v1{path}", data, {"Content-Type": "application/json"})
    with urllib.request.urlopen(request, timeout=60) as answer:
        return json.load(answer)


def start_application(dsn: str, port: int, meter: str = "") -> subprocess.Popen[bytes]:
    process = subprocess.Popen(
        [sys.executable, "-m", "gunicorn", "sondar.web:create_app()", "-k", "gthread", "--threads", "4", "-b", f"127.0.0.1:{port}",
         "--log-level", "critical"],
        cwd=ROOT, env={**os.environ, "SONDAR_DSN": dsn, "SONDAR_METER": meter}, start_new_session=True,
    )  # fmt: skip
    wait_until_healthy(port)
    return process


def wait_until_healthy(port: int) -> None:
    deadline = time.monotonic() + 60
    while True:
        try:
            call(port, "/health")
            return
        except (OSError, urllib.error.HTTPError):
            if time.monotonic() > deadline:
                raise
            time.sleep(0.1)


def kill_hard(process: subprocess.Popen[bytes]) -> None:
    os.killpg(process.pid, signal.SIGKILL)
    process.wait()


@pytest.fixture
def own_server(tmp_path_factory: pytest.TempPathFactory) -> Any:
    import shutil
    import tempfile

    folder = Path(tempfile.mkdtemp(prefix="sondar-kill-"))
    folder.chmod(0o755)
    server = LocalServer(folder / "postgres")
    yield server
    server.stop("immediate")
    shutil.rmtree(folder, ignore_errors=True)


def test_readings_survive_sigkill_of_application_and_database(own_server: LocalServer) -> None:
    dsn = own_server.start()
    migrate(dsn)
    port = free_port()
    application = start_application(dsn, port)
    try:
        version = call(port, "/circuits", {"text": AMBIENT_TEXT})["version_id"]
        body = {"client_key": str(uuid4()), "vehicle": {"make": "Orvane"}, "circuit_version_id": version, "complaint": "dashes"}
        job = call(port, "/jobs", body)["id"]
        first, second = reading("4.98"), reading("4.97", red="X12.7")
        call(port, f"/jobs/{job}/readings", first)
        kill_hard(application)
        application = start_application(dsn, port)
        assert [r["entry"] for r in call(port, f"/jobs/{job}/bench")["readings"]] == ["4.98"]

        call(port, f"/jobs/{job}/readings", second)
        postmaster = int((own_server.data / "postmaster.pid").read_text().splitlines()[0])
        os.kill(postmaster, signal.SIGKILL)
        with pytest.raises(urllib.error.HTTPError) as caught:
            call(port, f"/jobs/{job}/bench")
        assert caught.value.code == 503, "the application says the database is away, and stays up"
        restart_database(own_server)
        wait_until_healthy(port)
        assert [r["entry"] for r in call(port, f"/jobs/{job}/bench")["readings"]] == ["4.98", "4.97"]
        # The client that never saw the answer sends again: nothing is doubled.
        assert len(call(port, f"/jobs/{job}/readings", second)["readings"]) == 2
    finally:
        kill_hard(application)


def restart_database(server: LocalServer) -> None:
    """Start again once the orphaned backends have let go of the shared memory."""
    from sondar.store.local_server import ServerError

    for attempt in range(60):
        try:
            server.start()
            return
        except ServerError:
            if attempt == 59:
                raise
            time.sleep(0.5)
