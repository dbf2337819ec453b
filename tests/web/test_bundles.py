"""A job as one file, and from it the same job in another workshop; what was changed on the way is refused."""

from __future__ import annotations

import csv
import io
import json
import time
import zipfile
from collections.abc import Callable
from typing import Any
from uuid import UUID, uuid4

import psycopg
import pytest
from flask.testing import FlaskClient

from sondar.store.bundles import rows_of
from sondar.store.database import act_for
from tests.web.conftest import Door, reading
from tests.web.test_any_vehicle import measure
from tests.web.test_check_in import check_in
from tests.web.test_recordings import purge_file, ready, send
from tests.web.test_report import answer
from tests.web.test_routes import picture

Files = dict[str, bytes]


@pytest.fixture
def job(client: FlaskClient) -> str:
    """Something of everything: codes, answers, notes, a photograph, readings with one voided, a repair, a recording that was tied and used."""
    job_id = check_in(client, "P0443", make="Tessel", model="Quay", plate=f"QA {uuid4().hex[:6]}")
    assert answer(client, job_id, "complaint", "Smells <of> fuel & rattles, 7.4 Ω?").status_code == 200
    client.post(
        f"/api/v1/jobs/{job_id}/notes", json={"client_key": str(uuid4()), "body": 'Vent checked; "quotes", commas\nand lines'}
    )
    client.post(f"/api/v1/jobs/{job_id}/photos", data=picture(), content_type="multipart/form-data")
    diagnosis = measure(client, job_id, template="valve-pulsed", code="P0443").json["id"]
    base = f"/api/v1/diagnoses/{diagnosis}"
    for entry in (reading("12.3", red="X2.1"), reading("12.25", red="X2.1"), reading("OL", instrument="ohmmeter", red="X2.1/c", black="X2.2/c",
                  setup={"controls": {"key": "off", "valve": "off"}, "unplugged": ["X2"]})):  # fmt: skip
        assert client.post(f"{base}/readings", json=entry).status_code == 201
    first = client.get(base).json["readings"][-1]["id"]
    client.post(f"{base}/readings/{first}/void", json={"client_key": str(uuid4()), "reason": "lead slipped"})
    client.post(f"{base}/exclusions", json={"client_key": str(uuid4()), "kind": "instrument", "name": "lamp-21w", "excluded": True})
    client.post(
        f"{base}/exclusions",
        json={"client_key": str(uuid4()), "kind": "seized", "name": "X2", "excluded": True, "minutes": 12, "price": 4.5},
    )
    client.post(f"{base}/repairs", json={"client_key": str(uuid4()), "units": ["Y"], "action": "Replaced"})
    recording = send(client, job_id, "purge.csv", purge_file())
    ready(client, recording)
    tie = {"name": "Line", "diagnosis_id": diagnosis, "instrument": "voltmeter", "red": "X2.2", "black": "BAT.neg"}
    assert client.put(f"/api/v1/recordings/{recording}/channel-meaning", json=tie).status_code == 200
    client.post(f"/api/v1/recordings/{recording}/marks", json={"client_key": str(uuid4()), "at_s": 3.5, "text": "vent shut"})
    return job_id


def bundle_of(client: FlaskClient, job_id: str) -> bytes:
    found = client.get(f"/api/v1/jobs/{job_id}/bundle")
    assert found.status_code == 200, found.json
    return found.data


def bring(client: FlaskClient, raw: bytes) -> Any:
    return client.post("/api/v1/bundles", data={"bundle": (io.BytesIO(raw), "job.zip")}, content_type="multipart/form-data")


def content(dsn: str, job_id: str) -> dict[str, list[dict[str, Any]]]:
    """Rows of a job without what must differ: ids, and whose account wrote them."""
    with psycopg.connect(dsn) as db:
        row = db.execute("SELECT workshop_id FROM job WHERE id = %s", (job_id,)).fetchone()
        assert row is not None
        act_for(db, row[0])
        rows = rows_of(db, UUID(job_id))
    ids = {r["id"]: f"{table} {n}" for table, found in rows.items() for n, r in enumerate(found) if "id" in r}
    versions = {r["circuit_version_id"]: "version" for r in rows["circuit_diagnosis"]}

    def plain(value: Any) -> Any:
        if isinstance(value, dict):
            return {key: plain(item) for key, item in value.items() if key != "by"}
        if isinstance(value, list):
            return [plain(item) for item in value]
        return ids.get(value, versions.get(value, value)) if isinstance(value, str) else value

    return {table: plain(found) for table, found in rows.items()}


def files_of(raw: bytes) -> Files:
    with zipfile.ZipFile(io.BytesIO(raw)) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


