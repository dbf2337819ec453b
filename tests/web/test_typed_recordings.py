"""Figures typed from a display, one channel over another, and recordings of good vehicles that others are held against."""

from __future__ import annotations

from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from tests.web.conftest import Door
from tests.web.test_any_vehicle import get
from tests.web.test_check_in import check_in

PRESSURE = {"name": "Tank pressure", "unit": "kPa", "rest": 100.0, "least": 97.5, "command_off": 100.0, "command_on": 97.6}
FLOW = {"name": "Purge flow", "unit": "g/s", "rest": 0.0, "command_off": 0.0, "command_on": 0.4}


def typed(client: FlaskClient, job_id: str, **more: Any) -> Any:
    body = {"client_key": str(uuid4()), "name": "Read off", "channels": [PRESSURE, FLOW], "command": "Purge valve", **more}
    return client.post(f"/api/v1/jobs/{job_id}/recordings/typed", json=body)


def test_what_was_read_off_a_display_is_a_recording_of_levels_and_nothing_else(client: FlaskClient) -> None:
    job_id = check_in(client)
    made = typed(client, job_id)
    assert made.status_code == 201, made.json
    assert (made.json["state"], made.json["source"]) == ("ready", "typed")
    opened = get(client, f"/recordings/{made.json['id']}")
    assert [(one["name"], one["unit"], one["least"], one["greatest"]) for one in opened["channels"]] == [
        ("Tank pressure", "kPa", 97.5, 100.0), ("Purge flow", "g/s", 0.0, 0.4),
    ]  # fmt: skip
    assert [mark["text"] for mark in opened["marks"]] == ["at rest", "least", "command off", "command on"]
    assert opened["lanes"][0]["name"] == "Purge valve"
    assert "how fast is not known" in opened["recording"]["notes"][0]
    commanded = {"channel": 0, "start_s": 4.0, "end_s": 5.0}
    [level] = get(client, f"/recordings/{made.json['id']}/features", **commanded)["features"]
    assert (level["kind"], level["title"]) == ("level", "Tank pressure at Purge valve on")
    assert level["value"] == pytest.approx(97.6)
    whole = get(client, f"/recordings/{made.json['id']}/features", channel=0, start_s=0.0, end_s=5.0)["features"]
    assert {one["kind"] for one in whole} <= {"level"}, "no response, no dropouts: nobody watched between"


def test_one_channel_is_drawn_over_the_other_where_both_were_taken(client: FlaskClient) -> None:
    made = typed(client, check_in(client)).json["id"]
    found = get(client, f"/recordings/{made}/pairs", channel=0, other=1, start_s=0.0, end_s=5.0)
    assert found["t"][0] == 0.0
    assert (found["first"][-1], found["second"][-1]) == (pytest.approx(97.6), pytest.approx(0.4))
    assert len(found["t"]) == len(found["first"]) == len(found["second"])
    apart = get(client, f"/recordings/{made}/pairs", channel=0, other=1, start_s=1.0, end_s=1.6)
    assert apart == {"t": [], "first": [], "second": []}, "the flow was not read then"
    assert (
        client.get(
            f"/api/v1/recordings/{made}/pairs", query_string={"channel": 0, "other": 7, "start_s": 0, "end_s": 5}
        ).status_code
        == 404
    )


@pytest.mark.parametrize(
    "more",
    [{"channels": [{"name": "Empty", "unit": "V"}]}, {"channels": []}, {"name": ""}, {"channels": [{**PRESSURE, "rest": 1e300}]}],
)
def test_typed_figures_must_be_figures(client: FlaskClient, more: dict[str, Any]) -> None:
    job_id = check_in(client)
    assert typed(client, job_id, **more).status_code == 422
    assert get(client, f"/jobs/{job_id}/recordings")["recordings"] == []


def test_the_same_key_keeps_one_recording(client: FlaskClient) -> None:
    job_id, key = check_in(client), str(uuid4())
    first, again = typed(client, job_id, client_key=key), typed(client, job_id, client_key=key)
    assert first.json["id"] == again.json["id"]
    assert len(get(client, f"/jobs/{job_id}/recordings")["recordings"]) == 1


def test_a_good_vehicle_is_there_for_others_of_its_kind(client: FlaskClient, door: Door) -> None:
    model = f"Skerry {uuid4().hex[:5]}"
    good = typed(client, check_in(client, make="Brigg", model=model), name="A good one").json["id"]
    said = client.put(f"/api/v1/recordings/{good}/known-good", json={"said": "warm, at idle"})
    assert (said.status_code, said.json["known_good"]) == (200, "warm, at idle")
    assert said.json["good_ones"] == [], "not against itself"
    other = typed(client, check_in(client, make="brigg", model=model.upper())).json["id"]
    assert get(client, f"/recordings/{other}")["good_ones"] == [{"id": good, "name": "A good one", "said": "warm, at idle"}]
    stranger = typed(client, check_in(client, make="Brigg", model="Nobody")).json["id"]
    assert get(client, f"/recordings/{stranger}")["good_ones"] == []
    assert door("mole-technician").put(f"/api/v1/recordings/{good}/known-good", json={"said": "mine"}).status_code == 404
    assert client.put(f"/api/v1/recordings/{good}/known-good", json={"said": ""}).json["known_good"] == ""
    assert get(client, f"/recordings/{other}")["good_ones"] == []
