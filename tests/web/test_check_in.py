"""From check-in to the first test: answers, codes, triage, diagnoses, photographs, timeline, search, sharing, events."""

from __future__ import annotations

import io
import threading
import time
from collections.abc import Iterator
from dataclasses import replace
from typing import Any
from uuid import uuid4

import psycopg
import pytest
from flask.testing import FlaskClient
from PIL import Image

from sondar.circuit_files import library_network
from sondar.simulators.diagnostic_vehicle import DiagnosticVehicle, HiddenFault
from sondar.simulators.doip_vehicle import DoipServer
from tests.web.conftest import Door, reading
from tests.web.test_search import until_found

Detail = dict[str, Any]
REAR_GROUND_CODES = "BCM: B1D10 confirmed\nBCM: B1D11 confirmed\nBCM: U0157 confirmed\nECM: P0236 history\nECM: P0118 history"


def key() -> str:
    return str(uuid4())


def check_in(client: FlaskClient, codes: str = "", **vehicle: Any) -> str:
    """A van whose circuits are known; the new job's id."""
    body = {"client_key": key(), "vehicle": {"make": "Halden", "model": "Tern", "year": 2016, **vehicle}, "codes": codes}
    made = client.post("/api/v1/jobs", json=body)
    assert made.status_code == 201, made.get_json()
    return str(made.get_json()["id"])


def detail(client: FlaskClient, job_id: str) -> Detail:
    found: Detail = client.get(f"/api/v1/jobs/{job_id}").get_json()
    return found


def say(client: FlaskClient, job_id: str, field: str, value: Any, seen: int = 0) -> Any:
    return client.put(f"/api/v1/jobs/{job_id}/answers/{field}", json={"client_key": key(), "value": value, "seen_seq": seen})


def scan(client: FlaskClient, job_id: str, text: str, **more: Any) -> Any:
    return client.post(f"/api/v1/jobs/{job_id}/scans", json={"client_key": key(), "text": text, **more})


def triage(client: FlaskClient, job_id: str) -> Detail:
    found: Detail = client.get(f"/api/v1/jobs/{job_id}/triage").get_json()
    return found


# -- answers --------------------------------------------------------------------------------------------


def test_two_answers_at_once_are_both_shown(door: Door, client: FlaskClient) -> None:
    job_id = check_in(client)
    first = say(client, job_id, "complaint", "lamps weak").get_json()
    seen = first["answers"]["complaint"]["seq"]
    lead = door("quay-lead")
    assert say(lead, job_id, "complaint", "lamps weak since winter", seen).status_code == 200
    late = say(client, job_id, "complaint", "lamps dead", seen)
    assert late.status_code == 409
    problem = late.get_json()
    assert problem["current"]["value"] == "lamps weak since winter"
    assert problem["current"]["by"] == "quay lead"
    assert detail(client, job_id)["job"]["complaint"] == "lamps weak since winter", "nothing was overwritten"
    assert say(client, job_id, "complaint", "lamps dead", problem["current"]["seq"]).status_code == 200
    assert detail(client, job_id)["job"]["complaint"] == "lamps dead"
    told = [e["detail"] for e in client.get(f"/api/v1/jobs/{job_id}/timeline").get_json()["entries"] if e["text"] == "complaint"]
    assert told == ['"lamps weak"', '"lamps weak since winter"', '"lamps dead"'], "every answer stays in the record"


def test_the_same_answer_from_two_people_is_no_conflict(door: Door, client: FlaskClient) -> None:
    job_id = check_in(client)
    assert say(client, job_id, "reproduced", True).status_code == 200
    assert say(door("quay-lead"), job_id, "reproduced", True).status_code == 200


@pytest.mark.parametrize(
    ("field", "value", "said"),
    [
        ("battery_v", 400, "number from 0 to 60"),
        ("battery_v", "12", "a number"),
        ("mileage_km", 12.5, "whole number"),
        ("conditions", ["on Tuesdays"], "'on Tuesdays' is not one of"),
        ("reproduced", "yes", "yes, no, or nothing"),
        ("stage", "finished", "check-in"),
        ("vin", "SHORT", "17"),
        ("shoe_size", 44, "is not asked"),
        ("complaint", "x" * 2001, "0 to 2000"),
    ],
)
def test_a_wrong_answer_names_its_field(client: FlaskClient, field: str, value: Any, said: str) -> None:
    job_id = check_in(client)
    answer = say(client, job_id, field, value)
    assert answer.status_code == 422
    error = answer.get_json()["errors"][0]
    assert error["field"] in (field, "field")
    assert said in error["message"]
    assert field not in detail(client, job_id)["answers"]


