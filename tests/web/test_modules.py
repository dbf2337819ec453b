"""Who hears whom over HTTP, from a scan of the vehicle and from typed codes."""

from __future__ import annotations

from uuid import uuid4

from flask.testing import FlaskClient

from sondar.simulators.doip_vehicle import DoipServer
from tests.web.test_any_vehicle import get
from tests.web.test_check_in import check_in, interface

__all__ = ["interface"]


def test_a_silent_trailer_module_leads_to_its_supply(client: FlaskClient, interface: DoipServer) -> None:
    job_id = check_in(client)
    assert get(client, f"/jobs/{job_id}/modules")["found"] == []
    assert client.post(f"/api/v1/jobs/{job_id}/scans/vehicle", json={"client_key": str(uuid4())}).status_code == 201
    found = get(client, f"/jobs/{job_id}/modules")
    assert {one["id"]: one["state"] for one in found["heard"]} == {"ECM": "answers", "BCM": "answers", "TSM": "silent"}
    [contact] = found["found"]
    assert (contact["modules"], contact["circuit"]) == (["TSM"], "tern-trailer-module")
    assert "Body module" in contact["why"]


def test_typed_codes_on_a_vehicle_that_nobody_knows(client: FlaskClient) -> None:
    job_id = check_in(client, "U0121", make="Brigg", model="Nobody")
    [contact] = get(client, f"/jobs/{job_id}/modules")["found"]
    assert contact["sentence"] == "Anti-lock brake control module is missed, and nobody has asked it yet."
    assert contact["circuit"] == ""
