"""Outside programs, erasing personal data, retention, room for photographs, examples that can be hidden."""

from __future__ import annotations

import io
from collections.abc import Iterator
from typing import Any
from uuid import uuid4

import psycopg
import pytest
from flask.testing import FlaskClient
from PIL import Image

from sondar.circuit_files import library_vehicles
from sondar.web.services import Services
from tests.web.conftest import Door, reading

SETTINGS = (
    "name", "rate_per_hour", "currency", "decision_threshold", "distance_unit", "temperature_unit", "tools", "alone", "show_examples",
    "photo_quota_mb", "recording_quota_mb", "erase_after_months", "group_shares", "version",
)  # fmt: skip


def change(lead: FlaskClient, **values: Any) -> Any:
    shop = lead.get("/api/v1/session").get_json()["workshop"]
    answer = lead.put("/api/v1/workshop", json={**{name: shop[name] for name in SETTINGS}, **values})
    assert answer.status_code == 200, answer.get_json()


@pytest.fixture
def lead(door: Door) -> Iterator[FlaskClient]:
    """The workshop lead, with the settings put back afterwards."""
    person = door("quay-lead")
    yield person
    change(person, show_examples=True, photo_quota_mb=5000, recording_quota_mb=20000, erase_after_months=None, alone=False)


def photo(client: FlaskClient, job: dict[str, Any], size: int = 60) -> Any:
    held = io.BytesIO()
    Image.effect_noise((size, size), 90).save(held, "PNG")
    held.seek(0)
    data = {"client_key": str(uuid4()), "caption": "", "picture": (held, "p.png")}
    return client.post(f"/api/v1/jobs/{job['id']}/photos", data=data, content_type="multipart/form-data")


@pytest.fixture
def told(client: FlaskClient, job: dict[str, Any]) -> dict[str, Any]:
    """A job that says whose vehicle it is, in every place where one can."""
    url = f"/api/v1/jobs/{job['id']}"
    for field, value in (("plate", "PA 77 XQZ"), ("complaint", "Shows dashes, says O. Quillfeather")):
        seen = client.get(url).get_json()["job"]["last_seq"]
        put = client.put(f"{url}/answers/{field}", json={"client_key": str(uuid4()), "value": value, "seen_seq": seen})
        assert put.status_code == 200, put.get_json()
    client.post(f"{url}/notes", json={"client_key": str(uuid4()), "body": "Quillfeather wants it on Friday"})
    assert photo(client, job).status_code == 201
    body = reading("4.99", note="Quillfeather was there")
    assert client.post(f"/api/v1/diagnoses/{job['diagnosis']}/readings", json=body).status_code == 201
    link = client.post(f"{url}/shares", json={"days": 3}).get_json()
    return {**job, "url": url, "link": link["token"]}


# -- outside programs -----------------------------------------------------------------------------------


def token(lead: FlaskClient, role: str) -> str:
    made = lead.post("/api/v1/programs", json={"name": f"Program {role}", "role": role})
    assert made.status_code == 201
    found: str = made.get_json()["token"]
    return found


def test_a_program_records_under_its_own_name(door: Door, lead: FlaskClient, job: dict[str, Any]) -> None:
    outside, key = door.nobody(), {"Authorization": f"Bearer {token(lead, 'technician')}"}
    answer = outside.post(f"/api/v1/diagnoses/{job['diagnosis']}/readings", json=reading("4.98"), headers=key)
    assert answer.status_code == 201, answer.get_json()
    assert answer.get_json()["readings"][0]["by"] == "Program technician"
    assert outside.get("/api/v1/jobs").status_code == 401, "a token is sent with every request"


def test_what_a_token_may_is_its_role(door: Door, lead: FlaskClient, job: dict[str, Any]) -> None:
    outside, key = door.nobody(), {"Authorization": f"Bearer {token(lead, 'read-only')}"}
    assert outside.get(f"/api/v1/diagnoses/{job['diagnosis']}", headers=key).status_code == 200
    assert outside.post(f"/api/v1/diagnoses/{job['diagnosis']}/readings", json=reading("5"), headers=key).status_code == 403
    for route in ("/accounts", "/audit", "/programs"):
        assert outside.get(f"/api/v1{route}", headers=key).status_code == 403, route
    refused = lead.post("/api/v1/programs", json={"name": "x", "role": "lead"})
    assert refused.status_code == 422


