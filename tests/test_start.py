from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from sondar import start
from sondar.running import found, is_ours
from sondar.store.backup import content, restore
from sondar.store.database import migrate
from sondar.store.local_server import LocalServer, ServerError
from tests.conftest import ROOT
from tests.store.test_upgrades import database
from tests.web.test_durability import free_port


def test_the_data_folder_can_be_chosen(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("SONDAR_DATA", str(tmp_path))
    assert start.data_folder() == tmp_path
    monkeypatch.delenv("SONDAR_DATA")
    assert start.data_folder() in (ROOT / ".sondar", Path("/var/lib/sondar"))


def test_a_taken_port_is_said_with_the_way_out() -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = str(taken.getsockname()[1])
        done = subprocess.run(
            [sys.executable, "-m", "sondar.start", "--port", port], cwd=ROOT, capture_output=True, text=True, check=False
        )
    assert done.returncode == 1
    assert f"Port {port} is taken" in done.stderr
    assert "SONDAR_PORT" in done.stderr


def test_a_taken_database_port_is_said(postgres: LocalServer, tmp_path_factory: pytest.TempPathFactory) -> None:
    used = int(postgres.start().split("port=")[1].split()[0])
    folder = Path(tempfile.mkdtemp(prefix="sondar-port-"))
    folder.chmod(0o755)
    try:
        with pytest.raises(ServerError, match=f"did not start on port {used}"):
            LocalServer(folder / "postgres", used).start()
    finally:
        shutil.rmtree(folder, ignore_errors=True)


@pytest.mark.parametrize("port", ["eighty", "70000", ""])
def test_a_port_that_is_none_is_said(port: str) -> None:
    done = started("--port", port)
    assert done.returncode == 1
    assert f"SONDAR_PORT={port} is no port" in done.stderr
    assert "Traceback" not in done.stderr


def test_stop_and_status_where_nothing_runs(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("SONDAR_DATA", str(tmp_path / "nothing"))
    stopped, asked = started("--stop"), started("--status")
    assert stopped.returncode == 0
    assert f"Nothing of Sondar runs on {tmp_path}/nothing" in stopped.stdout
    assert asked.returncode == 3
    assert "application: not running" in asked.stdout


def test_an_upgrade_backs_up_first_and_a_first_start_does_not(postgres: LocalServer, tmp_path: Path) -> None:
    dsn, starting = database(postgres, "upgraded_start"), start.Start(tmp_path, 0, 0, demo=False)
    starting._back_up_first(dsn)
    assert not (tmp_path / "backups").exists(), "there was nothing yet"
    migrate(dsn, until="0007.guards")
    before = content(dsn)
    starting._back_up_first(dsn)
    (file,) = (tmp_path / "backups").iterdir()
    assert file.name.startswith("before-0008.same-again-")
    migrate(dsn)
    restored = database(postgres, "regretted")
    restore(restored, file)
    assert {name: before[name] for name in ("job", "workshop")} == {name: content(restored)[name] for name in ("job", "workshop")}
    starting._back_up_first(dsn)
    assert len(list((tmp_path / "backups").iterdir())) == 1, "nothing to change, nothing to back up"


def test_it_is_looked_after_and_leaves_nothing_behind(monkeypatch: pytest.MonkeyPatch) -> None:
    """One start: a second one is refused, a killed database and application come back, and a killed start is cleaned up."""
    folder = Path(tempfile.mkdtemp(prefix="sondar-start-"))
    folder.chmod(0o751)
    monkeypatch.setenv("SONDAR_DATA", str(folder))
    port = str(free_port())
    launcher = subprocess.Popen([sys.executable, "-m", "sondar.start", "--port", port], cwd=ROOT)
    try:
        running = until(lambda: found(folder), 60)
        until(lambda: running.answers(), 120)
        assert folder.stat().st_mode & 0o777 == 0o751, "its rights are somebody else's business"
        second = started("--port", str(free_port()))
        assert second.returncode == 1
        assert f"already running at http://127.0.0.1:{port}/" in second.stderr
        assert running.answers(), "and what ran goes on"
        asked = started("--status")
        assert asked.returncode == 0
        assert "answers" in asked.stdout

        server = LocalServer(folder / "postgres")
        postmaster = int((server.data / "postmaster.pid").read_text().splitlines()[0])
        os.kill(postmaster, signal.SIGKILL)
        until(lambda: server.is_running() and running.answers(), 40)

        for process in running.processes:
            os.kill(process, signal.SIGKILL)
        again = until(lambda: (now := found(folder)) and not set(now.processes) & set(running.processes) and now, 20)
        until(lambda: again.answers(), 60)

        launcher.kill()
        launcher.wait()
        until(lambda: not any(map(is_ours, again.processes)), 20)
        left = started("--stop")
        assert "the database, which its start had left behind" in left.stdout
        assert not server.is_running()
        assert started("--status").returncode == 3
    finally:
        launcher.kill()
        started("--stop")
        shutil.rmtree(folder, ignore_errors=True)


def started(*arguments: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run([sys.executable, "-m", "sondar.start", *arguments], cwd=ROOT, capture_output=True, text=True, check=False)


def until(what: Callable[[], Any], seconds: float) -> Any:
    deadline = time.monotonic() + seconds
    while not (found_now := what()):
        assert time.monotonic() < deadline, "in vain"
        time.sleep(0.1)
    return found_now


def test_run_without_a_command_explains_itself() -> None:
    done = subprocess.run(["sh", str(ROOT / "run")], capture_output=True, text=True, check=False)
    assert done.returncode == 2
    assert "./run demo" in done.stdout
    assert "./run test" in done.stdout
