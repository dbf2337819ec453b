"""Shared fixtures: circuits as frozen values, and one throw-away database server per test run."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

import hypothesis
import pytest

from sondar.circuit_files import library_circuits, library_network, load_circuit_text
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.judge import judge
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.reading import Reading
from sondar.core.present.assessment import Assessment, assessment
from sondar.core.triage.model import TriageModel
from sondar.store.database import migrate
from sondar.store.local_server import LocalServer

# How long an example takes says how busy the machine is, not whether it is right.
hypothesis.settings.register_profile("sondar", deadline=None)
hypothesis.settings.load_profile("sondar")

MEMORY_NEEDED = 4 << 30
"""Bytes that have to be free for a database server of the tests to be kept in memory; it takes a tenth of that."""
ROOT = Path(__file__).parent.parent
LIBRARY = ROOT / "sondar" / "library" / "circuits"
FAN_TEXT = (LIBRARY / "radiator-fan-relay.yaml").read_text(encoding="utf-8")
AMBIENT_TEXT = (LIBRARY / "ambient-temperature.yaml").read_text(encoding="utf-8")
LATCH_TEXT = (ROOT / "tests" / "circuits" / "tailgate-latch.yaml").read_text(encoding="utf-8")


def circuit_of(text: str) -> Circuit:
    """A circuit from its file's text."""
    return Circuit(load_circuit_text(text))


def assessed(predictor: Predictor, readings: Sequence[Reading], situation: Situation) -> Assessment:
    """Judged and presented, as the screen gets it."""
    return assessment(judge(predictor, readings, situation))


@pytest.fixture(scope="session")
def fan() -> Circuit:
    return circuit_of(FAN_TEXT)


@pytest.fixture(scope="session")
def ambient() -> Circuit:
    return circuit_of(AMBIENT_TEXT)


@pytest.fixture(scope="session")
def latch() -> Circuit:
    return circuit_of(LATCH_TEXT)


@pytest.fixture(scope="session")
def rail() -> Circuit:
    """A 3-wire sensor on a shared reference."""
    return circuit_of(library_circuits()["tern-rail-pressure"])


@pytest.fixture(scope="session")
def trailer() -> Circuit:
    """Two modules with their supplies on a bus."""
    return circuit_of(library_circuits()["tern-trailer-module"])


@pytest.fixture(scope="session")
def fan_predictor(fan: Circuit) -> Predictor:
    return Predictor(fan)


@pytest.fixture(scope="session")
def ambient_predictor(ambient: Circuit) -> Predictor:
    return Predictor(ambient)


def _in_memory() -> str | None:
    """A folder in memory if there is one with room, else the usual place: other tests keep the disk busy for many seconds at a time."""
    memory = Path("/dev/shm")
    roomy = memory.is_dir() and os.access(memory, os.W_OK) and shutil.disk_usage(memory).free > MEMORY_NEEDED
    return str(memory) if roomy else None


@contextmanager
def own_server() -> Iterator[LocalServer]:
    """A running server on a free port, removed afterwards."""
    folder = Path(tempfile.mkdtemp(prefix="sondar-test-", dir=_in_memory()))
    folder.chmod(0o755)
    # What is tested of the disk has servers of its own; here nobody waits for it while another test has a server recover.
    server = LocalServer(folder / "postgres", options="-c fsync=off")
    server.start()
    yield server
    server.stop("immediate")
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture(scope="session")
def postgres() -> Iterator[LocalServer]:
    """The server of the tests."""
    with own_server() as server:
        yield server


@pytest.fixture(scope="session")
def dsn(postgres: LocalServer) -> str:
    """A migrated database, as its owner."""
    address = postgres.start()
    migrate(address)
    return address


@pytest.fixture(scope="session")
def app_dsn(postgres: LocalServer, dsn: str) -> str:
    """The same database as the application sees it."""
    return postgres.application_dsn(dsn)


@pytest.fixture(scope="session")
def tern() -> TriageModel:
    """The library's van with all its circuits."""
    return TriageModel(library_network("halden-tern"))


@pytest.fixture(scope="session")
def lisk() -> TriageModel:
    """The library's car with all its circuits."""
    return TriageModel(library_network("orvane-lisk"))
