"""Words of earlier versions and of today at the API: lists, former names in requests and files, what another engine said."""

from __future__ import annotations

from typing import Any
from uuid import UUID, uuid4

import psycopg
import pytest
from flask.testing import FlaskClient

from sondar.core import ENGINE_VERSION
from sondar.core.instruments import INSTRUMENTS
from sondar.store import evidence
from sondar.store.database import act_for
from sondar.store.jobs import STAGES
from sondar.web.application import create_app
from tests.conftest import FAN_TEXT
from tests.web.conftest import reading


def test_everything_that_is_chosen_from_is_served_once(client: FlaskClient) -> None:
    lists = client.get("/api/v1/lists").get_json()
    assert lists["stages"] == list(STAGES)
    assert [item["id"] for item in lists["instruments"]] == list(INSTRUMENTS)
    assert {role["key"] for role in lists["roles"]} == {"read-only", "technician", "lead"}
    for term in lists["glossary"]:
        assert term["meaning"].endswith(".")
        assert term["matters"].endswith(".")
    assert "expected range" in {term["term"] for term in lists["glossary"]}


def test_a_file_in_former_words_is_taken_and_told(client: FlaskClient) -> None:
    text = FAN_TEXT.replace("synonyms:", "also:", 1).replace("id: radiator-fan-relay", "id: former-fan", 1)
    made = client.post("/api/v1/circuits", json={"text": text})
    assert made.status_code == 201
    line = next(number for number, words in enumerate(text.splitlines(), 1) if words.startswith("also:"))
    assert [(note["line"], "synonyms" in note["message"]) for note in made.get_json()["notes"]] == [(line, True)]


def test_a_reading_by_a_former_id_counts_as_todays(client: FlaskClient, job: dict[str, Any]) -> None:
    url = f"/api/v1/diagnoses/{job['diagnosis']}/readings"
    former = reading("sound", red="X31", instrument="look", setup={"controls": {}, "unplugged": []})
    answer = client.post(url, json=former)
    assert answer.status_code == 201, answer.get_json()
    (made,) = answer.get_json()["readings"]
    assert (made["instrument"], made["label"], made["entry"]) == ("visual-inspection", "OK", "sound"), "what was typed is kept"


@pytest.mark.parametrize(("engine", "units", "differs"), [("1", ["W3"], True), ("1", None, False), (ENGINE_VERSION, ["W3"], False)])
def test_what_another_engine_said_is_shown_where_it_differs(
    client: FlaskClient, job: dict[str, Any], dsn: str, engine: str, units: list[str] | None, differs: bool
) -> None:
    url = f"/api/v1/diagnoses/{job['diagnosis']}"
    now = client.post(f"{url}/readings", json=reading("4.98")).get_json()
    assert now["said_before"] is None
    leading = now["assessment"]["conclusion"]["units"]
    assert leading != ["W3"]
    with psycopg.connect(dsn) as db:
        row = db.execute("SELECT workshop_id FROM job WHERE id = %s", (job["id"],)).fetchone()
        assert row is not None
        act_for(db, row[0])
        evidence.add_statement(
            db,
            UUID(job["diagnosis"]),
            1,
            UUID(now["readings"][0]["id"]),
            engine,
            "Component: Ambient sensor open.",
            units or leading,
            0.97,
        )
        db.commit()
    said = client.get(url).get_json()["said_before"]
    if differs:
        assert said["sentence"] == "Component: Ambient sensor open."
        assert said["engine"] == engine
        again = client.post(f"{url}/readings", json=reading("4.97", client_key=str(uuid4()))).get_json()
        assert again["said_before"] is None, "the evidence is another now"
    else:
        assert said is None


def test_a_share_link_opens_in_an_application_that_has_computed_nothing_yet(
    client: FlaskClient, job: dict[str, Any], app_dsn: str
) -> None:
    client.post(f"/api/v1/diagnoses/{job['diagnosis']}/readings", json=reading("4.98"))
    token = client.post(f"/api/v1/jobs/{job['id']}/shares", json={"days": 1}).get_json()["token"]
    cold = create_app(app_dsn, "", prepare=False, vehicles={})
    try:
        answer = cold.test_client().get(f"/api/v1/shared/{token}")
        assert answer.status_code == 200
        (diagnosis,) = answer.get_json()["diagnoses"]
        assert [(item["entry"], item["within_expected"]) for item in diagnosis["readings"]] == [("4.98 V", False)]
    finally:
        cold.extensions["sondar"].close()


def test_the_words_of_a_repair_are_those_that_are_kept(client: FlaskClient, job: dict[str, Any]) -> None:
    words = client.get("/api/v1/lists").get_json()["repair"]
    lines = {
        "parts": [
            f"Relay | | | {condition} | | | {checked} | "
            for condition in words["part_conditions"]
            for checked in words["part_checked"]
        ],
        "harness_repairs": [f"Wire | here | | {method} | | | " for method in words["harness_methods"]],
        "removed_parts": [f"Relay | {wear} | seen | {compared} | " for wear in words["wear"] for compared in words["compared"]],
        "bypasses": [f"Relay | to drive home | | {state}" for state in words["bypass_states"]],
    }
    for field, value in lines.items():
        for start in range(0, len(value), 20):
            body = {"client_key": str(uuid4()), "value": value[start : start + 20], "seen_seq": 2_000_000_000}
            kept = client.put(f"/api/v1/jobs/{job['id']}/answers/{field}", json=body)
            assert kept.status_code == 200, kept.get_json()
