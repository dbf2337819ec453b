"""The estimate over HTTP: lines that are written or follow from the work, sums, acceptance; links that stay as they were sent; returns."""

from __future__ import annotations

import csv
import io
from typing import Any
from uuid import uuid4

import pikepdf
import psycopg
import pytest
from flask.testing import FlaskClient

from tests.web.conftest import Door, reading
from tests.web.test_check_in import check_in
from tests.web.test_repairs import cut, repair
from tests.web.test_routes import picture

__all__ = ["cut"]

ALWAYS = 2_000_000_000
LINES = ["Repair wire W2 | labour | 0,75 | 92.50", "Splice set | part | 2 | 3.335"]


def key() -> dict[str, str]:
    return {"client_key": str(uuid4())}


def say(client: FlaskClient, job_id: str, field: str, value: Any) -> Any:
    return client.put(f"/api/v1/jobs/{job_id}/answers/{field}", json={**key(), "value": value, "seen_seq": ALWAYS})


def shown(client: FlaskClient, job_id: str) -> dict[str, Any]:
    found: dict[str, Any] = client.get(f"/api/v1/jobs/{job_id}/estimate").get_json()
    return found


def test_what_follows_from_the_work_is_proposed_and_written_by_a_tap(client: FlaskClient, cut: dict[str, Any]) -> None:
    repair(client, cut)
    say(
        client,
        cut["id"],
        "parts",
        ["Splice set |  | SP-2 | new | Store | 3,50 | not checked | ", "Tape |  |  | new |  |  | not checked | "],
    )
    found = shown(client, cut["id"])
    assert (found["lines"], found["gross"]) == ([], "0.00")
    proposed = {line["what"]: line for line in found["proposed"]}
    assert set(proposed) >= {"Diagnosis", "Splice set SP-2, new"}
    assert proposed["Splice set SP-2, new"]["unit_price"] == "3.50"
    [fitted] = [line for what, line in proposed.items() if what.startswith("Repair: Wire W2")]
    written = [f"{line['what']} | {line['kind']} | {line['amount']} | {line['unit_price']}" for line in found["proposed"]]
    assert say(client, cut["id"], "estimate", written).status_code == 200
    after = shown(client, cut["id"])
    assert after["proposed"] == []
    assert float(after["labour"]) == pytest.approx(float(proposed["Diagnosis"]["price"]) + float(fitted["price"]))


def test_an_estimate_is_accepted_as_it_was_shown(client: FlaskClient, job: dict[str, Any]) -> None:
    url = f"/api/v1/jobs/{job['id']}/estimate"
    assert client.post(f"{url}/acceptance", json={**key(), "name": "K. L.", "gross": "1"}).status_code == 422
    say(client, job["id"], "estimate", LINES)
    say(client, job["id"], "estimate_tax", 19)
    found = shown(client, job["id"])
    assert (found["net"], found["tax"], found["gross"]) == ("76.05", "14.45", "90.50")
    late = client.post(f"{url}/acceptance", json={**key(), "name": "K. L.", "gross": "76.05"})
    assert (late.status_code, "90.50" in late.get_json()["detail"]) == (409, True)
    body = {**key(), "name": "K. | L.", "gross": "90.50"}
    for _ in range(2):  # the same key again changes nothing
        accepted = client.post(f"{url}/acceptance", json=body).get_json()["accepted"]
    assert (accepted["name"], accepted["gross"], accepted["same"]) == ("K. / L.", "90.50", True)
    page = client.get(f"/api/v1/jobs/{job['id']}/report?form=html").text
    assert "Accepted by K. / L." in page
    say(client, job["id"], "estimate", LINES[:1])
    assert shown(client, job["id"])["accepted"]["same"] is False
    assert "it has changed since" in client.get(f"/api/v1/jobs/{job['id']}/report?form=html").text
    assert say(client, job["id"], "estimate_accepted", "me | 1 | now").status_code == 422
    assert say(client, job["id"], "estimate_accepted", "").status_code == 200
    assert shown(client, job["id"])["accepted"] is None


@pytest.mark.parametrize(
    "line",
    ["no fields", "x | labour | two | 3", "x | magic | 1 | 3", " | part | 1 | 1", "x | part | -1 | 1", "x | part | 1 | 1e12"],
)
def test_a_line_that_is_none_is_refused_with_its_text(client: FlaskClient, job: dict[str, Any], line: str) -> None:
    answer = say(client, job["id"], "estimate", [LINES[0], line])
    assert answer.status_code == 422
    assert answer.get_json()["errors"][0]["field"] == "estimate"


def test_the_lines_come_out_as_csv(client: FlaskClient, job: dict[str, Any]) -> None:
    say(client, job["id"], "estimate", LINES)
    answer = client.get(f"/api/v1/jobs/{job['id']}/estimate?form=csv")
    assert answer.content_type == "text/csv; charset=utf-8"
    rows = list(csv.DictReader(io.StringIO(answer.text)))
    assert [row["price"] for row in rows] == ["69.38", "6.67", "0.00", "76.05", "0.00", "76.05"]


