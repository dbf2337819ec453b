"""Shared fixtures: circuits as frozen values, and one throw-away database server per test run."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.predictions import Predictor
from sondar.documents import load_circuit_text
from sondar.store.database import migrate
from sondar.store.local_server import LocalServer

ROOT = Path(__file__).parent.parent
LIBRARY = ROOT / "sondar" / "library" / "circuits"
FAN_TEXT = (LIBRARY / "radiator-fan-relay.yaml").read_text(encoding="utf-8")
AMBIENT_TEXT = (LIBRARY / "ambient-temperature.yaml").read_text(encoding="utf-8")
LATCH_TEXT = (ROOT / "tests" / "circuits" / "tailgate-latch.yaml").read_text(encoding="utf-8")


def circuit_of(text: str) -> Circuit:
    """A circuit from its file's text."""
    return Circuit(load_circuit_text(text))


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
def fan_predictor(fan: Circuit) -> Predictor:
    return Predictor(fan)


@pytest.fixture(scope="session")
def ambient_predictor(ambient: Circuit) -> Predictor:
    return Predictor(ambient)


@pytest.fixture(scope="session")
def postgres() -> Iterator[LocalServer]:
    """A server of the tests' own on a free port, removed afterwards."""
    folder = Path(tempfile.mkdtemp(prefix="sondar-test-"))
    folder.chmod(0o755)
    server = LocalServer(folder / "postgres")
    server.start()
    yield server
    server.stop("immediate")
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture(scope="session")
def dsn(postgres: LocalServer) -> str:
    """A migrated database."""
    address = postgres.start()
    migrate(address)
    return address
