"""Describing circuits over the API: previews that keep nothing, sheets that become versions, and jobs that go on with them."""

from __future__ import annotations

from typing import Any
from uuid import uuid4

from flask.testing import FlaskClient

from tests.core.describing.sheets import OIL_CONTROL_VALVE, PRESSURE_AND_TEMPERATURE
from tests.web.conftest import Door, reading
from tests.web.test_any_vehicle import get, measure
from tests.web.test_check_in import check_in

TABLE = "connector;cavity;colour;mm2;to\nX7;1;RD/WH;0,75;ECM 12\nX7;2;bl;0,5;G1\nX9;1;GN;;\n"


def keep(client: FlaskClient, sheet: dict[str, Any]) -> Any:
    return client.post("/api/v1/sheets", json={"sheet": sheet})


def test_a_preview_shows_what_follows_and_keeps_nothing(client: FlaskClient) -> None:
    before = len(get(client, "/circuits")["circuits"])
    found = client.post("/api/v1/sheets/preview", json={"sheet": PRESSURE_AND_TEMPERATURE}).json
    assert found["problems"] == []
    assert found["circuit"]["title"] == "Intake pressure and temperature sensor"
    assert found["circuit"]["drawing"]["elements"]
    assert found["setups"] == ["key off, connected", "key on, connected", "key on, disconnected"]
    assert [row["carries"] for row in found["healthy"]] == ["signal", "reference", "temperature signal", "return"]
    assert found["healthy"][1]["shows"][2].startswith("4.9"), "5 V on the reference with the plug apart"
    assert len(get(client, "/circuits")["circuits"]) == before


def test_what_is_not_clear_yet_comes_with_its_field(client: FlaskClient) -> None:
    sheet = {**OIL_CONTROL_VALVE, "rows": [{**OIL_CONTROL_VALVE["rows"][0], "colour": "bl"}, OIL_CONTROL_VALVE["rows"][1]]}
    found = client.post("/api/v1/sheets/preview", json={"sheet": sheet}).json
    assert found["circuit"] is None
    [problem] = found["problems"]
    assert problem["field"] == "rows.0.colour"
    assert "black or blue" in problem["message"]
    refused = keep(client, sheet)
    assert refused.status_code == 422
    assert refused.json["errors"][0]["field"] == "rows.0.colour"


def test_a_sheet_becomes_a_circuit_and_its_next_version(client: FlaskClient, door: Door) -> None:
    first = keep(client, OIL_CONTROL_VALVE)
    assert first.status_code == 201, first.json
    assert (first.json["version"], first.json["title"], first.json["make"]) == (1, "Oil-control valve", "Tessel")
    assert keep(client, OIL_CONTROL_VALVE).json["version_id"] == first.json["version_id"], "nothing changed"
    second = keep(client, {**OIL_CONTROL_VALVE, "figures": {"Y.coil_ohm": "7.3"}})
    assert second.json["version"] == 2
    detail = get(client, f"/circuits/{second.json['version_id']}")
    assert detail["sheet"]["figures"] == {"Y.coil_ohm": "7.3"}
    loaded = client.post("/api/v1/circuits", json={"text": detail["source_text"]})
    assert loaded.json["version_id"] == second.json["version_id"], "its file is the same circuit"
    assert keep(door("quay-read-only"), OIL_CONTROL_VALVE).status_code == 403


def test_a_running_job_goes_on_with_another_version_and_keeps_every_reading(client: FlaskClient) -> None:
    job_id = check_in(client, "", make="Tessel", model="Quay 2.2")
    version = keep(client, OIL_CONTROL_VALVE).json["version_id"]
    body = {"client_key": str(uuid4()), "circuit_version_id": version, "reason": "sheet", "carry": False}
    diagnosis = client.post(f"/api/v1/jobs/{job_id}/diagnoses", json=body).json["id"]
    for red, entry in (("X2.1", "12.3"), ("X2.2", "12.2")):
        answer = client.post(f"/api/v1/diagnoses/{diagnosis}/readings", json=reading(entry, red=red))
        assert answer.status_code == 201, answer.json
    before = get(client, f"/diagnoses/{diagnosis}")["readings"]
    newer = keep(client, {**OIL_CONTROL_VALVE, "figures": {"Y.coil_ohm": "7.3"}}).json
    move = {"client_key": str(uuid4()), "version_id": newer["version_id"]}
    moved = client.put(f"/api/v1/diagnoses/{diagnosis}/circuit", json=move)
    assert moved.status_code == 200, moved.json
    assert moved.json["readings"] == before
    assert moved.json["diagnosis"]["circuit_version_id"] == newer["version_id"]
    lines = [one["text"] for one in get(client, f"/jobs/{job_id}/timeline")["entries"] if one["kind"] == "circuit filled in"]
    assert lines == [f"goes on with 'Oil-control valve', version {newer['version']}"]


def test_a_job_is_not_moved_where_readings_would_be_lost(client: FlaskClient) -> None:
    job_id = check_in(client, "P0443", make="Tessel", model="Quay 2.2")
    diagnosis = measure(client, job_id, template="solenoid-low-side", code="P0443").json["id"]
    client.post(f"/api/v1/diagnoses/{diagnosis}/readings", json=reading("12.3", red="F1.2"))
    before = get(client, f"/diagnoses/{diagnosis}")["diagnosis"]
    other = keep(client, PRESSURE_AND_TEMPERATURE).json["version_id"]
    refused = client.put(f"/api/v1/diagnoses/{diagnosis}/circuit", json={"client_key": str(uuid4()), "version_id": other})
    assert refused.status_code == 409
    assert "F1.2" in refused.json["detail"]
    assert get(client, f"/diagnoses/{diagnosis}")["diagnosis"] == before
    unknown = {"client_key": str(uuid4()), "version_id": str(uuid4())}
    assert client.put(f"/api/v1/diagnoses/{diagnosis}/circuit", json=unknown).status_code == 404


def test_a_pin_table_is_shown_before_it_is_used(client: FlaskClient) -> None:
    found = client.post("/api/v1/sheets/table", json={"text": TABLE, "form": "csv"}).json
    assert found["connectors"] == ["X7", "X9"]
    assert [column["field"] for column in found["columns"]] == ["connector", "cavity", "colour", "mm2", "to"]
    assert found["rows"][0] == {
        "connector": "X7", "cavity": "1", "wire": "", "colour": "red/white", "mm2": 0.75, "end": "ECM 12",
    }  # fmt: skip
    [note] = found["notes"]
    assert (note["line"], "black or blue" in note["text"]) == (3, True)
    wrong = client.post("/api/v1/sheets/table", json={"text": "colour;length\nred;3\n", "form": "csv"})
    assert (wrong.status_code, wrong.json["errors"][0]["field"]) == (422, "text")
    bomb = "a: &a [x,x]\nb: &b [*a,*a]\nc: &c [*b,*b]\nd: &d [*c,*c]\ne: &e [*d,*d]\nf: [*e,*e,*e]\n"
    refused = client.post("/api/v1/sheets/table", json={"text": bomb, "form": "wireviz"})
    assert refused.status_code == 422