def test_a_token_that_was_ended_or_made_up_opens_nothing(door: Door, lead: FlaskClient) -> None:
    key = {"Authorization": f"Bearer {token(lead, 'read-only')}"}
    outside = door.nobody()
    assert outside.get("/api/v1/jobs", headers=key).status_code == 200
    program = lead.get("/api/v1/programs").get_json()["programs"][0]
    ended = lead.delete(f"/api/v1/programs/{program['id']}").get_json()["programs"]
    assert [item["active"] for item in ended if item["id"] == program["id"]] == [False]
    assert outside.get("/api/v1/jobs", headers=key).status_code == 401
    assert outside.get("/api/v1/jobs", headers={"Authorization": "Bearer sondar_madeup"}).status_code == 401


def test_programs_are_no_people(door: Door, lead: FlaskClient) -> None:
    token(lead, "technician")
    people = lead.get("/api/v1/accounts").get_json()["accounts"]
    assert not [item for item in people if item["sign_in"].startswith("program-")]
    own, other = (
        {p["id"] for p in door(f"{place}-lead").get("/api/v1/programs").get_json()["programs"]} for place in ("quay", "mole")
    )
    assert own
    assert not own & other, "another workshop's"


# -- erasing --------------------------------------------------------------------------------------------


def everything(client: FlaskClient, told: dict[str, Any]) -> str:
    """All that the application says of a job."""
    parts = [client.get(told["url"]), client.get(f"{told['url']}/timeline"), client.get(f"/api/v1/diagnoses/{told['diagnosis']}")]
    return " ".join(part.get_data(as_text=True) for part in parts)


def test_erasing_leaves_the_technical_record(
    client: FlaskClient, lead: FlaskClient, told: dict[str, Any], door: Door, dsn: str
) -> None:
    assert "XQZ" in everything(client, told)
    picture = client.get(told["url"]).get_json()["photos"][0]["id"]
    assert door.nobody().get(f"/api/v1/shared/{told['link']}").status_code == 200
    assert client.post(f"{told['url']}/erasure", json={"words": True}).status_code == 403, "for a workshop lead"
    answer = lead.post(f"{told['url']}/erasure", json={"words": True})
    assert answer.status_code == 200, answer.get_json()
    assert answer.get_json()["job"]["erased_at"]
    said = everything(client, told)
    assert "XQZ" not in said
    assert "Quillfeather" not in said
    assert client.get(f"{told['url']}/photos/{picture}").status_code == 404
    assert [item["entry"] for item in client.get(f"/api/v1/diagnoses/{told['diagnosis']}").get_json()["readings"]] == ["4.99"]
    assert door.nobody().get(f"/api/v1/shared/{told['link']}").status_code == 404
    with psycopg.connect(dsn) as db:  # in no table at all, the text that is searched among them
        held: Services = door.app.extensions["sondar"]
        held._refresh_search()
        for table in ("job", "vehicle", "answer", "note", "reading", "photo"):
            rows = db.execute(
                f"SELECT count(*) FROM {table} t WHERE t::text ILIKE '%quillfeather%' OR t::text ILIKE '%xqz%'"
            ).fetchone()
            assert rows == (0,), table


def test_words_stay_where_only_the_vehicle_is_to_be_forgotten(client: FlaskClient, lead: FlaskClient, told: dict[str, Any]) -> None:
    lead.post(f"{told['url']}/erasure", json={"words": False})
    said = everything(client, told)
    assert "XQZ" not in said
    assert "wants it on Friday" in said


def test_who_asked_for_a_setting_goes_and_the_way_back_stays(client: FlaskClient, lead: FlaskClient, told: dict[str, Any]) -> None:
    lines = {
        "settings_changed": ["Idle speed | 680 | 720 | Mrs Quillfeather | within the range | basic setting 12, value 680"],
        "bypasses": ["Fan relay, a wire | Quillfeather drove home |  | taken out"],
    }
    for field, value in lines.items():
        body = {"client_key": str(uuid4()), "value": value, "seen_seq": 2_000_000_000}
        assert client.put(f"{told['url']}/answers/{field}", json=body).status_code == 200
    lead.post(f"{told['url']}/erasure", json={"words": True})
    kept = client.get(told["url"]).get_json()["answers"]
    assert kept["settings_changed"]["value"] == [
        "Idle speed | 680 | 720 | (erased) | within the range | basic setting 12, value 680"
    ]
    assert kept["bypasses"]["value"] == []


