"""A database server and the application on loopback for one benchmark, and a client that keeps its connection."""

from __future__ import annotations

import http.client
import json
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psycopg
from selenium import webdriver
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service

from sondar import demo
from sondar.store import people
from sondar.store.database import migrate, open_pool
from sondar.store.local_server import LocalServer
from sondar.web.auth import hash_password
from tests.browser.conftest import FLAGS, Page, Site
from tests.workers import workers

PASSWORD = "bench-water-mark"


@dataclass
class Running:
    """The owner's connection string, and where the application answers."""

    dsn: str
    port: int


class Client:
    """One signed-in person's program, on one kept connection."""

    def __init__(self, port: int, name: str) -> None:
        self.connect(port)
        status, me = self("POST", "/session", {"sign_in": name, "password": PASSWORD})
        assert status == 200, me
        self._headers["X-CSRF-Token"] = me["csrf"]

    def connect(self, port: int) -> None:
        """The connection, not yet signed in."""
        self._link = http.client.HTTPConnection("127.0.0.1", port, timeout=300)
        self._headers = {"Content-Type": "application/json"}

    def __call__(self, method: str, path: str, body: Any = None) -> tuple[int, Any]:
        """(status, answer)."""
        self._link.request(method, f"/api/v1{path}", None if body is None else json.dumps(body), self._headers)
        answer = self._link.getresponse()
        if cookie := answer.getheader("Set-Cookie"):
            self._headers["Cookie"] = cookie.split(";")[0]
        return answer.status, json.loads(answer.read())

    def send_file(self, path: str, field: str, content: bytes) -> tuple[int, Any]:
        """PUT a file as a form: (status, answer)."""
        edge = b"--piece-of-a-file"
        head = b'\r\nContent-Disposition: form-data; name="' + field.encode() + b'"; filename="piece"\r\n\r\n'
        headers = {**self._headers, "Content-Type": "multipart/form-data; boundary=" + edge[2:].decode()}
        self._link.request("PUT", f"/api/v1{path}", edge + head + content + b"\r\n" + edge + b"--\r\n", headers)
        answer = self._link.getresponse()
        return answer.status, json.loads(answer.read())


@contextmanager
def running(people_count: int = 1) -> Iterator[Running]:
    """Library, one workshop, technicians ``t0``, ``t1`` …; everything is removed afterwards."""
    folder = Path(tempfile.mkdtemp(prefix="sondar-bench-"))
    folder.chmod(0o755)
    server = LocalServer(folder / "postgres")
    dsn = server.start()
    migrate(dsn)
    hashed = hash_password(PASSWORD)
    with psycopg.connect(dsn) as db:
        demo.load_library(db)
        people.create_workshop(db, "Situation")
        for index in range(people_count):
            people.create_account(db, f"t{index}", f"T {index}", "technician", hashed)
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = int(probe.getsockname()[1])
    # As the start command runs it, but the library is not prepared in the background: nothing else shall run while the clock does.
    stack = ExitStack()
    asked = stack.enter_context(workers())
    application = subprocess.Popen(
        [sys.executable, "-m", "sondar.serving", "--port", str(port), "--no-prepare"],
        env={**os.environ, **asked, "SONDAR_DSN": server.application_dsn(dsn), "SONDAR_SECURE_COOKIES": "0", "SONDAR_POOL": "16"},
    )  # fmt: skip
    try:
        for _ in range(600):
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.1)
        yield Running(dsn, port)
    finally:
        application.terminate()
        application.wait()
        stack.close()
        server.stop("immediate")
        shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def demo_in_browser() -> Iterator[Page]:
    """The demo workshop in headless Chromium, with nothing connected; everything is removed afterwards."""
    folder = Path(tempfile.mkdtemp(prefix="sondar-bench-"))
    folder.chmod(0o755)
    server = LocalServer(folder / "postgres")
    dsn = server.start()
    migrate(dsn)
    with open_pool(dsn, 2) as pool:
        demo.seed(pool)
    stack = ExitStack()
    site = Site(server.application_dsn(dsn), "", environment=stack.enter_context(workers()))
    options = Options()
    for flag in FLAGS:
        options.add_argument(flag)
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    try:
        yield Page(driver, site)
    finally:
        driver.quit()
        site.kill()
        stack.close()
        server.stop("immediate")
        shutil.rmtree(folder, ignore_errors=True)
