from __future__ import annotations

from collections.abc import Iterator
from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from sondar.web import create_app
from sondar.web.services import Services
from tests.conftest import AMBIENT_TEXT


@pytest.fixture(scope="session")
def client(dsn: str) -> Iterator[FlaskClient]:
    app = create_app(dsn, "", prepare=False)
    yield app.test_client()
    held: Services = app.extensions["sondar"]
    held.close()


@pytest.fixture
def job(client: FlaskClient) -> dict[str, Any]:
    """A new job on the ambient-temperature circuit."""
    version = client.post("/api/v1/circuits", json={"text": AMBIENT_TEXT}).get_json()["version_id"]
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Orvane"}, "circuit_version_id": version, "complaint": "shows dashes"}
    made: dict[str, Any] = client.post("/api/v1/jobs", json=body).get_json()
    return made


def reading(entry: str, red: str = "X31.1", **more: Any) -> dict[str, Any]:
    """Body of a reading, key on."""
    return {
        "client_key": str(uuid4()), "instrument": "voltmeter", "red": red, "black": "BAT.neg",
        "setup": {"controls": {"key": "on"}, "unplugged": []}, "entry": entry, **more,
    }  # fmt: skip
