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
from collections.abc import Mapping
from http.cookiejar import CookieJar
from pathlib import Path
from types import MappingProxyType
from typing import Any
from uuid import uuid4

import psycopg
import pytest

from sondar.store import people
from sondar.store.database import migrate
from sondar.store.local_server import LocalServer
from sondar.web.auth import hash_password
from tests.conftest import AMBIENT_TEXT, ROOT
from tests.web.conftest import reading


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


class Caller:
    """A program that signs in and calls the API, as a tablet would."""

    def __init__(self, port: int) -> None:
        self.port = port
        self._jar = CookieJar()
        self._opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self._jar))
        self._csrf = ""

    def sign_in(self, name: str, password: str) -> None:
        self._csrf = self("/session", {"sign_in": name, "password": password})["csrf"]

    def cookie(self) -> str:
        """The session's token."""
        return next(cookie.value or "" for cookie in self._jar if cookie.name == "sondar")

    def __call__(self, path: str, body: dict[str, Any] | None = None) -> Any:
        data = None if body is None else json.dumps(body).encode()
        headers = {"Content-Type": "application/json", "X-CSRF-Token": self._csrf}
        request = urllib.request.Request(f"http://127.0.0.1:{self.port}/api/v1{path}", data, headers)
        with self._opener.open(request, timeout=60) as answer:
            return json.load(answer)


def start_application(
    dsn: str, port: int, meter: str = "", vehicles: str = "", more: Mapping[str, str] = MappingProxyType({})
) -> subprocess.Popen[bytes]:
    process = subprocess.Popen(
        [sys.executable, "-m", "sondar.serving", "--port", str(port)],
        cwd=ROOT, start_new_session=True,
        env={**os.environ, "SONDAR_DSN": dsn, "SONDAR_METER": meter, "SONDAR_VEHICLES": vehicles, "SONDAR_SECURE_COOKIES": "0",
             "SONDAR_POOL_WAIT_S": "10", **more},  # a loaded machine is not a failure
    )  # fmt: skip
    wait_until_healthy(port)
    return process


def wait_until_healthy(port: int) -> None:
    deadline = time.monotonic() + 60
    while True:
        try:
            Caller(port)("/health")
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
    owner = own_server.start()
    migrate(owner)
    with psycopg.connect(owner) as db:
        people.create_workshop(db, "Harbour")
        people.create_account(db, "mate", "Mate", "technician", hash_password("slack-water-9"))
    dsn = own_server.application_dsn(owner)
    port = free_port()
    application = start_application(dsn, port)
    call = Caller(port)
    try:
        call.sign_in("mate", "slack-water-9")
        version = call("/circuits", {"text": AMBIENT_TEXT})["version_id"]
        body = {"client_key": str(uuid4()), "vehicle": {"make": "Orvane"}, "circuit_version_id": version, "complaint": "dashes"}
        job = call("/jobs", body)["id"]
        diagnosis = call(f"/jobs/{job}")["diagnoses"][0]["id"]
        first, second = reading("4.98"), reading("4.97", red="X12.7")
        call(f"/diagnoses/{diagnosis}/readings", first)
        kill_hard(application)
        application = start_application(dsn, port)
        measuring = call(f"/diagnoses/{diagnosis}")
        assert [r["entry"] for r in measuring["readings"]] == ["4.98"], "the session outlives the application too"

        call(f"/diagnoses/{diagnosis}/readings", second)
        postmaster = int((own_server.data / "postmaster.pid").read_text().splitlines()[0])
        os.kill(postmaster, signal.SIGKILL)
        with pytest.raises(urllib.error.HTTPError) as caught:
            call(f"/diagnoses/{diagnosis}")
        assert caught.value.code == 503, "the application says the database is away, and stays up"
        restart_database(own_server)
        wait_until_healthy(port)
        assert [r["entry"] for r in call(f"/diagnoses/{diagnosis}")["readings"]] == ["4.98", "4.97"]
        # The client that never saw the answer sends again: nothing is doubled.
        assert len(call(f"/diagnoses/{diagnosis}/readings", second)["readings"]) == 2
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
