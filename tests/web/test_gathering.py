"""The workshop's own vehicle over HTTP: looked at, kept, used by jobs that are open already, and taken elsewhere as files."""

from __future__ import annotations

from typing import Any
from uuid import uuid4

from flask.testing import FlaskClient

from tests.core.describing.sheets import OIL_CONTROL_VALVE, PRESSURE_AND_TEMPERATURE
from tests.web.conftest import Door
from tests.web.test_any_vehicle import get
from tests.web.test_check_in import check_in
from tests.web.test_describing import keep

SUPPLY = {"source": "main relay", "fuse": "F14", "fuse_a": 15}


def described(client: FlaskClient, model: str) -> list[str]:
    """Three circuits of one vehicle; their slugs."""
    rows = [{"cavity": str(n), "carries": n} for n in (1, 2)]
    about = {"make": "Tessel", "model": model, "module": "ECM"}
    sheets: list[dict[str, Any]] = [
        {**OIL_CONTROL_VALVE, **about, "supply": SUPPLY},
        {"template": "valve-pulsed", "part": "purge valve", **about, "plug": "X51", "rows": rows, "supply": SUPPLY},
        {**PRESSURE_AND_TEMPERATURE, **about},
    ]
    return [keep(client, sheet).json["slug"] for sheet in sheets]


def test_circuits_become_a_vehicle_that_triage_works_on(client: FlaskClient, door: Door) -> None:
    model = f"Own {uuid4().hex[:6]}"
    oil, purge, pressure = described(client, model)
    job_id = check_in(client, "P0443", make="Tessel", model=model, plate="QA 31 OWN", year=2020)
    assert get(client, f"/jobs/{job_id}")["circuits"] == []
    body = {"make": "Tessel", "model": model, "circuits": [oil, purge, pressure]}
    seen = client.post("/api/v1/vehicle-models/preview", json=body)
    assert seen.status_code == 200, seen.json
    assert seen.json["problems"] == []
    assert {"F14", "ECM", "K0", "IGN", "G2"} <= {question["id"] for question in seen.json["questions"]}
    assert "Fuse F14" in seen.json["shared"]
    valve = next(one for one in seen.json["circuits"] if one["slug"] == purge)
    assert "P0443" in {one["code"] for one in valve["likely"]}
    assert (valve["known"], valve["typical"] > 0) == (1, True), "the fuse is known, the coil is not"
    assert next(one["known"] for one in seen.json["circuits"] if one["slug"] == oil) == 2
    assert get(client, f"/jobs/{job_id}")["circuits"] == [], "looking keeps nothing"
    ties = {
        "codes": {purge: ["P0443", "P0445"], pressure: ["P0107"]},
        "symptoms": {pressure: ["Hesitates when the pedal is pressed"]},
    }
    kept = client.post("/api/v1/vehicle-models/gathered", json={**body, **ties})
    assert kept.status_code == 201, kept.json
    job = get(client, f"/jobs/{job_id}")
    assert {one["slug"] for one in job["circuits"]} == {oil, purge, pressure}, "a job that was open already"
    assert job["codes"][0]["known_from"] == "library"
    assert [one["title"] for one in job["symptoms"]] == ["Hesitates when the pedal is pressed"]
    first = client.get(f"/api/v1/jobs/{job_id}/triage").json["triage"]["candidates"][0]
    assert first["id"] == f"circuit:{purge}"
    assert door("mole-technician").post("/api/v1/vehicle-models/preview", json=body).status_code == 422, (
        "another workshop's circuits"
    )
    assert door("quay-read-only").post("/api/v1/vehicle-models/gathered", json=body).status_code == 403


def test_a_vehicle_is_taken_elsewhere_as_files(client: FlaskClient, door: Door) -> None:
    model = f"Out {uuid4().hex[:6]}"
    slugs = described(client, model)
    slug = client.post("/api/v1/vehicle-models/gathered", json={"make": "Tessel", "model": model, "circuits": slugs}).json["slug"]
    found = get(client, f"/vehicle-models/{slug}")
    assert [one["slug"] for one in found["circuits"]] == sorted(
        slugs, key=lambda one: [c["slug"] for c in found["circuits"]].index(one)
    )
    other = door("mole-technician")
    for circuit in found["circuits"]:
        text = get(client, f"/circuits/{circuit['version_id']}")["source_text"]
        assert other.post("/api/v1/circuits", json={"text": text}).status_code == 201
    taken = other.post("/api/v1/vehicle-models", json={"text": found["text"]})
    assert taken.status_code == 201, taken.json
    job_id = check_in(other, "", make="Tessel", model=model, plate="MO 1 OWN")
    assert {one["slug"] for one in get(other, f"/jobs/{job_id}")["circuits"]} == set(slugs)
    again = client.post("/api/v1/vehicle-models/gathered", json={"make": "Tessel", "model": model, "circuits": slugs})
    assert again.status_code == 201, "gathering what has been gathered changes nothing"
    assert get(client, f"/vehicle-models/{slug}")["text"] == found["text"]
    assert client.get("/api/v1/vehicle-models/no-such").status_code == 404


def test_what_does_not_fit_is_said_and_nothing_is_kept(client: FlaskClient) -> None:
    model = f"Odd {uuid4().hex[:6]}"
    slugs = described(client, model)
    body = {"make": "Tessel", "model": model, "circuits": slugs}
    assert client.post("/api/v1/vehicle-models/preview", json={**body, "circuits": ["no-such"]}).status_code == 422
    assert client.post("/api/v1/vehicle-models/preview", json={**body, "codes": {slugs[0]: ["443"]}}).status_code == 422
    assert client.post("/api/v1/vehicle-models/preview", json={**body, "years": "soon"}).status_code == 422
    apart = client.post("/api/v1/vehicle-models/preview", json={**body, "same": {"ECM": False, "F14": False}}).json
    assert apart["problems"] == []
    assert "Fuse F14" not in apart["shared"]
    assert not any(
        one["slug"] == f"own-tessel-{model.lower().replace(' ', '-')}" for one in get(client, "/vehicle-models")["models"]
    )