def test_mileage_backwards_low_battery_and_a_wrong_check_digit_make_one_look_twice(client: FlaskClient) -> None:
    first = check_in(client, plate="PA 88 RET")
    say(client, first, "mileage_km", 120_000)
    vehicle_id = detail(client, first)["job"]["vehicle_id"]
    second = client.post("/api/v1/jobs", json={"client_key": key(), "vehicle_id": vehicle_id}).get_json()["id"]
    say(client, second, "mileage_km", 90_500)
    say(client, second, "battery_v", 11.2)
    say(client, second, "vin", "WHDTRN16900002709")
    found = " | ".join(detail(client, second)["warnings"])
    assert "120000 km at an earlier visit, 90500 km now" in found
    assert "11.2 V: charge it first" in found
    assert "VIN" in found
    say(client, second, "vin", "WHDTRN16X00002709", 10**6)
    say(client, second, "mileage_km", 120_400, 10**6)
    say(client, second, "battery_v", 12.6, 10**6)
    left = detail(client, second)["warnings"]
    assert [w for w in left if not w.startswith("VIN")] == []
    assert [e["id"] for e in detail(client, second)["earlier"]] == [first]
    plates = client.get("/api/v1/vehicles", query_string={"plate": "pa88-ret"}).get_json()["vehicles"]
    assert [(v["id"], v["jobs"]) for v in plates] == [(vehicle_id, 2)]


# -- codes ----------------------------------------------------------------------------------------------


def test_codes_typed_imported_or_none_at_all(client: FlaskClient) -> None:
    job_id = check_in(client)
    typed = scan(client, job_id, "p0192 and the other one: ECM P2122-16 history").get_json()
    assert [(c["module"], c["code"], c["failure_type"]) for c in typed["codes"]] == [("ECM", "P0192", None), ("ECM", "P2122", "16")]
    assert "Rail pressure signal low" in typed["codes"][0]["title"]
    assert typed["codes"][0]["known_from"] == "library"
    assert typed["codes"][0]["circuits"] == ["tern-rail-pressure"]
    again = scan(client, job_id, "module,code,status\nBCM,B1D10,0x2F\n", source="import").get_json()
    assert [(c["code"], c["status"]) for c in again["codes"]][-1] == ("B1D10", 0x2F)
    assert any("failing now" in w or "fail" in w for w in again["codes"][-1]["status_words"])
    listed = client.get("/api/v1/jobs", query_string={"q": "P2122"}).get_json()["jobs"]
    assert job_id in [j["id"] for j in listed]
    nothing = scan(client, check_in(client), "", none_stored=True).get_json()
    assert nothing["codes"] == []
    assert len(nothing["scans"]) == 1


@pytest.mark.parametrize(
    ("body", "said"),
    [
        ({"text": "the lamp is on"}, "no code"),
        ({"text": "module,colour\nBCM,red\n", "source": "import"}, "code"),
        ({"text": "{broken", "source": "import"}, ""),
        ({"text": "P0192", "conditions": ["upside down"]}, "'upside down' is not one of"),
    ],
)
def test_what_is_no_list_of_codes_is_said_and_nothing_kept(client: FlaskClient, body: dict[str, Any], said: str) -> None:
    job_id = check_in(client)
    answer = client.post(f"/api/v1/jobs/{job_id}/scans", json={"client_key": key(), **body})
    assert answer.status_code == 422
    problem = answer.get_json()
    assert said in f"{problem['detail']} {problem['errors']}"
    assert detail(client, job_id)["scans"] == []


def test_a_list_sent_twice_is_kept_once(client: FlaskClient) -> None:
    job_id = check_in(client)
    body = {"client_key": key(), "text": "P0192"}
    assert client.post(f"/api/v1/jobs/{job_id}/scans", json=body).status_code == 201
    assert client.post(f"/api/v1/jobs/{job_id}/scans", json=body).status_code == 200
    assert len(detail(client, job_id)["scans"]) == 1


