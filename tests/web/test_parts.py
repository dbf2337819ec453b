"""The quick reference over HTTP: kinds of parts, the parts of a vehicle, what is due and what was done."""

from __future__ import annotations

import subprocess
from pathlib import Path
from typing import Any
from uuid import uuid4

from flask.testing import FlaskClient

from tests.web.conftest import Door
from tests.web.test_any_vehicle import get
from tests.web.test_check_in import check_in

ALWAYS = 2_000_000_000


def answer(client: FlaskClient, job_id: str, field: str, value: Any) -> Any:
    return client.put(
        f"/api/v1/jobs/{job_id}/answers/{field}", json={"client_key": str(uuid4()), "value": value, "seen_seq": ALWAYS}
    )


def test_a_kind_is_looked_up(client: FlaskClient) -> None:
    found = get(client, "/parts", said="maf")["kinds"]
    assert found[0]["id"] == "air-mass-sensor"
    assert "brake cleaner" in found[0]["never"]
    assert found[0]["intervals"] == [{"do": "Renew the air filter", "km": 30000, "months": 36, "hours": None}]
    assert len(get(client, "/parts")["kinds"]) >= 45
    assert client.get("/api/v1/parts?word=maf").status_code == 422


def test_what_is_due_on_a_vehicle_and_what_was_done(client: FlaskClient, door: Door, tmp_path: Path) -> None:
    job_id = check_in(client, "P0122", make="Orvane", model="Lisk", plate="QA 77 DUE", year=2018, mileage_km=125_000)
    found = get(client, f"/jobs/{job_id}/parts")
    assert {"coolant-temperature-sensor", "fuel-pump", "position-sensor"} <= {part["kind"] for part in found["parts"]}
    due = {one["key"]: one for one in found["due"]}
    assert due["fuel-pump:0"]["state"] == "due"
    assert "no record that it was done" in due["fuel-pump:0"]["said"]
    assert answer(client, job_id, "intervals_done", ["fuel-pump:0"]).status_code == 200
    after = get(client, f"/jobs/{job_id}/parts")
    assert "fuel-pump:0" not in {one["key"] for one in after["due"]}
    assert after["done"] == ["fuel-pump:0"]
    vehicle = get(client, f"/jobs/{job_id}")["job"]["vehicle_id"]
    body = {"client_key": str(uuid4()), "vehicle_id": vehicle, "codes": "P0122", "complaint": "again"}
    later = client.post("/api/v1/jobs", json=body)
    assert later.status_code == 201, later.json
    assert answer(client, later.json["id"], "mileage_km", 190_000).status_code == 200
    again = {one["key"]: one for one in get(client, f"/jobs/{later.json['id']}/parts")["due"]}
    assert "done at 125000 km" in again["fuel-pump:0"]["said"]
    for wrong in (["fuel pump"], ["fuel-pump:x"], "fuel-pump:0"):
        assert answer(client, job_id, "intervals_done", wrong).status_code == 422
    printed = client.get(f"/api/v1/jobs/{job_id}/parts-table")
    assert printed.content_type == "application/pdf"
    (tmp_path / "parts.pdf").write_bytes(printed.data)
    words = subprocess.run(["/usr/bin/pdftotext", tmp_path / "parts.pdf", "-"], capture_output=True, text=True, check=True).stdout
    for said in ("Parts of Orvane Lisk 2018", "Coolant temperature sensor", "Renew the coolant", "Never: opening the cooling"):
        assert said.lower() in " ".join(words.split()).lower(), said
    assert door("mole-lead").get(f"/api/v1/jobs/{job_id}/parts").status_code == 404
