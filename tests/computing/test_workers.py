"""Two worker processes, asked over their sockets: spread, cancelled, killed, and closed to strangers."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from multiprocessing import AuthenticationError
from multiprocessing.connection import Client
from pathlib import Path

import pytest

from sondar.computing import asking
from sondar.computing.asking import Alone, NobodyWaitsError, StillWorkingError, Workers, gone
from sondar.core.errors import BusyError, InvalidError, QuantityError
from tests.computing import work
from tests.conftest import ROOT

KEY = "a key of this test"


@dataclass
class Farm:
    """Two workers and those who ask them."""

    folder: Path
    processes: dict[str, subprocess.Popen[bytes]]

    @property
    def workers(self) -> Workers:
        return Workers(list(self.processes), KEY.encode())

    def start(self, address: str) -> None:
        environment = {**os.environ, "SONDAR_WORKER_KEY": KEY, "SONDAR_WORKER_MB": "2048"}
        self.processes[address] = subprocess.Popen(
            [sys.executable, "-m", "sondar.worker", "--listen", address], env=environment, cwd=ROOT
        )

    def ready(self) -> None:
        for address in self.processes:
            until(lambda a=address: Workers([a], KEY.encode()).run(None, work.twice, 2) == 4)  # type: ignore[misc]

    def log(self) -> str:
        return str(self.folder / "log")

    def logged(self) -> list[str]:
        file = self.folder / "log"
        return file.read_text().splitlines() if file.exists() else []


def until(what: Callable[[], bool], seconds: float = 120.0) -> None:
    deadline = time.monotonic() + seconds
    while True:
        try:
            if what():
                return
        except BusyError:
            pass
        assert time.monotonic() < deadline, "in vain"
        time.sleep(0.02)


@pytest.fixture
def farm() -> Iterator[Farm]:
    with tempfile.TemporaryDirectory() as folder:
        made = Farm(Path(folder), {})
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        for address in (f"{folder}/worker", f"127.0.0.1:{port}"):
            made.start(address)
        made.ready()
        yield made
        for process in made.processes.values():
            process.kill()
            process.wait()


def test_work_is_spread_and_its_subject_stays_where_it_is_known(farm: Farm) -> None:
    asked = farm.workers
    by_subject = {subject: asked.run(subject, work.process) for subject in "abcdefgh"}
    assert set(by_subject.values()) == {process.pid for process in farm.processes.values()}
    assert {subject: asked.run(subject, work.process) for subject in "abcdefgh"} == by_subject


def test_errors_come_back_as_they_were_raised(farm: Farm) -> None:
    with pytest.raises(QuantityError) as refused:
        farm.workers.run(None, work.refused, "11,,8")
    assert refused.value.text == "11,,8"
    assert refused.value.problems[0].field == "entry"
    with pytest.raises(ZeroDivisionError):
        farm.workers.run(None, work.broken)
    with pytest.raises(InvalidError, match="divide it into parts"):
        farm.workers.run(None, work.too_large)
    assert farm.workers.run(None, work.twice, 21) == 42, "and the worker is still there"


def test_the_same_question_from_two_web_processes_is_worked_out_once(farm: Farm) -> None:
    answers: list[str] = []
    threads = [
        threading.Thread(
            target=lambda: answers.append(Workers(list(farm.processes), KEY.encode()).run("x", work.counted, farm.log(), 0.5))
        )
        for _ in range(5)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert answers == ["done"] * 5
    assert farm.logged() == ["begun", "ended"]


def test_what_takes_long_says_how_far_it_is_and_is_there_when_asked_again(farm: Farm, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(asking, "PATIENCE_S", 0.3)
    with pytest.raises(StillWorkingError, match="to go"):
        farm.workers.run("x", work.counted, farm.log(), 1.0)
    until(lambda: farm.logged() == ["begun", "ended"])
    assert farm.workers.run("x", work.counted, farm.log(), 1.0) == "done"
    assert farm.logged() == ["begun", "ended"], "not worked out a second time"


def test_work_whose_client_has_gone_is_ended(farm: Farm) -> None:
    has_gone = threading.Event()
    token = gone.set(has_gone)
    threading.Timer(0.3, has_gone.set).start()
    try:
        with pytest.raises(NobodyWaitsError):
            farm.workers.run("x", work.counted, farm.log(), 30.0)
    finally:
        gone.reset(token)
    time.sleep(0.5)
    asked = time.monotonic()
    assert farm.workers.run("x", work.twice, 1) == 2
    assert time.monotonic() - asked < 5
    assert farm.logged() == ["begun"]


def test_a_killed_worker_is_followed_by_the_next(farm: Farm) -> None:
    pid = farm.workers.run("x", work.process)
    address = next(a for a, process in farm.processes.items() if process.pid == pid)
    answers: list[str] = []
    asker = threading.Thread(target=lambda: answers.append(farm.workers.run("x", work.counted, farm.log(), 1.0)))
    asker.start()
    until(lambda: farm.logged() == ["begun"])
    os.kill(pid, signal.SIGKILL)
    asker.join(20)
    assert answers == ["done"]
    assert farm.logged() == ["begun", "begun", "ended"]
    farm.processes[address].wait()
    farm.start(address)
    until(lambda: Workers([address], KEY.encode()).run(None, work.twice, 3) == 6)


def test_work_that_ends_its_workers_is_refused_after_the_second(farm: Farm) -> None:
    with pytest.raises(BusyError):
        farm.workers.run("x", work.ends_the_worker, farm.log())
    assert farm.logged() == ["killed", "killed"]


def test_no_worker_is_said_and_not_waited_for_long(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(asking, "WORKERS_BACK_S", 0.5)
    with pytest.raises(BusyError, match="started again"):
        Workers(["/nowhere/worker"], b"key").run(None, work.twice, 1)


def test_strangers_learn_nothing_and_hold_up_nobody(farm: Farm) -> None:
    address = next(a for a in farm.processes if ":" in a)
    host, port = address.split(":")
    silent = [socket.create_connection((host, int(port))) for _ in range(20)]
    with pytest.raises(AuthenticationError):
        Client((host, int(port)), authkey=b"another key")
    assert Workers([address], KEY.encode()).run(None, work.twice, 5) == 10
    for line in silent:
        line.close()


def test_alone_does_the_same_in_this_process() -> None:
    assert Alone("context").run(None, work.process) == os.getpid()
