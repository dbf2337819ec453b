from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any
from uuid import uuid4

import psycopg
import pytest
from flask.testing import FlaskClient

from sondar.demo import load_library
from sondar.store import people
from sondar.store.database import act_for
from sondar.web.application import create_app
from sondar.web.auth import hash_password
from sondar.web.services import Services
from tests.conftest import AMBIENT_TEXT

os.environ["SONDAR_SECURE_COOKIES"] = "0"  # tests speak plain HTTP

PASSWORD = "slack-water-9"
ROLES = ("lead", "technician", "read-only")


@pytest.fixture(scope="session")
def workshops(dsn: str) -> dict[str, str]:
    """Two workshops with a person of each role; sign-in name -> role. The library is loaded."""
    hashed = hash_password(PASSWORD)
    with psycopg.connect(dsn) as db:
        load_library(db)
        for place in ("quay", "mole"):
            workshop_id = people.create_workshop(db, f"The {place} workshop")
            for role in ROLES:
                people.create_account(db, f"{place}-{role}", f"{place} {role}", role, hashed)
            act_for(db, workshop_id)
            db.commit()
    return {f"{place}-{role}": role for place in ("quay", "mole") for role in ROLES}


@dataclass
class Door:
    """The application, and a signed-in client for anyone."""

    app: Any
    known: dict[str, FlaskClient]

    def nobody(self) -> FlaskClient:
        client: FlaskClient = self.app.test_client()
        return client

    def __call__(self, sign_in: str) -> FlaskClient:
        if sign_in not in self.known:
            client = self.nobody()
            me = client.post("/api/v1/session", json={"sign_in": sign_in, "password": PASSWORD}).get_json()
            client.environ_base["HTTP_X_CSRF_TOKEN"] = me["csrf"]
            self.known[sign_in] = client
        return self.known[sign_in]


@pytest.fixture(scope="session")
def door(app_dsn: str, workshops: dict[str, str]) -> Iterator[Door]:
    app = create_app(app_dsn, "", prepare=False, vehicles={})
    held: Services = app.extensions["sondar"]
    yield Door(app, {})
    held.close()


@pytest.fixture
def client(door: Door) -> FlaskClient:
    """A technician."""
    return door("quay-technician")


@pytest.fixture
def job(client: FlaskClient) -> dict[str, Any]:
    """A new job on the ambient-temperature circuit, with its diagnosis."""
    version = client.post("/api/v1/circuits", json={"text": AMBIENT_TEXT}).get_json()["version_id"]
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Orvane"}, "circuit_version_id": version, "complaint": "shows dashes"}
    made: dict[str, Any] = client.post("/api/v1/jobs", json=body).get_json()
    diagnosis = client.get(f"/api/v1/jobs/{made['id']}").get_json()["diagnoses"][0]
    return {**made, "diagnosis": diagnosis["id"], "circuit_version_id": version}


def reading(entry: str, red: str = "X31.1", **more: Any) -> dict[str, Any]:
    """Body of a reading, key on."""
    return {
        "client_key": str(uuid4()), "instrument": "voltmeter", "red": red, "black": "BAT.neg",
        "setup": {"controls": {"key": "on"}, "unplugged": []}, "entry": entry, **more,
    }  # fmt: skip