def test_nothing_is_cleared_without_a_list_from_before(client: FlaskClient) -> None:
    job_id = check_in(client)
    refused = client.post(f"/api/v1/jobs/{job_id}/clearing", json={"client_key": key(), "by": "hand"})
    assert refused.status_code == 409
    assert "Read or type the codes first" in refused.get_json()["detail"]


def test_cleared_by_hand_and_read_again_under_conditions(client: FlaskClient) -> None:
    job_id = check_in(client, "ECM: P0192 confirmed\nBCM: B1D10 history\nECM: P2122 active")
    client.post(f"/api/v1/jobs/{job_id}/clearing", json={"client_key": key(), "by": "hand"})
    scan(client, job_id, "ECM: P0192 confirmed", conditions=["key cycled"])
    found = scan(client, job_id, "ECM: P0192 confirmed\nECM: P0237 confirmed", conditions=["driven"]).get_json()
    behaviour = {c["code"]: c["behaviour"] for c in found["codes"]}
    assert behaviour == {"P0192": "hard", "B1D10": "history", "P2122": "intermittent", "P0237": "new"}
    assert len(found["scans"][0]["codes"]) == 3, "the list from before clearing is kept"
    assert found["cleared_at"] is not None
    circuits = {c["slug"]: c["version_id"] for c in found["circuits"]}
    present = {}
    for slug in ("tern-rail-pressure", "tern-accelerator"):
        diagnosis = client.post(
            f"/api/v1/jobs/{job_id}/diagnoses", json={"client_key": key(), "circuit_version_id": circuits[slug], "carry": False}
        ).get_json()["id"]
        points = client.get(f"/api/v1/circuits/{circuits[slug]}").get_json()["points"]
        red = next(p["ref"] for p in points if p["ref"].startswith("X1.") and p["when"] == "any")
        answer = client.post(f"/api/v1/diagnoses/{diagnosis}/readings", json=reading("0.5", red=red))
        assert answer.status_code == 201, answer.get_json()
        present[slug] = answer.get_json()["readings"][0]["present"]
    assert present == {"tern-rail-pressure": 0.98, "tern-accelerator": 0.35}, (
        "how the code behaved tells whether the fault is there"
    )


def test_an_unknown_code_is_described_once_for_the_whole_workshop(door: Door, client: FlaskClient) -> None:
    job_id = check_in(client, "P1ABC")
    assert detail(client, job_id)["codes"][0]["known_from"] == "none"
    told = {"title": "Bilge heater relay", "about": "Seen on every slipway van."}
    answer = client.put(f"/api/v1/jobs/{job_id}/codes/P1ABC/meaning", json=told).get_json()
    assert answer["codes"][0]["known_from"] == "workshop"
    other = check_in(door("quay-lead"), "P1ABC")
    assert detail(client, other)["codes"][0]["title"] == "Bilge heater relay"
    elsewhere = check_in(door("mole-technician"), "P1ABC")
    assert detail(door("mole-technician"), elsewhere)["codes"][0]["known_from"] == "none", "another workshop's notes stay there"


# -- the vehicle interface ------------------------------------------------------------------------------


@pytest.fixture
def interface(door: Door) -> Iterator[DoipServer]:
    """A van with an open rear ground and an old coolant code, connected to every job that has no vehicle of its own."""
    faults = [HiddenFault("W66.open", "open"), HiddenFault("B6.open", "open", "gone")]
    server = DoipServer(lambda: DiagnosticVehicle(library_network("halden-tern"), faults, "WHDTRN16X00002709", speed=10.0))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    held = door.app.extensions["sondar"]
    door.app.extensions["sondar"] = replace(held, devices=replace(held.devices, vehicles={"": server.address}))
    yield server
    door.app.extensions["sondar"] = held
    server.shutdown()
    server.server_close()


