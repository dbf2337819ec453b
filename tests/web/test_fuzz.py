"""Requests made up from the API's own description: whatever comes in, no answer is a failure of ours."""

from __future__ import annotations

import io
import os
import time
from typing import Any
from uuid import uuid4

import psycopg
import pytest
import schemathesis
from flask.testing import FlaskClient
from hypothesis import HealthCheck, Phase, given, settings

from sondar.demo import load_library
from sondar.store import people
from sondar.store.database import migrate
from sondar.store.local_server import LocalServer
from sondar.web.application import create_app
from sondar.web.auth import hash_password
from tests.conftest import AMBIENT_TEXT, ROOT
from tests.web.conftest import PASSWORD


@pytest.fixture(scope="module")
def fuzzed(postgres: LocalServer) -> Any:
    """An application on a database of its own: made-up sign-ins lock names and addresses there and nowhere else."""
    owner = postgres.start()
    with psycopg.connect(owner, autocommit=True) as db:
        db.execute("DROP DATABASE IF EXISTS fuzz")
        db.execute("CREATE DATABASE fuzz")
    fresh = owner.replace("dbname=sondar", "dbname=fuzz")
    migrate(fresh)
    with psycopg.connect(fresh) as db:
        load_library(db)
        people.create_workshop(db, "Fuzz")
        people.create_account(db, "fuzz", "Fuzz", "lead", hash_password(PASSWORD))
    app = create_app(postgres.application_dsn(fresh), "", prepare=False, vehicles={})
    client = app.test_client()
    me = client.post("/api/v1/session", json={"sign_in": "fuzz", "password": PASSWORD}).get_json()
    cookie = client.get_cookie("sondar")
    assert cookie is not None
    client.environ_base["HTTP_X_CSRF_TOKEN"] = me["csrf"]
    version = client.post("/api/v1/circuits", json={"text": AMBIENT_TEXT}).get_json()["version_id"]
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Orvane", "model": "Lisk"}, "circuit_version_id": version}
    job = client.post("/api/v1/jobs", json=body).get_json()
    diagnosis = client.get(f"/api/v1/jobs/{job['id']}").get_json()["diagnoses"][0]["id"]
    real = {"version_id": version, "job_id": job["id"], "vehicle_id": job["vehicle_id"], "diagnosis_id": diagnosis}
    real["recording_id"] = a_recording(client, job["id"])
    yield app, me["csrf"], cookie.value, real
    app.extensions["sondar"].close()


def a_recording(client: FlaskClient, job_id: str) -> str:
    """One that is ready, so that made-up stretches of it are drawn and read off."""
    rows = "\n".join(f"{n / 10:.1f},{n % 40},{n // 50 % 2}" for n in range(400))
    raw = f"Time [s],Pressure [kPa],Valve command\n{rows}\n".encode()
    made = client.post(
        f"/api/v1/jobs/{job_id}/recordings", json={"client_key": str(uuid4()), "name": "log.csv", "bytes": len(raw)}
    ).get_json()
    path = f"/api/v1/recordings/{made['id']}"
    client.put(f"{path}/pieces/0", data={"piece": (io.BytesIO(raw), "piece")})
    client.post(f"{path}/reading", json={})
    for _ in range(200):
        if client.get(path).get_json()["recording"]["state"] == "ready":
            return str(made["id"])
        time.sleep(0.05)
    raise AssertionError("not read in ten seconds")


EXAMPLES = int(os.environ.get("SONDAR_FUZZ_EXAMPLES", "4"))
"""Cases per operation; ``./run nightly`` tries many more."""

seen: dict[int, int] = {}
schema = schemathesis.openapi.from_path(str(ROOT / "docs" / "openapi.json"))
# A stream does not end by itself, and signing out or changing the own password would end the test's session.
asked = (
    schema.exclude(path_regex="/events$").exclude(path_regex="/v1/session$", method=["DELETE"]).exclude(path_regex="/me/password$")
)


@pytest.mark.parametrize("operation", [found.ok() for found in asked.get_all_operations()], ids=lambda operation: operation.label)
def test_nothing_made_up_breaks_it(operation: Any, fuzzed: Any) -> None:
    app, token, cookie, real = fuzzed

    @given(case=operation.as_strategy())
    @settings(
        max_examples=EXAMPLES, deadline=None, derandomize=True, database=None, phases=[Phase.explicit, Phase.generate],
        suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    def every(case: Any) -> None:
        case.headers = {k: v for k, v in (case.headers or {}).items() if k.lower() not in ("x-csrf-token", "cookie")}
        case.cookies = {}
        # Made-up ids end at "not there": with the real ones the made-up bodies reach what lies behind.
        case.path_parameters = {name: real.get(name, value) for name, value in (case.path_parameters or {}).items()}
        response = case.call(app=app, headers={"X-CSRF-Token": token}, cookies={"sondar": cookie})
        # Signing in with made-up words is refused, and rightly so: that alone may answer 401.
        if (case.path, response.status_code) != ("/api/v1/session", 401):
            seen[response.status_code] = seen.get(response.status_code, 0) + 1
        not_a_server_error_unless_said(response, case)

    every()


def not_a_server_error_unless_said(response: Any, case: Any) -> None:
    """502 is an honest answer where a device would be asked and none is connected; nothing else above 499 is."""
    if response.status_code == 502:
        assert case.path.endswith(("/meter", "/scans/vehicle", "/clearing", "/commands", "/readiness"))
        return
    assert response.status_code < 500, f"{case.method} {case.path}: {response.text[:300]}"


def test_the_made_up_requests_reached_the_views() -> None:
    print(f"{sum(seen.values())} made-up requests, by status: {dict(sorted(seen.items()))}")
    assert sum(seen.values()) > 30 * EXAMPLES
    assert 401 not in seen, seen
    assert sum(count for status, count in seen.items() if status < 300) > 5 * EXAMPLES, seen
    assert seen.get(422, 0) > 5 * EXAMPLES, seen


def test_the_check_can_fail() -> None:
    class Answer:
        status_code = 500
        text = "broken"

    class Case:
        method, path = "GET", "/x"

    with pytest.raises(AssertionError):
        not_a_server_error_unless_said(Answer(), Case())
