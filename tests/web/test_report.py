"""From the repair to the follow-up: what is said at the hand-over, the report in both forms, the calendar file, and jobs that are due."""

from __future__ import annotations

import io
import re
import subprocess
from datetime import date, timedelta
from pathlib import Path
from typing import Any
from uuid import uuid4

import pikepdf
import pytest
from flask.testing import FlaskClient

from sondar.app import reporting
from sondar.computing.asking import StillWorkingError
from tests.web.conftest import Door, reading
from tests.web.test_any_vehicle import get, measure
from tests.web.test_check_in import check_in


def answer(client: FlaskClient, job_id: str, field: str, value: Any) -> Any:
    body = {"client_key": str(uuid4()), "value": value, "seen_seq": 2_000_000_000}
    return client.put(f"/api/v1/jobs/{job_id}/answers/{field}", json=body)


@pytest.fixture
def job(client: FlaskClient) -> str:
    """An oil-control valve with an open coil: found, repaired, measured again, handed over."""
    job_id = check_in(client, "P0010", make="Tessel", model="Quay", plate="PA 71 TSL")
    assert answer(client, job_id, "complaint", "Rattles when started <cold> & lamp").status_code == 200
    diagnosis = measure(client, job_id, template="valve-pulsed", code="P0010").json["id"]
    base = f"/api/v1/diagnoses/{diagnosis}"
    apart = {"controls": {"key": "off", "valve": "off"}, "unplugged": ["X2"]}
    ohms = {"instrument": "ohmmeter", "red": "X2.1/c", "black": "X2.2/c", "setup": apart}
    for entry in (reading("12.3", red="X2.1"), reading("OL", **ohms)):
        assert client.post(f"{base}/readings", json=entry).status_code == 201
    repaired = {"client_key": str(uuid4()), "units": ["Y"], "action": "Replaced, 7.4 Ω on the bench"}
    assert client.post(f"{base}/repairs", json=repaired).status_code == 201
    assert client.post(f"{base}/readings", json=reading("7.4", **ohms)).status_code == 201
    day = (date.today() + timedelta(days=7)).isoformat()
    for field, value in {
        "may_drive": "with limits", "may_drive_why": "Not above 3,000 rpm before the oil is changed.", "made_it_fail": "Oil sludge in the valve.",
        "cause_removed": False, "not_done": "The second valve was not opened.", "follow_up": day,
        "defects": ["front brake pads at 2 mm | at once | accepted", "wiper blades | to be watched | declined"],
    }.items():  # fmt: skip
        found = answer(client, job_id, field, value)
        assert found.status_code == 200, found.json
    return job_id


PARTS = [
    "Oil-control valve | 1 420 77 | 1 420 78 | new | Slipway parts | 61.50 | good | 7.4 Ω on the bench",
    "Oil-control valve | 1 420 77 | 1 420 78 | reconditioned | | 20 | bad | OL out of the box",
]


def test_parts_and_what_was_left_out_stand_in_the_report(client: FlaskClient, job: str) -> None:
    diagnosis = get(client, f"/jobs/{job}")["diagnoses"][0]["id"]
    asked = client.get(f"/api/v1/diagnoses/{diagnosis}/repair-plan", query_string={"units": "Y"})
    assert asked.status_code == 200, asked.json
    plan = asked.json["steps"]
    assert {step["stage"] for step in plan} == {"before", "repair", "after"}
    steps = [f"{diagnosis} | {plan[0]['key']} | done", f"{diagnosis} | {plan[1]['key']} | the customer waits outside"]
    assert answer(client, job, "parts", PARTS).status_code == 200
    assert answer(client, job, "repair_steps", steps).status_code == 200
    colleague, customer = page(client, job, "colleague"), page(client, job, "customer")
    for said in ("1 420 78", "Slipway parts", "7.4 Ω on the bench", "the customer waits outside"):
        assert said in colleague
    assert "61.50" in customer
    assert "Slipway parts" not in customer
    for wrong, said in (
        (["Valve | a | b | stolen | | | good | "], "with a condition of new"),
        (["Valve | a"], "number on the old one"),
        (["x" * 201 + " | | | new | | | good | "], "what it is"),
    ):
        refused = answer(client, job, "parts", wrong)
        assert refused.status_code == 422
        assert said in refused.json["detail"]


def page(client: FlaskClient, job_id: str, reader: str) -> str:
    found = client.get(f"/api/v1/jobs/{job_id}/report", query_string={"reader": reader, "form": "html"})
    assert found.status_code == 200, found.json
    return re.sub(r"\s+", " ", found.text)


def test_the_customer_reads_what_was_found_done_and_left(client: FlaskClient, job: str) -> None:
    text = page(client, job, "customer")
    for said in (
        "Tessel Quay 2016, PA 71 TSL", "Rattles when started &lt;cold&gt; &amp; lamp", "P0010", "Replaced, 7.4 Ω on the bench",
        "It may be driven, with limits. Not above 3,000 rpm", "The cause is not removed: it can fail again.", "The second valve was not opened.",
        "front brake pads at 2 mm", "We ask on", "in order",
    ):  # fmt: skip
        assert said in text, said
    assert "X2.1/c" not in text.split("Before and after")[0], "no cavities in the customer's page but in the proof"