def test_read_clear_and_read_again_through_the_interface(client: FlaskClient, interface: DoipServer) -> None:
    job_id = check_in(client)
    assert detail(client, job_id)["interface"] is True
    read = client.post(f"/api/v1/jobs/{job_id}/scans/vehicle", json={"client_key": key()})
    assert read.status_code == 201
    found = read.get_json()
    assert found["scans"][0]["modules"] == {"ECM": True, "BCM": True, "TSM": False}
    assert {c["code"] for c in found["codes"]} >= {"B1D10", "B1D11", "U0157", "P0118"}
    cleared = client.post(f"/api/v1/jobs/{job_id}/clearing", json={"client_key": key(), "by": "vehicle"})
    assert cleared.status_code == 201
    time.sleep(1.0)  # ten simulated seconds: every monitor with the key on has run
    again = client.post(f"/api/v1/jobs/{job_id}/scans/vehicle", json={"client_key": key(), "conditions": ["key cycled"]}).get_json()
    behaviour = {c["code"]: c["behaviour"] for c in again["codes"]}
    assert {behaviour[c] for c in ("B1D10", "B1D11", "U0157")} == {"hard"}
    assert behaviour["P0118"] in ("history", "intermittent")
    assert len(again["scans"][0]["codes"]) > len(again["scans"][1]["codes"]), "the list from before is kept"
    first = triage(client, job_id)["triage"]["candidates"][0]
    assert first["id"] == "shared:G7"


def test_an_interface_that_went_away_is_said_and_nothing_is_kept(client: FlaskClient, interface: DoipServer) -> None:
    job_id = check_in(client)
    held = client.application.extensions["sondar"]
    away = replace(held.devices, vehicles={"": "127.0.0.1:1"})
    client.application.extensions["sondar"] = replace(held, devices=away)
    answer = client.post(f"/api/v1/jobs/{job_id}/scans/vehicle", json={"client_key": key()})
    assert answer.status_code == 502
    assert "check its cable" in answer.get_json()["detail"]
    assert detail(client, job_id)["scans"] == []


# -- triage and diagnoses ----------------------------------------------------------------------------------


def test_from_codes_to_a_diagnosis_with_the_prior_of_the_triage(client: FlaskClient) -> None:
    job_id = check_in(client, REAR_GROUND_CODES)
    found = triage(client, job_id)
    assert found["available"] is True
    first = found["triage"]["candidates"][0]
    assert first["id"] == "shared:G7"
    versions = {c["slug"]: c["version_id"] for c in detail(client, job_id)["circuits"]}
    body = {"client_key": key(), "circuit_version_id": versions[first["open_circuit"]], "reason": first["reason"][:500]}
    opened = client.post(f"/api/v1/jobs/{job_id}/diagnoses", json=body)
    assert opened.status_code == 201
    measuring = client.get(f"/api/v1/diagnoses/{opened.get_json()['id']}").get_json()
    assert measuring["prior_reasons"][0] == "Prior probabilities from the triage"
    triage_prior = {s["unit"]: s["probability"] for s in measuring["assessment"]["suspects"]}
    cold = client.post(f"/api/v1/jobs/{job_id}/diagnoses", json={**body, "client_key": key(), "carry": False}).get_json()["id"]
    plain = {s["unit"]: s["probability"] for s in client.get(f"/api/v1/diagnoses/{cold}").get_json()["assessment"]["suspects"]}
    ground = max(triage_prior, key=lambda unit: triage_prior[unit])
    assert ground in measuring["assessment"]["suspects"][0]["unit"]
    assert triage_prior[ground] > 5 * plain.get(ground, 0.0), (triage_prior, plain)
    assert detail(client, job_id)["job"]["stage"] == "testing"
    assert client.post(f"/api/v1/jobs/{job_id}/diagnoses", json=body).get_json()["id"] == opened.get_json()["id"], (
        "sent twice, opened once"
    )


def test_symptoms_alone_and_nothing_at_all(client: FlaskClient) -> None:
    job_id = check_in(client)
    empty = triage(client, job_id)
    assert (empty["available"], empty["reason"]) == (False, "Read the codes, or say what is noticed.")
    say(client, job_id, "symptoms", ["washer-dead"])
    assert triage(client, job_id)["triage"]["candidates"][0]["id"] == "circuit:tern-washer-pump"