def test_evidence_is_still_only_added_to(app_dsn: str, told: dict[str, Any], dsn: str) -> None:
    """Erasing is the one exception, and only inside its own function."""
    with psycopg.connect(dsn) as db, pytest.raises(psycopg.Error, match="appended, never changed"):
        db.execute("UPDATE note SET body = 'other'")
    with psycopg.connect(app_dsn) as db, pytest.raises(psycopg.Error, match="permission denied"):
        db.execute("DELETE FROM photo")


def test_another_workshops_vehicle_is_not_erased(door: Door, told: dict[str, Any], client: FlaskClient) -> None:
    assert door("mole-lead").post(f"{told['url']}/erasure", json={"words": True}).status_code == 404
    assert "XQZ" in everything(client, told)


@pytest.mark.parametrize(("stage", "months_ago", "gone"), [("closed", 7, True), ("closed", 5, False), ("testing", 7, False)])
def test_what_was_kept_long_enough_goes_by_itself(
    client: FlaskClient, lead: FlaskClient, told: dict[str, Any], door: Door, dsn: str, stage: str, months_ago: int, gone: bool
) -> None:
    change(lead, erase_after_months=6)
    with psycopg.connect(dsn) as db:
        db.execute(
            "UPDATE job SET stage = %s, touched_at = now() - make_interval(months => %s) WHERE id = %s",
            (stage, months_ago, told["id"]),
        )
    held: Services = door.app.extensions["sondar"]
    held._erase_what_is_due()
    assert ("XQZ" not in everything(client, told)) is gone


# -- room and examples ----------------------------------------------------------------------------------


def test_photographs_have_a_quota(client: FlaskClient, lead: FlaskClient, job: dict[str, Any]) -> None:
    assert photo(client, job).status_code == 201
    used = client.get("/api/v1/workshop/storage").get_json()
    assert used["photo_mb"] > 0
    change(lead, photo_quota_mb=10)
    answers = [photo(client, job, 1900) for _ in range(4)]  # noise is 3.6 MB each
    assert answers[-1].status_code == 413
    assert "10 MB" in answers[-1].get_json()["detail"]
    assert client.get("/api/v1/workshop/storage").get_json()["photo_mb"] < 10
    body = reading("4.97")
    assert client.post(f"/api/v1/diagnoses/{job['diagnosis']}/readings", json=body).status_code == 201, "readings always have room"


def test_recordings_have_a_quota(client: FlaskClient, lead: FlaskClient, job: dict[str, Any]) -> None:
    change(lead, recording_quota_mb=10)
    wanted = {"client_key": str(uuid4()), "name": "long.csv", "bytes": 30_000_000}
    refused = client.post(f"/api/v1/jobs/{job['id']}/recordings", json=wanted)
    assert refused.status_code == 413
    assert "10 MB" in refused.get_json()["detail"]
    before = client.get("/api/v1/workshop/storage").get_json()
    assert before["recording_mb"] < before["recording_quota_mb"] == 10
    change(lead, recording_quota_mb=20000)
    assert client.post(f"/api/v1/jobs/{job['id']}/recordings", json=wanted).status_code == 201
    held = client.get("/api/v1/workshop/storage").get_json()["recording_mb"]
    assert held == pytest.approx(before["recording_mb"] + 30.0), "a file that is arriving takes its room"


def test_examples_are_marked_and_can_be_hidden(client: FlaskClient, lead: FlaskClient, job: dict[str, Any]) -> None:
    circuits = client.get("/api/v1/circuits").get_json()["circuits"]
    own = [item["slug"] for item in circuits if not item["example"]]
    assert len([item for item in circuits if item["example"]]) > 20
    models = client.get("/api/v1/vehicle-models").get_json()["models"]
    own_models = [item for item in models if not item["example"]]  # other tests may have made some
    assert len(models) - len(own_models) == len(library_vehicles())
    change(lead, show_examples=False)
    assert [item["slug"] for item in client.get("/api/v1/circuits").get_json()["circuits"]] == own
    assert client.get("/api/v1/vehicle-models").get_json()["models"] == own_models
    assert client.get(f"/api/v1/jobs/{job['id']}").status_code == 200, "jobs that use one go on"
