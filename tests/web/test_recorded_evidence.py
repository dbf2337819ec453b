"""From a commanded valve to evidence: what was recorded is tied by the vehicle's file, and how it follows becomes a reading."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from sondar.circuit_files import library_network
from sondar.simulators.diagnostic_vehicle import DiagnosticVehicle, HiddenFault
from sondar.simulators.doip_vehicle import DoipServer
from tests.web.conftest import Door
from tests.web.test_check_in import check_in
from tests.web.test_commands import begin, over

OPEN = {
    "command": "valve", "channels": ["valve_position"], "steps": [{"position": "closed", "seconds": 1.0}, {"position": "open", "seconds": 4.0}],
    "seconds": 0.5,
}  # fmt: skip


@contextmanager
def at_the_interface(door: Door, *faults: HiddenFault) -> Iterator[None]:
    made = DoipServer(lambda: DiagnosticVehicle(library_network("tessel-quay"), faults, "WTSKAY19000002408"))
    assert made.live is not None
    threading.Thread(target=made.serve_forever, daemon=True).start()
    held = door.app.extensions["sondar"]
    door.app.extensions["sondar"] = replace(held, devices=replace(held.devices, vehicles={"": made.address}))
    try:
        yield
    finally:
        door.app.extensions["sondar"] = held
        made.shutdown()
        made.server_close()


@pytest.fixture
def diagnosis(client: FlaskClient) -> tuple[str, str]:
    """(job, circuit diagnosis) of the recirculation valve."""
    job = check_in(client, "P0404", make="Tessel", model="Quay", plate="QA 24 EGR", year=2019)
    circuits = client.get("/api/v1/circuits").json["circuits"]
    version = next(c["version_id"] for c in circuits if c["slug"] == "tessel-exhaust-valve")
    body = {"client_key": str(uuid4()), "circuit_version_id": version}
    return job, client.post(f"/api/v1/jobs/{job}/diagnoses", json=body).json["id"]


def offered(client: FlaskClient, recording: str) -> dict[str, Any]:
    """Features of the position after the command to open, by kind."""
    opened = client.get(f"/api/v1/recordings/{recording}").json
    query = {"channel": 0, "start_s": opened["recording"]["start_s"], "end_s": opened["recording"]["end_s"]}
    found = client.get(f"/api/v1/recordings/{recording}/features", query_string=query).json["features"]
    return {f["kind"]: f for f in found if "closed → open" in f["title"]}


def use(client: FlaskClient, recording: str, feature: Any, **changed: Any) -> Any:
    body = {
        "client_key": str(uuid4()),
        "kind": feature["kind"],
        "channel": 0,
        "start_s": feature["start_s"],
        "end_s": feature["end_s"],
    }
    return client.post(f"/api/v1/recordings/{recording}/readings", json=body | changed)


def test_a_slow_valve_is_recorded_taken_as_evidence_and_suspected(
    client: FlaskClient, door: Door, diagnosis: tuple[str, str]
) -> None:
    job, diagnosed = diagnosis
    with at_the_interface(door, HiddenFault("M12.sluggish", "6 times as slow")):
        run = over(client, begin(client, job, **OPEN).json["id"])
    recording = run["recording_id"]
    opened = client.get(f"/api/v1/recordings/{recording}").json
    tie = opened["channels"][0]["tie"]
    assert (tie["instrument"], tie["red"], tie["controls"]) == ("live-data", "INV", {"key": "run"})
    assert opened["lanes"][0]["tie"] == {"control": "egr", "positions": {"closed": "closed", "open": "open"}}
    found = offered(client, recording)
    for kind in ("lag", "dead"):
        taken = use(client, recording, found[kind])
        assert taken.status_code == 201, taken.json
        assert taken.json["diagnosis_id"] == diagnosed
    measuring = client.get(f"/api/v1/diagnoses/{diagnosed}").json
    readings = {
        reading["test"]["instrument"] if "test" in reading else reading["instrument"]: reading for reading in measuring["readings"]
    }
    assert set(readings) == {"response-time", "response-delay"}
    assert readings["response-time"]["entry"].endswith("s")
    assert abs(float(readings["response-time"]["entry"].split(" ")[0]) - 0.84) < 0.2
    suspects = {suspect["unit"]: suspect["probability"] for suspect in measuring["assessment"]["suspects"]}
    assert max(suspects, key=lambda unit: suspects[unit]) == "M12@system"


def test_what_does_not_move_is_a_word(client: FlaskClient, door: Door, diagnosis: tuple[str, str]) -> None:
    job, diagnosed = diagnosis
    with at_the_interface(door, HiddenFault("M12.stuck", "stuck")):
        run = over(client, begin(client, job, **OPEN).json["id"])
    found = offered(client, run["recording_id"])
    assert set(found) == {"no movement"}
    assert use(client, run["recording_id"], found["no movement"]).status_code == 201
    [reading] = client.get(f"/api/v1/diagnoses/{diagnosed}").json["readings"]
    assert reading["entry"] == "no movement"


def test_what_cannot_be_read_off_or_is_not_known_is_refused_in_words(
    client: FlaskClient, door: Door, diagnosis: tuple[str, str]
) -> None:
    job, diagnosed = diagnosis
    with at_the_interface(door):
        run = over(client, begin(client, job, **OPEN | {"channels": ["valve_position", "valve_current"]}).json["id"])
    recording = run["recording_id"]
    found = offered(client, recording)
    early = use(client, recording, found["lag"], start_s=found["lag"]["start_s"] - 0.3)
    assert early.status_code == 422
    assert "no lag can be read off" in early.json["detail"]
    untied = use(client, recording, found["lag"], channel=1)
    assert untied.status_code == 422
    assert "say first what" in untied.json["detail"]
    name = client.get(f"/api/v1/recordings/{recording}").json["channels"][0]["name"]
    tie = {
        "name": name,
        "diagnosis_id": diagnosed,
        "instrument": "voltmeter",
        "red": "X60.3",
        "black": "BAT.neg",
        "controls": {"key": "on"},
    }
    assert client.put(f"/api/v1/recordings/{recording}/channel-meaning", json=tie).status_code == 200
    elsewhere = use(client, recording, found["lag"])
    assert elsewhere.status_code == 422
    assert "X60.3" in elsewhere.json["detail"]
    assert client.put(f"/api/v1/recordings/{recording}/channel-meaning", json=tie | {"red": "X60.4"}).status_code == 200
    assert use(client, recording, found["lag"]).status_code == 201, "a wire to the input is the input"