def test_what_was_worked_on_lately_raises_its_neighbours(client: FlaskClient) -> None:
    job_id = check_in(client)
    say(client, job_id, "symptoms", ["washer-dead"])
    versions = {c["slug"]: c["version_id"] for c in detail(client, job_id)["circuits"]}
    body = {"client_key": key(), "circuit_version_id": versions["tern-washer-pump"], "carry": False}
    diagnosis = client.post(f"/api/v1/jobs/{job_id}/diagnoses", json=body).get_json()["id"]

    def share(group: str) -> float:
        return float(client.get(f"/api/v1/diagnoses/{diagnosis}").get_json()["assessment"]["track"][0][group])

    before = share("wiring")
    say(client, job_id, "environment", ["salt"])
    salted = share("wiring")
    assert salted > before
    assert any("salt" in line.lower() for line in client.get(f"/api/v1/diagnoses/{diagnosis}").get_json()["prior_reasons"])


def test_a_vehicle_without_known_circuits_is_told_so(client: FlaskClient) -> None:
    job_id = check_in(client, "P0100", make="Brigg", model="Cob")
    found = triage(client, job_id)
    assert found["available"] is False
    assert "Brigg Cob are not known here" in found["reason"]


# -- notes, photographs, timeline -----------------------------------------------------------------------


def photo_with_place() -> io.BytesIO:
    picture = Image.new("RGB", (60, 40), "orange")
    exif = picture.getexif()
    exif[0x0112] = 6  # turned: must be stored upright
    exif[0x010F] = "Camera"
    exif.get_ifd(0x8825)[1] = "N"
    held = io.BytesIO()
    picture.save(held, "JPEG", exif=exif)
    held.seek(0)
    return held


def send(client: FlaskClient, job_id: str, picture: io.BytesIO) -> Any:
    data = {"client_key": key(), "caption": "plug X15", "picture": (picture, "a.jpg")}
    return client.post(f"/api/v1/jobs/{job_id}/photos", data=data, content_type="multipart/form-data")


def test_a_photograph_loses_where_it_was_taken_and_stands_upright(client: FlaskClient) -> None:
    job_id = check_in(client)
    made = send(client, job_id, photo_with_place())
    assert made.status_code == 201
    photo = made.get_json()["photos"][0]
    assert (photo["width"], photo["height"]) == (40, 60)
    full = client.get(f"/api/v1/jobs/{job_id}/photos/{photo['id']}")
    kept = Image.open(io.BytesIO(full.data))
    assert dict(kept.getexif()) == {}
    assert b"Camera" not in full.data
    assert full.headers["Content-Type"] == "image/jpeg"
    small = client.get(f"/api/v1/jobs/{job_id}/photos/{photo['id']}?size=thumbnail")
    assert max(Image.open(io.BytesIO(small.data)).size) <= 320


def test_what_is_no_picture_is_refused(client: FlaskClient) -> None:
    answer = send(client, check_in(client), io.BytesIO(b"<svg onload=alert(1)>"))
    assert answer.status_code == 422
    assert "JPEG, PNG or WebP" in answer.get_json()["errors"][0]["message"]


def test_the_timeline_tells_everything_in_order(client: FlaskClient) -> None:
    job_id = check_in(client, "BCM: B1D10 confirmed")
    say(client, job_id, "symptoms", ["trailer-dead"])
    client.post(f"/api/v1/jobs/{job_id}/notes", json={"client_key": key(), "body": "Green crust on the plug."})
    client.post(f"/api/v1/jobs/{job_id}/clearing", json={"client_key": key(), "by": "hand"})
    entries = client.get(f"/api/v1/jobs/{job_id}/timeline").get_json()["entries"]
    assert [e["kind"] for e in entries] == ["checked in", "codes read", "answer", "note", "codes cleared"]
    assert {e["by"] for e in entries} == {"quay technician"}
    assert entries[3]["text"] == "Green crust on the plug."


# -- search, sharing, events ----------------------------------------------------------------------------


def found_by(client: FlaskClient, question: str) -> list[str]:
    return [j["id"] for j in client.get("/api/v1/jobs", query_string={"q": question}).get_json()["jobs"]]


