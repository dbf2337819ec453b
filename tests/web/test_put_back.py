"""What readings leave on a vehicle is known, confirmed one by one, and asked for before a job is closed."""

from __future__ import annotations

from typing import Any
from uuid import uuid4

from flask.testing import FlaskClient

from tests.web.conftest import reading

APART = {"controls": {"key": "on"}, "unplugged": ["X31"]}
REST: dict[str, Any] = {"controls": {}, "unplugged": []}


def measure(client: FlaskClient, job: dict[str, Any], setup: dict[str, Any], **more: Any) -> dict[str, Any]:
    answer = client.post(f"/api/v1/diagnoses/{job['diagnosis']}/readings", json={**reading("4.98"), "setup": setup, **more})
    assert answer.status_code == 201, answer.get_json()
    found: dict[str, Any] = answer.get_json()
    return found


def left(client: FlaskClient, job: dict[str, Any]) -> dict[str, bool]:
    items = client.get(f"/api/v1/jobs/{job['id']}").get_json()["put_back"]
    return {item["title"]: item["done"] for item in items}


def confirm(client: FlaskClient, job: dict[str, Any], *words: str) -> None:
    detail = client.get(f"/api/v1/jobs/{job['id']}").get_json()
    keys = [item["key"] for item in detail["put_back"] if any(word in item["title"] for word in words)]
    body = {"client_key": str(uuid4()), "value": keys, "seen_seq": detail["job"]["last_seq"]}
    assert client.put(f"/api/v1/jobs/{job['id']}/answers/put_back", json=body).status_code == 200


def close(client: FlaskClient, job: dict[str, Any]) -> Any:
    body = {"client_key": str(uuid4()), "value": "closed", "seen_seq": 0}
    return client.put(f"/api/v1/jobs/{job['id']}/answers/stage", json=body)


def test_nothing_measured_is_nothing_to_put_back(client: FlaskClient, job: dict[str, Any]) -> None:
    assert left(client, job) == {}
    assert close(client, job).status_code == 200


def test_the_key_is_off_before_a_connector_is_connected(client: FlaskClient, job: dict[str, Any]) -> None:
    measure(client, job, APART)
    titles = list(left(client, job))
    assert titles[0] == "Key: back to off"
    assert titles[1].startswith("Connect X31")


def test_a_job_is_closed_when_each_is_confirmed(client: FlaskClient, job: dict[str, Any]) -> None:
    measure(client, job, APART)
    confirm(client, job, "X31")
    refused = close(client, job)
    assert refused.status_code == 409
    assert "Key: back to off" in refused.get_json()["detail"]
    assert "X31" not in refused.get_json()["detail"]
    confirm(client, job, "X31", "Key")
    assert all(left(client, job).values())
    assert close(client, job).status_code == 200


def test_the_next_reading_tells_by_itself_what_is_back(client: FlaskClient, job: dict[str, Any]) -> None:
    measure(client, job, APART)
    measure(client, job, REST, red="X2.11")
    assert left(client, job) == {}


def test_who_only_looks_at_a_sealed_plug_leaves_no_lead(client: FlaskClient, job: dict[str, Any]) -> None:
    instruments = client.get(f"/api/v1/circuits/{job['circuit_version_id']}").get_json()["instruments"]
    looking = next(item for item in instruments if item["id"] == "visual-inspection")
    measure(client, job, REST, instrument="visual-inspection", red="X31", entry=looking["words"][-1]["word"])
    assert left(client, job) == {}


def test_a_break_out_lead_at_a_sealed_plug_is_to_be_taken_out(client: FlaskClient, job: dict[str, Any]) -> None:
    measure(client, job, REST)
    [title] = left(client, job)
    assert title.startswith("Break-out lead at X31: take it out")
    assert "Break-out lead" in close(client, job).get_json()["detail"]
    confirm(client, job, "Break-out lead")
    assert close(client, job).status_code == 200


def test_taken_apart_again_it_is_to_be_put_back_again(client: FlaskClient, job: dict[str, Any]) -> None:
    measure(client, job, APART)
    confirm(client, job, "X31", "Key")
    measure(client, job, APART, red="X31.2")
    assert not any(left(client, job).values())


def test_a_voided_reading_left_nothing(client: FlaskClient, job: dict[str, Any]) -> None:
    shown = measure(client, job, APART)
    url = f"/api/v1/diagnoses/{job['diagnosis']}/readings/{shown['readings'][-1]['id']}/void"
    client.post(url, json={"client_key": str(uuid4()), "reason": "Never done"})
    assert left(client, job) == {}


def test_a_part_on_trial_comes_out_or_becomes_the_repair(client: FlaskClient, job: dict[str, Any]) -> None:
    trial = {"instrument": "substitution", "red": "B9", "black": "BAT.neg"}
    words = client.get(f"/api/v1/circuits/{job['circuit_version_id']}").get_json()["instruments"]
    device = next(item for item in words if item["id"] == "substitution")
    measure(client, job, REST, **{**trial, "entry": device["words"][0]["word"]})
    assert [title for title in left(client, job) if "on trial" in title]
    repair = {"client_key": str(uuid4()), "units": ["B9"], "action": "Replaced", "substituted": True}
    assert client.post(f"/api/v1/diagnoses/{job['diagnosis']}/repairs", json=repair).status_code == 201
    assert not [title for title in left(client, job) if "on trial" in title]
