"""What one tab shows is what is kept: nothing is concluded, cleared or assumed behind somebody's back."""

from __future__ import annotations

from typing import Any
from uuid import uuid4

from flask.testing import FlaskClient

from tests.web.conftest import reading


def test_a_conclusion_is_what_its_screen_showed(client: FlaskClient, job: dict[str, Any]) -> None:
    url = f"/api/v1/diagnoses/{job['diagnosis']}"
    seen = client.post(f"{url}/readings", json=reading("4.9")).get_json()["evidence_seq"]
    other = client.post(f"{url}/readings", json=reading("0.01")).get_json()
    assert other["evidence_seq"] > seen
    late = {"client_key": str(uuid4()), "seen_seq": seen}
    refused = client.post(f"{url}/conclusion", json=late)
    assert refused.status_code == 409
    assert "added after what this screen shows" in refused.get_json()["detail"]
    assert client.get(url).get_json()["diagnosis"]["conclusion"] is None
    kept = client.post(f"{url}/conclusion", json={**late, "seen_seq": other["evidence_seq"]})
    assert kept.status_code == 201
    client.post(f"{url}/readings", json=reading("4.8"))
    again = client.post(f"{url}/conclusion", json={**late, "seen_seq": other["evidence_seq"]})
    assert again.status_code == 201, "the answer was lost: the same key is the same conclusion"
    timeline = client.get(f"/api/v1/jobs/{job['id']}/timeline").get_json()["entries"]
    assert sum(entry["kind"] == "diagnosis" for entry in timeline) == 1


def test_a_note_is_no_evidence_and_stands_in_no_ones_way(client: FlaskClient, job: dict[str, Any]) -> None:
    url = f"/api/v1/diagnoses/{job['diagnosis']}"
    seen = client.post(f"{url}/readings", json=reading("4.9")).get_json()["evidence_seq"]
    client.post(f"/api/v1/jobs/{job['id']}/notes", json={"client_key": str(uuid4()), "body": "coffee"})
    assert client.post(f"{url}/conclusion", json={"client_key": str(uuid4()), "seen_seq": seen}).status_code == 201


def test_a_temperature_that_nobody_gave_is_none(client: FlaskClient) -> None:
    def checked_in(**more: Any) -> dict[str, Any]:
        body = {"client_key": str(uuid4()), "vehicle": {"make": "Orvane"}, "complaint": "", **more}
        made = client.post("/api/v1/jobs", json=body).get_json()
        answers: dict[str, Any] = client.get(f"/api/v1/jobs/{made['id']}").get_json()["answers"]
        return {"id": made["id"], "answers": answers}

    assert "temperature_c" not in checked_in()["answers"]
    given = checked_in(temperature_c=-4.0)
    assert given["answers"]["temperature_c"]["value"] == -4.0
    seq = given["answers"]["temperature_c"]["seq"]
    url = f"/api/v1/jobs/{given['id']}/answers/temperature_c"
    emptied = client.put(url, json={"client_key": str(uuid4()), "value": None, "seen_seq": seq}).get_json()
    assert emptied["answers"]["temperature_c"]["value"] is None, "taken back, and not 20"


def test_a_file_of_codes_is_looked_at_before_it_is_kept(client: FlaskClient, job: dict[str, Any]) -> None:
    url = f"/api/v1/jobs/{job['id']}/scans"
    text = "code;module;status\nP0480;ECM;2F\nP0117 P0118;ECM;\nnothing;here;\n"
    shown = client.post(f"{url}/preview", json={"text": text}).get_json()
    assert [(row["code"], row["doubt"]) for row in shown["rows"]] == [
        ("P0480", ""), ("P0117", "2 codes in one cell"), ("P0118", "2 codes in one cell")
    ]  # fmt: skip
    assert [(line["line"], line["why"]) for line in shown["left_out"]] == [(4, "no code in it")]
    assert client.get(f"/api/v1/jobs/{job['id']}").get_json()["codes"] == [], "nothing has been kept"
    body = {"client_key": str(uuid4()), "source": "import", "text": text}
    assert client.post(url, json=body).status_code == 422, "doubtful, and nobody has chosen"
    kept = client.post(url, json={**body, "rows": [0, 2]})
    assert kept.status_code == 201
    assert {code["code"] for code in kept.get_json()["codes"]} == {"P0480", "P0118"}