def test_a_job_is_found_by_what_people_remember(door: Door, client: FlaskClient) -> None:
    job_id = check_in(client, "ECM: P0193", plate="PA 55 SEEK")
    client.post(
        f"/api/v1/jobs/{job_id}/notes",
        json={"client_key": key(), "body": "The engine computer was opened before; marmalade inside."},
    )
    for question in ("PA55SEEK", "pa 55 seek", "p0193", "marmalade", "ECU marmalade", "engine control unit marmal"):
        until_found(client, question, lambda found: job_id in [j["id"] for j in found])
    assert job_id not in found_by(client, "marmalade P0480"), "all words must be there"
    assert found_by(door("mole-lead"), "marmalade") == [], "another workshop finds nothing"
    assert client.get("/api/v1/jobs", query_string={"q": "') & !! :*"}).status_code == 200


def test_pages_of_the_list_follow_each_other(client: FlaskClient) -> None:
    made = [check_in(client) for _ in range(3)]
    first = client.get("/api/v1/jobs?limit=2").get_json()
    second = client.get(f"/api/v1/jobs?limit=2&before={first['next_before']}").get_json()
    assert [j["id"] for j in first["jobs"] + second["jobs"]][:3] == made[::-1]


def test_a_share_link_opens_until_it_is_ended(door: Door, client: FlaskClient, job: Detail, dsn: str) -> None:
    client.post(f"/api/v1/diagnoses/{job['diagnosis']}/readings", json=reading("4.9"))
    client.post(f"/api/v1/jobs/{job['id']}/notes", json={"client_key": key(), "body": "customer is in a hurry"})
    made = client.post(f"/api/v1/jobs/{job['id']}/shares", json={"days": 2}).get_json()
    stranger = door.nobody()
    shown = stranger.get(f"/api/v1/shared/{made['token']}")
    assert shown.status_code == 200
    assert shown.get_json()["diagnoses"][0]["readings"][0]["entry"] == "4.90 V"
    assert b"in a hurry" not in shown.data
    assert b"quay technician" not in shown.data
    with psycopg.connect(dsn) as db:
        kept = db.execute("SELECT token_sha256 FROM share WHERE id = %s", (made["shares"][0]["id"],)).fetchone()
    assert kept is not None
    assert made["token"].encode() not in kept[0], "the secret itself is not stored"
    client.delete(f"/api/v1/jobs/{job['id']}/shares/{made['shares'][0]['id']}")
    assert stranger.get(f"/api/v1/shared/{made['token']}").status_code == 404
    late = client.post(f"/api/v1/jobs/{job['id']}/shares", json={"days": 1}).get_json()
    with psycopg.connect(dsn) as db:
        db.execute("UPDATE share SET expires_at = now() - interval '1 second' WHERE id = %s", (late["shares"][0]["id"],))
    assert stranger.get(f"/api/v1/shared/{late['token']}").status_code == 404, "after its date it opens nothing"


def test_how_a_vehicle_is_switched_on_stays_with_it_and_is_said_at_each_step(client: FlaskClient, job: Detail) -> None:
    path = f"/api/v1/diagnoses/{job['diagnosis']}"
    apart = {
        "instrument": "voltmeter",
        "red": "X31.1",
        "black": "BAT.neg",
        "setup": {"controls": {"key": "on"}, "unplugged": ["X31"]},
    }
    assert "key on" in client.post(f"{path}/preview", json=apart).get_json()["steps"]
    assert say(client, job["id"], "starting", "steam").status_code == 422
    assert say(client, job["id"], "starting", "hybrid").status_code == 200
    found = client.post(f"{path}/preview", json=apart).get_json()
    assert any("READY stays out" in step for step in found["steps"])
    assert any(caution.startswith("A silent hybrid") for caution in found["cautions"])
    listening = {**apart, "instrument": "live-data", "setup": {"controls": {"key": "on"}, "unplugged": []}}
    seen = client.post(f"{path}/preview", json={**listening, "red": "AIN"}).get_json()
    assert not any(caution.startswith("A silent hybrid") for caution in seen["cautions"]), "no hand goes anywhere"
    body = {"client_key": key(), "vehicle_id": job["vehicle_id"], "circuit_version_id": job["circuit_version_id"]}
    again = client.post("/api/v1/jobs", json=body).get_json()
    assert again["starting"] == "hybrid", "the next visit knows"
