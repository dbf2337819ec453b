"""Repairs over HTTP: what was measured before speaks about the vehicle before, and closing needs the proof."""

from __future__ import annotations

from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from tests.web.conftest import Door, reading

CUT = [("5.01", "X2.11", "BAT.neg"), ("0.00", "X31.1", "BAT.neg"), ("0.00", "X31.2", "BAT.neg"), ("5.01", "X12.7", "BAT.neg")]


@pytest.fixture
def cut(client: FlaskClient, job: dict[str, Any]) -> dict[str, Any]:
    """A job on which the wire W2 has been found open."""
    url = f"/api/v1/diagnoses/{job['diagnosis']}"
    for entry, red, black in CUT:
        answer = client.post(f"{url}/readings", json=reading(entry, red=red, black=black))
        assert answer.status_code == 201, answer.get_json()
    return {**job, "url": url}


def repair(client: FlaskClient, cut: dict[str, Any], **more: Any) -> Any:
    body = {"client_key": str(uuid4()), "units": ["W2"], "action": "Replaced", **more}
    return client.post(f"{cut['url']}/repairs", json=body)


def put_back(client: FlaskClient, cut: dict[str, Any]) -> None:
    """Say that everything is as it was."""
    job = client.get(f"/api/v1/jobs/{cut['id']}").get_json()
    body = {"client_key": str(uuid4()), "value": [item["key"] for item in job["put_back"]], "seen_seq": job["job"]["last_seq"]}
    assert client.put(f"/api/v1/jobs/{cut['id']}/answers/put_back", json=body).status_code == 200


def close(client: FlaskClient, cut: dict[str, Any]) -> Any:
    body = {"client_key": str(uuid4()), "value": "closed", "seen_seq": 0}
    return client.put(f"/api/v1/jobs/{cut['id']}/answers/stage", json=body)


def test_after_a_repair_the_same_tests_are_to_be_verified(client: FlaskClient, cut: dict[str, Any]) -> None:
    before = client.get(cut["url"]).get_json()
    assert before["assessment"]["conclusion"]["units"] == ["W2"]
    assert before["to_verify"] == []
    answer = repair(client, cut)
    assert answer.status_code == 201
    after = answer.get_json()
    assert after["job"]["stage"] == "verify"
    assert after["repairs"][0]["titles"][0].startswith("Wire W2")
    assert after["assessment"]["conclusion"]["units"] == ["none"]
    assert {effect["reading"] for effect in after["assessment"]["effects"]} == {item["id"] for item in after["readings"]}
    wanted = {item["test"]["red"]: item for item in after["to_verify"]}
    assert set(wanted) == {"X2.11"}, "the first that failed; the others failed by the same fault"
    assert wanted["X2.11"]["passed"] is None
    assert wanted["X2.11"]["before"] == "5.01 V"
    assert "Not verified yet" in after["assessment"]["conclusion"]["sentence"]


def test_a_job_is_closed_when_what_failed_is_within_its_range(client: FlaskClient, cut: dict[str, Any]) -> None:
    repair(client, cut)
    refused = close(client, cut)
    assert refused.status_code == 409
    assert "X2.11" in refused.get_json()["detail"]
    still = client.post(f"{cut['url']}/readings", json=reading("4.99", red="X2.11")).get_json()
    assert [item["passed"] for item in still["to_verify"]] == [False]
    assert close(client, cut).status_code == 409
    client.post(f"{cut['url']}/readings/{still['readings'][-1]['id']}/void", json={"client_key": str(uuid4()), "reason": "Misread"})
    client.post(f"{cut['url']}/readings", json=reading("2.74", red="X31.1"))
    proved = client.post(f"{cut['url']}/readings", json=reading("2.76", red="X2.11")).get_json()
    assert all(item["passed"] for item in proved["to_verify"])
    assert "After the repair" in proved["assessment"]["conclusion"]["sentence"]
    put_back(client, cut)
    assert close(client, cut).status_code == 200


def test_a_job_without_a_repair_is_closed_as_ever(client: FlaskClient, cut: dict[str, Any]) -> None:
    put_back(client, cut)
    assert close(client, cut).status_code == 200


def test_a_repeat_changes_nothing_and_the_timeline_tells(client: FlaskClient, cut: dict[str, Any]) -> None:
    key = str(uuid4())
    assert repair(client, cut, client_key=key).status_code == 201
    again = repair(client, cut, client_key=key).get_json()
    assert len(again["repairs"]) == 1
    entries = client.get(f"/api/v1/jobs/{cut['id']}/timeline").get_json()
    rows = entries if isinstance(entries, list) else next(iter(entries.values()))
    assert [row["text"] for row in rows if row["kind"] == "repair"] == ["Replaced"]


def test_what_cannot_have_been_repaired_is_named(client: FlaskClient, cut: dict[str, Any]) -> None:
    answer = repair(client, cut, units=["W2", "moon"])
    assert answer.status_code == 422
    assert "moon" in answer.get_json()["detail"]
    assert repair(client, cut, units=[]).status_code == 422
    assert repair(client, cut, action="").status_code == 422


def test_a_reader_records_no_repair(door: Door, client: FlaskClient, cut: dict[str, Any]) -> None:
    assert repair(door("quay-read-only"), cut).status_code == 403