def test_a_link_shows_what_was_sent_and_not_what_came_later(door: Door, client: FlaskClient, cut: dict[str, Any], dsn: str) -> None:
    say(client, cut["id"], "plate", "QA 55 SND")
    url = f"/api/v1/jobs/{cut['id']}/shares"
    plain = client.post(url, json={"days": 3}).get_json()["token"]
    whole = client.post(url, json={"days": 3, "personal": True}).get_json()["token"]
    repair(client, cut)
    client.post(f"{cut['url']}/readings", json=reading("2.74", red="X2.11", black="BAT.neg"))
    say(client, cut["id"], "may_drive", "yes")
    later = client.post(url, json={"days": 3}).get_json()["token"]
    opened = {token: door.nobody().get(f"/api/v1/shared/{token}").get_json() for token in (plain, whole, later)}
    assert [opened[token]["plate"] for token in (plain, whole)] == ["", "QA 55 SND"]
    assert "QA 55" not in str(opened[plain])
    before, after = opened[plain]["diagnoses"][0], opened[later]["diagnoses"][0]
    assert (before["done"], len(before["readings"])) == ([], 4)
    assert len(after["readings"]) == 5
    assert after["proved"][0]["passed"] is True
    assert opened[plain]["may_drive"] == "Nobody has said whether it may be driven."
    assert opened[later]["may_drive"] == "It may be driven."
    assert door("quay-lead").post(f"/api/v1/jobs/{cut['id']}/erasure", json={"words": False}).status_code == 200
    assert door.nobody().get(f"/api/v1/shared/{whole}").status_code == 404
    with psycopg.connect(dsn) as db:
        [kept] = db.execute("SELECT count(*) FROM share WHERE job_id = %s AND frozen IS NOT NULL", (cut["id"],)).fetchall()
    assert kept == (0,)


def test_a_vehicle_that_is_back_is_linked_and_a_lead_says_whether_for_the_same_cause(door: Door, client: FlaskClient) -> None:
    plate = f"QA {uuid4().hex[:6].upper()}"
    first = check_in(client, "", make="Orvane", plate=plate)
    detail = client.get(f"/api/v1/jobs/{first}").get_json()
    assert detail["returned"] is None
    version = next(
        c["version_id"] for c in client.get("/api/v1/circuits").get_json()["circuits"] if c["slug"] == "ambient-temperature"
    )
    made = client.post(f"/api/v1/jobs/{first}/diagnoses", json={**key(), "circuit_version_id": version}).get_json()
    client.post(f"/api/v1/diagnoses/{made['id']}/conclusion", json={**key(), "seen_seq": 10_000})
    body = {**key(), "vehicle_id": detail["job"]["vehicle_id"], "complaint": "again"}
    second = client.post("/api/v1/jobs", json=body).get_json()["id"]
    back = client.get(f"/api/v1/jobs/{second}").get_json()["returned"]
    assert back["id"] == first
    assert back["conclusion"]
    assert say(client, second, "return_cause", "same cause").status_code == 403
    assert say(door("quay-lead"), second, "return_cause", "same cause").status_code == 200
    assert client.get(f"/api/v1/jobs/{first}").get_json()["answers"]["follow_up_result"]["value"] == "came back, same cause"


def test_a_harness_repair_is_kept_with_its_pictures_and_stands_in_the_report(client: FlaskClient, cut: dict[str, Any]) -> None:
    sent = client.post(
        f"/api/v1/jobs/{cut['id']}/photos", data={**picture(), "caption": "W2 cut"}, content_type="multipart/form-data"
    )
    photo = sent.get_json()["photos"][0]["id"]
    line = f"Wire W2 | behind X12 | 40 | crimped and sealed | shrink tube with adhesive | {photo} | "
    assert say(client, cut["id"], "harness_repairs", [line]).status_code == 200
    page = client.get(f"/api/v1/jobs/{cut['id']}/report?form=html&reader=colleague").text
    for said in ("behind X12", "40 mm", "crimped and sealed", "shrink tube with adhesive", "W2 cut"):
        assert said in page
    for wrong in (
        "W2 | x",
        "W2 | here | long | crimped and sealed | | | ",
        "W2 | here | 4 | glued | | | ",
        "W2 | here | 4 | new contact | | ../x | ",
    ):
        assert say(client, cut["id"], "harness_repairs", [wrong]).status_code == 422


def with_picture(client: FlaskClient, job_id: str, caption: str) -> str:
    """A photograph of a job; its id."""
    sent = client.post(f"/api/v1/jobs/{job_id}/photos", data={**picture(), "caption": caption}, content_type="multipart/form-data")
    return str(sent.get_json()["photos"][-1]["id"])