def test_the_colleague_reads_every_measurement_with_what_was_expected(client: FlaskClient, job: str) -> None:
    text = page(client, job, "colleague")
    assert text.count("not as expected") == 1
    assert "OL" in text
    assert "7.4 Ω" in text
    assert "Why it was tested: P0010" in text
    assert "key off" in text


def test_the_pdf_is_archivable_with_the_shipped_font(client: FlaskClient, job: str, tmp_path: Path) -> None:
    found = client.get(f"/api/v1/jobs/{job}/report", query_string={"reader": "colleague"})
    assert (found.status_code, found.content_type) == (200, "application/pdf")
    file = tmp_path / "report.pdf"
    file.write_bytes(found.data)
    with pikepdf.open(io.BytesIO(found.data)) as pdf:
        [intent] = pdf.Root.OutputIntents
        assert intent.S == "/GTS_PDFA1"
        assert intent.DestOutputProfile.N == 3
        with pdf.open_metadata() as xmp:
            assert (xmp["pdfaid:part"], xmp["pdfaid:conformance"]) == ("2", "B")
        names = [str(font.BaseFont) for page in pdf.pages for font in page.Resources.Font.values()]
    assert any("Report-Latin" in name or "Archivo" in name for name in names), names
    fonts = subprocess.run(["/usr/bin/pdffonts", file], capture_output=True, text=True, check=True).stdout.splitlines()[2:]
    assert fonts
    assert all(line.split()[-5] == "yes" for line in fonts), f"every font is embedded: {fonts}"
    text = subprocess.run(["/usr/bin/pdftotext", "-layout", file, "-"], capture_output=True, text=True, check=True).stdout
    assert "Tessel Quay 2016, PA 71 TSL" in text
    assert "7.4 Ω" in text
    assert "page 1 of" in text


def test_text_of_a_job_is_never_markup_and_fetches_nothing(client: FlaskClient) -> None:
    bad = '<img src="http://127.0.0.1:1/x"><style>@import url(file:///etc/passwd)</style>{{ 7*7 }}'
    job_id = check_in(client, "", make="Brigg")
    assert answer(client, job_id, "complaint", bad).status_code == 200
    text = page(client, job_id, "customer")
    assert "<img" not in text
    assert "&lt;img" in text
    assert "{{ 7*7 }}" in text
    assert client.get(f"/api/v1/jobs/{job_id}/report").data.startswith(b"%PDF")


def test_a_job_without_anything_has_a_report_that_says_so(client: FlaskClient, door: Door) -> None:
    text = page(client, check_in(client, "", make="Brigg"), "colleague")
    assert "Nobody has said whether it may be driven." in text
    assert client.get(f"/api/v1/jobs/{uuid4()}/report").status_code == 404


def test_the_day_of_the_follow_up_is_a_calendar_file(client: FlaskClient, job: str) -> None:
    found = client.get(f"/api/v1/jobs/{job}/follow-up")
    assert found.content_type.startswith("text/calendar")
    lines = found.data.decode().split("\r\n")
    assert lines[0] == "BEGIN:VCALENDAR"
    assert f"DTSTART;VALUE=DATE:{date.today() + timedelta(days=7):%Y%m%d}" in lines
    assert all(len(line.encode()) <= 75 for line in lines)
    assert "\\," in found.data.decode().replace("\r\n ", "")
    answer(client, job, "follow_up", "")
    assert client.get(f"/api/v1/jobs/{job}/follow-up").status_code == 404


def test_a_job_is_due_from_its_day_until_somebody_says_how_it_went(client: FlaskClient, job: str) -> None:
    def due(day: date) -> list[str]:
        return [one["job"]["id"] for one in get(client, "/follow-ups", until=day.isoformat())["jobs"]]

    assert job not in due(date.today())
    assert job in due(date.today() + timedelta(days=7))
    answer(client, job, "follow_up_result", "came back, same cause")
    assert job not in due(date.today() + timedelta(days=30))
    answer(client, job, "follow_up_result", "")
    assert job in due(date.today() + timedelta(days=30))


@pytest.mark.parametrize(
    ("field", "value"),
    [
        ("may_drive", "perhaps"), ("follow_up", "next week"), ("follow_up", "2026-13-01"), ("defects", ["brakes"]),
        ("defects", ["brakes | now | accepted"]), ("defects", ["x | soon | advised"] * 21), ("defects", "brakes"), ("cause_removed", "yes"),
        ("follow_up_result", "fine"), ("not_done", "x" * 1001),
    ],
)  # fmt: skip
def test_what_cannot_be_said_is_refused(client: FlaskClient, field: str, value: Any) -> None:
    job_id = check_in(client, "", make="Brigg")
    refused = answer(client, job_id, field, value)
    assert refused.status_code == 422, refused.json


def test_a_report_that_is_not_ready_says_so_and_loads_again_by_itself(
    client: FlaskClient, job: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    def busy(*_: object) -> None:
        raise StillWorkingError("half of it")

    monkeypatch.setattr(reporting, "of_job", busy)
    page = client.get(f"/api/v1/jobs/{job}/report", headers={"Accept": "text/html,application/xhtml+xml,*/*;q=0.8"})
    assert (page.status_code, page.headers["Refresh"]) == (202, "2")
    assert "loads again by itself" in page.text
    program = client.get(f"/api/v1/jobs/{job}/report")
    assert (program.status_code, program.get_json()) == (202, {"working": "half of it"})
