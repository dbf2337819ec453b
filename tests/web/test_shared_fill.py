"""What is filled in on something that several circuits of a vehicle share."""

from __future__ import annotations

from uuid import uuid4

from flask.testing import FlaskClient

from tests.web.test_any_vehicle import get
from tests.web.test_check_in import check_in


def test_a_colour_of_a_shared_wire_does_not_take_the_vehicle_apart(client: FlaskClient) -> None:
    job_id = check_in(client, "P0122", make="Orvane", model="Lisk", plate="QA 09 SHR", year=2019)
    detail = get(client, f"/jobs/{job_id}")
    version = next(c["version_id"] for c in detail["circuits"] if c["slug"] == "lisk-throttle-position")
    body = {"client_key": str(uuid4()), "circuit_version_id": version}
    diagnosis = client.post(f"/api/v1/jobs/{job_id}/diagnoses", json=body).json["id"]
    changes = [{"kind": "wire", "id": "W14", "field": "colour", "value": "BN/YE"}]
    filled = client.put(f"/api/v1/diagnoses/{diagnosis}/known", json={"client_key": str(uuid4()), "changes": changes})
    assert filled.status_code == 200, filled.json
    again = get(client, f"/jobs/{job_id}")
    assert len(again["circuits"]) == len(detail["circuits"])
    assert again["codes"][0]["title"] == detail["codes"][0]["title"]
    triage = client.get(f"/api/v1/jobs/{job_id}/triage")
    assert triage.status_code == 200, triage.json