def packed(files: Files) -> bytes:
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w") as archive:
        for name, body in files.items():
            archive.writestr(name, body)
    return held.getvalue()


def settled(dsn: str, job_id: str) -> None:
    """What is said of each reading is kept when its answer is on its way: wait until nothing more comes."""
    before = content(dsn, job_id)
    for _ in range(20):
        time.sleep(0.5)
        now = content(dsn, job_id)
        if now == before:
            return
        before = now


def test_the_same_job_in_another_workshop(client: FlaskClient, door: Door, dsn: str, job: str) -> None:
    settled(dsn, job)
    raw = bundle_of(client, job)
    files = files_of(raw)
    assert {name.split("/")[0] for name in files} == {
        "manifest.json",
        "job.json",
        "readings.csv",
        "circuits",
        "photos",
        "recordings",
    }
    rows = list(csv.DictReader(io.StringIO(files["readings.csv"].decode())))
    assert [row["entry"] for row in rows] == ["12.3", "12.25", "OL"]
    other = door("mole-technician")
    brought = bring(other, raw)
    assert brought.status_code == 201, brought.json
    there = brought.json["id"]
    before, after = content(dsn, job), content(dsn, there)
    for table in before:
        assert after[table] == before[table], table
    assert sum(len(found) for found in before.values()) > 20
    shown = other.get(f"/api/v1/jobs/{there}").json
    assert shown["job"]["complaint"] == "Smells <of> fuel & rattles, 7.4 Ω?"
    diagnosis = other.get(f"/api/v1/diagnoses/{shown['diagnoses'][0]['id']}").json
    assert [r["voided_because"] for r in diagnosis["readings"]].count("lead slipped") == 1
    [recording] = other.get(f"/api/v1/jobs/{there}/recordings").json["recordings"]
    query = {"start_s": 0, "end_s": 30, "columns": 50, "channels": "1"}
    lines = other.get(f"/api/v1/recordings/{recording['id']}/lines", query_string=query).json["lines"]
    assert max(lines[0]["greatest"]) == 12.3
    again = bring(other, raw)
    assert again.status_code == 409
    assert "open that one" in again.json["detail"]
    assert content(dsn, other.get(f"/api/v1/jobs/{there}").json["job"]["id"]) == after, "and out and in again nothing is added"


def change(files: Files, edit: Callable[[dict[str, Any]], None]) -> bytes:
    """A bundle whose job.json was edited and whose manifest was made to fit."""
    import hashlib

    held = json.loads(files["job.json"])
    edit(held)
    files = {**files, "job.json": json.dumps(held).encode()}
    manifest = json.loads(files["manifest.json"])
    manifest["files"]["job.json"] = hashlib.sha256(files["job.json"]).hexdigest()
    return packed({**files, "manifest.json": json.dumps(manifest).encode()})


def test_what_was_changed_or_made_up_is_refused(client: FlaskClient, door: Door, job: str) -> None:
    files = files_of(bundle_of(client, job))
    other = door("mole-technician")
    photo = next(name for name in files if name.startswith("photos/") and not name.endswith("-small.jpg"))

    def rows(table: str, **fields: Any) -> Callable[[dict[str, Any]], None]:
        return lambda held: held["rows"][table][0].update(fields)  # the first row of that kind

    refused = {
        "no zip file": b"PK\x03\x04 not really",
        "no manifest.json": packed({"job.json": files["job.json"]}),
        "was changed after": packed({**files, "readings.csv": b"seq\n1\n"}),
        "is missing in it": packed({name: body for name, body in files.items() if name != photo}),
        "sondar_bundle": change(files, lambda held: held.update(sondar_bundle=2)),
        "reading[0]": change(files, rows("reading", red="X99.9")),
        "reading[0]: ": change(files, rows("reading", entry="purple")),
        "answer[0]": change(files, rows("answer", field="is_lead", value=True)),
        "not the one that its row describes": change(files, rows("photo", media_type="text/html")),
        "names a circuit_diagnosis that this bundle does not have": change(files, rows("exclusion", diagnosis_id=str(uuid4()))),
        "lacks a field": change(files, lambda held: held["rows"]["code_scan"][0].pop("id")),
        "holds something else": change(files, rows("recording_lane", changes="on")),
        "or holds": change(files, rows("recording", began_at="yesterday")),
        "cannot be kept": change(files, rows("note", body="")),
    }
    for said, raw in refused.items():
        answered = bring(other, raw)
        assert answered.status_code == 422, (said, answered.json)
        assert said in answered.json["detail"], answered.json
    assert bring(client, packed(files)).status_code == 409, "the workshop that it comes from has it"