def test_a_removed_part_is_inspected_and_shown_with_its_picture(client: FlaskClient, cut: dict[str, Any]) -> None:
    photo = with_picture(client, cut["id"], "sensor")
    line = f"Sensor B9 | corroded or wet | green crust at pin 2 | the new part | {photo}"
    assert say(client, cut["id"], "removed_parts", [line]).status_code == 200
    page = client.get(f"/api/v1/jobs/{cut['id']}/report?form=html").text
    for said in (
        "green crust at pin 2",
        "corroded or wet",
        'src="data:image/jpeg;base64,',
        "Sensor B9, taken out: corroded or wet",
    ):
        assert said in page
    pdf = client.get(f"/api/v1/jobs/{cut['id']}/report?reader=colleague").data
    with pikepdf.open(io.BytesIO(pdf)) as read:
        images = {name for each in read.pages for name in each.get_images()}  # pages share what they show
    assert len(images) == 1
    elsewhere = line.replace(photo, str(uuid4()))
    assert say(client, cut["id"], "removed_parts", [elsewhere]).status_code == 200
    assert "data:image" not in client.get(f"/api/v1/jobs/{cut['id']}/report?form=html").text, "no picture of this job"
    for wrong in (
        "B9 | shiny | x | nothing | ",
        "B9 | worn |  | nothing | ",
        "B9 | worn | x | memory | ",
        "B9 | worn | x | nothing | ../x",
    ):
        assert say(client, cut["id"], "removed_parts", [wrong]).status_code == 422


def test_a_changed_setting_keeps_its_old_value_and_the_way_back(client: FlaskClient, job: dict[str, Any]) -> None:
    line = "Idle speed | 680 | 720 | the customer | within the maker's range | basic setting 12, value 680"
    assert say(client, job["id"], "settings_changed", [line]).status_code == 200
    page = client.get(f"/api/v1/jobs/{job['id']}/report?form=html&reader=colleague").text
    for said in ("Idle speed", "680", "720", "the customer", "basic setting 12, value 680"):
        assert said in page
    assert say(client, job["id"], "settings_changed", [line.rsplit("|", 1)[0] + "| "]).status_code == 422, "no way back"


def test_a_bypass_is_a_finding_and_keeps_a_job_from_being_closed_as_fixed(client: FlaskClient, job: dict[str, Any]) -> None:
    line = "Fan relay, wire with a 30 A fuse | to drive home | Friday | in place"
    assert say(client, job["id"], "bypasses", [line]).status_code == 200
    assert "Temporary bypass, which is no repair" in client.get(f"/api/v1/jobs/{job['id']}/report?form=html").text
    refused = say(client, job["id"], "stage", "closed")
    assert refused.status_code == 409
    assert "Fan relay, wire with a 30 A fuse" in refused.json["detail"]
    assert say(client, job["id"], "bypasses", [line.replace("in place", "for good")]).status_code == 422
    assert say(client, job["id"], "bypasses", [line.replace("in place", "taken out")]).status_code == 200
    assert say(client, job["id"], "stage", "closed").status_code == 200


@pytest.mark.parametrize("measured", [False, True])
def test_what_was_found_by_exchanging_a_part_only_is_said_to_be_so(
    client: FlaskClient, request: pytest.FixtureRequest, measured: bool
) -> None:
    here = request.getfixturevalue("cut" if measured else "job")
    diagnosis = client.get(f"/api/v1/jobs/{here['id']}").json["diagnoses"][0]["id"]
    said = "Found by exchanging a part"
    assert said not in client.get(f"/api/v1/jobs/{here['id']}/report?form=html").text
    entry = reading(entry="gone", instrument="substitution", red="B9", black="BAT.neg", setup={"controls": {}, "unplugged": []})
    sent = client.post(f"/api/v1/diagnoses/{diagnosis}/readings", json=entry)
    assert sent.status_code in (200, 201), sent.json
    assert (said in client.get(f"/api/v1/jobs/{here['id']}/report?form=html").text) is not measured


def test_lists_and_search_know_the_outcome(client: FlaskClient, job: dict[str, Any]) -> None:
    assert say(client, job["id"], "outcome", "partly").status_code == 200
    assert next(one for one in client.get("/api/v1/jobs").json["jobs"] if one["id"] == job["id"])["outcome"] == "partly"


def test_a_lead_words_the_report_and_what_was_computed_stays_beside_it(
    door: Door, client: FlaskClient, cut: dict[str, Any]
) -> None:
    assert say(client, cut["id"], "customer_words", "x").status_code == 403
    assert say(door("quay-lead"), cut["id"], "customer_words", "A wire behind the <bumper> was cut.").status_code == 200
    customer = client.get(f"/api/v1/jobs/{cut['id']}/report?form=html").text
    colleague = client.get(f"/api/v1/jobs/{cut['id']}/report?form=html&reader=colleague").text
    assert "A wire behind the &lt;bumper&gt; was cut." in customer
    assert "What was written for the customer" in colleague
    assert "Wire W2" in colleague
