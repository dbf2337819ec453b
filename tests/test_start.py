from __future__ import annotations

import socket
import subprocess
import sys
from pathlib import Path

import pytest

from sondar import start
from sondar.store.local_server import LocalServer, ServerError
from tests.conftest import ROOT


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
    import shutil
    import tempfile

    used = int(postgres.start().split("port=")[1].split()[0])
    folder = Path(tempfile.mkdtemp(prefix="sondar-port-"))
    folder.chmod(0o755)
    try:
        with pytest.raises(ServerError, match=f"did not start on port {used}"):
            LocalServer(folder / "postgres", used).start()
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def test_run_without_a_command_explains_itself() -> None:
    done = subprocess.run(["sh", str(ROOT / "run")], capture_output=True, text=True, check=False)
    assert done.returncode == 2
    assert "./run demo" in done.stdout
    assert "./run test" in done.stdout
