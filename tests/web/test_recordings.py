"""A recording from file to reading: it comes in pieces, is looked at, read, drawn, read off, and goes out again."""

from __future__ import annotations

import io
import time
from typing import Any
from uuid import uuid4

import numpy as np
import pytest
from flask.testing import FlaskClient

from sondar.app import recordings
from sondar.app.plausibility import displacement_in
from sondar.recording_files.dialect import understand
from sondar.recording_files.mdf import read_mdf
from sondar.recording_files.tables import read_table
from tests.web.conftest import Door
from tests.web.test_any_vehicle import measure
from tests.web.test_check_in import check_in


def purge_file(samples: int = 600) -> bytes:
    """A valve commanded 0, 60, 0 %: its supply stays, the line is pulled to 5 V of 12.3 while it is driven; a bad sample in between."""
    t = np.arange(samples) * 0.05
    command = np.where((t >= 10) & (t < 20), 60, 0)
    line = np.where(t < 10.2, 12.3, np.where(t < 20.2, 12.3 - 7.3 * (1 - np.exp(-(t - 10.2) / 0.4)), 12.3))
    rows = [f"{a:.2f};{c};{v:.3f}".replace(".", ",") for a, c, v in zip(t, command, line, strict=True)]
    rows[7] = rows[7].rsplit(";", 1)[0] + ";---"
    return ("Logger 7, 27.11.2026\nTime [s];Command [%];Line [V]\n" + "\n".join(rows)).encode("cp1252")


def send(client: FlaskClient, job_id: str, name: str, raw: bytes) -> str:
    """All pieces of a file; returns the recording."""
    begun = client.post(f"/api/v1/jobs/{job_id}/recordings", json={"client_key": str(uuid4()), "name": name, "bytes": len(raw)})
    assert begun.status_code == 201, begun.json
    recording = begun.json["id"]
    for number in range(-(-len(raw) // recordings.PIECE_BYTES)):
        piece = raw[number * recordings.PIECE_BYTES : (number + 1) * recordings.PIECE_BYTES]
        put = client.put(f"/api/v1/recordings/{recording}/pieces/{number}", data={"piece": (io.BytesIO(piece), "piece")})
        assert put.status_code == 200, put.json
    return str(recording)


def ready(client: FlaskClient, recording: str, mapping: Any = None, state: str = "ready") -> Any:
    """Read a file and wait for it."""
    asked = client.post(f"/api/v1/recordings/{recording}/reading", json={"mapping": mapping})
    assert asked.status_code == 200, asked.json
    for _ in range(1200):
        found = client.get(f"/api/v1/recordings/{recording}").json
        if found["recording"]["state"] not in ("reading", "arriving"):
            assert found["recording"]["state"] == state, found["recording"]
            return found
        time.sleep(0.05)
    raise AssertionError("not read in a minute")


def features(client: FlaskClient, recording: str, channel: int, start: float, end: float, **more: Any) -> list[Any]:
    query = {"channel": channel, "start_s": start, "end_s": end, **more}
    found = client.get(f"/api/v1/recordings/{recording}/features", query_string=query)
    assert found.status_code == 200, found.json
    return list(found.json["features"])


@pytest.fixture
def job(client: FlaskClient) -> str:
    return check_in(client, "P0443", make="Tessel", model="Quay", plate="QA 10 REC")


def test_a_file_is_looked_at_read_drawn_and_read_off(client: FlaskClient, job: str) -> None:
    recording = send(client, job, "purge.csv", purge_file())
    seen = client.get(f"/api/v1/recordings/{recording}/preview").json
    assert seen["form"] == "table"
    assert not seen["remembered"]
    mapping = seen["mapping"]
    assert (mapping["delimiter"], mapping["decimal"], mapping["head"]) == (";", ",", 2)
    assert [(c["name"], c["unit"], c["kind"]) for c in mapping["columns"]] == [
        ("Time", "s", "time"), ("Command", "%", "number"), ("Line", "V", "number"),
    ]  # fmt: skip
    mapping["columns"][1]["role"] = "command"
    found = ready(client, recording, mapping)
    assert found["recording"]["notes"] == ["Line: 1 of 600 rows hold no figure there, left out"]
    assert [(c["at_s"], c["position"]) for c in found["lanes"][0]["changes"]] == [(0.0, "0 %"), (10.0, "60 %"), (20.0, "0 %")]
    line = client.get(
        f"/api/v1/recordings/{recording}/lines", query_string={"start_s": 5, "end_s": 15, "columns": 40, "channels": "1"}
    ).json
    [drawn] = line["lines"]
    assert min(drawn["least"]) == pytest.approx(5.0, abs=0.02)
    assert max(drawn["greatest"]) == 12.3
    offered = {(f["kind"], f["title"]): f for f in features(client, recording, 1, 0, 30)}
    dead = offered["dead", "Line begins to move after, Command 0 % → 60 %"]
    lag = next(f for f in offered.values() if f["kind"] == "lag" and "0 % → 60 %" in f["title"])
    assert abs(dead["value"] - 0.2) < 0.05
    assert abs(lag["value"] - 0.4) < 0.05
    assert 0.0 < dead["sd"] < 0.05


def test_the_next_file_of_the_same_source_is_read_in_the_same_way(client: FlaskClient, job: str) -> None:
    first = send(client, job, "one.csv", purge_file().replace(b"Logger", b"Recorder"))
    mapping = client.get(f"/api/v1/recordings/{first}/preview").json["mapping"]
    mapping["columns"][2]["name"] = "Valve line"
    ready(client, first, mapping)
    second = send(client, job, "two.csv", purge_file(500).replace(b"Logger 7, 27.11.2026", b"Recorder 8, 28.11.2026"))
    seen = client.get(f"/api/v1/recordings/{second}/preview").json
    assert seen["remembered"]
    assert seen["mapping"]["columns"][2]["name"] == "Valve line"


def test_an_interrupted_file_is_resumed_and_a_broken_one_says_why(
    client: FlaskClient, job: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(recordings, "PIECE_BYTES", 4000)
    raw = purge_file()
    begun = client.post(
        f"/api/v1/jobs/{job}/recordings", json={"client_key": str(uuid4()), "name": "a.csv", "bytes": len(raw)}
    ).json["id"]
    put = f"/api/v1/recordings/{begun}/pieces"
    assert client.put(f"{put}/0", data={"piece": (io.BytesIO(raw[:4000]), "p")}).status_code == 200
    assert client.put(f"{put}/1", data={"piece": (io.BytesIO(raw[4000:7000]), "p")}).status_code == 422
    early = client.post(f"/api/v1/recordings/{begun}/reading", json={})
    assert early.status_code == 409
    assert "send piece 1" in early.json["detail"]
    absent = client.get(put).json["pieces"]
    assert absent == list(range(1, -(-len(raw) // 4000)))
    for number in absent:
        client.put(f"{put}/{number}", data={"piece": (io.BytesIO(raw[number * 4000 : (number + 1) * 4000]), "p")})
    assert ready(client, begun)["recording"]["samples"] == 1199
    broken = send(client, job, "b.mf4", b"MDF     4.10    " + bytes(300))
    found = ready(client, broken, state="failed")
    assert "damaged or cut off" in found["recording"]["problem"]
    assert client.delete(f"/api/v1/recordings/{broken}").status_code == 204
    assert [r["name"] for r in client.get(f"/api/v1/jobs/{job}/recordings").json["recordings"]] == ["a.csv"]
    kept = client.delete(f"/api/v1/recordings/{begun}")
    assert kept.status_code == 409
    assert "evidence" in kept.json["detail"]


@pytest.mark.parametrize("form", ["csv", "mf4"])
def test_what_goes_out_is_what_came_in(client: FlaskClient, job: str, form: str) -> None:
    raw = purge_file()
    recording = send(client, job, "purge.csv", raw)
    ready(client, recording)
    out = client.get(f"/api/v1/recordings/{recording}/file", query_string={"form": form})
    assert out.status_code == 200
    before = read_table(raw, understand(raw).mapping).recording
    after = read_mdf(out.data).recording if form == "mf4" else read_table(out.data, understand(out.data).mapping).recording
    assert [c.name for c in after.channels] == [c.name for c in before.channels]
    for old, new in zip(before.channels, after.channels, strict=True):
        assert old.unit == new.unit
        assert np.array_equal(old.y, new.y)
        assert np.allclose(old.t, new.t, atol=1e-12)


def test_a_level_becomes_a_reading_of_the_test_that_its_channel_is(client: FlaskClient, job: str) -> None:
    diagnosis = measure(client, job, template="valve-pulsed", code="P0443").json["id"]
    recording = send(client, job, "purge.csv", purge_file())
    mapping = client.get(f"/api/v1/recordings/{recording}/preview").json["mapping"]
    mapping["columns"][1]["role"] = "command"
    ready(client, recording, mapping)
    use = {"client_key": str(uuid4()), "channel": 1, "start_s": 1.0, "end_s": 9.0, "controls": {"key": "run"}}
    first = client.post(f"/api/v1/recordings/{recording}/readings", json=use)
    assert first.status_code == 422
    assert "say first what Line measures" in first.json["detail"]
    tie = {"name": "Line", "diagnosis_id": diagnosis, "instrument": "voltmeter", "red": "X2.2", "black": "BAT.neg"}
    nowhere = client.put(f"/api/v1/recordings/{recording}/channel-meaning", json=tie | {"red": "X9.9"})
    assert nowhere.status_code == 422
    assert "X9.9" in nowhere.json["detail"]
    assert client.put(f"/api/v1/recordings/{recording}/channel-meaning", json=tie).status_code == 200
    lane = {"name": "Command", "control": "valve", "positions": {"0 %": "off", "60 %": "half"}}
    assert client.put(f"/api/v1/recordings/{recording}/lane-meaning", json=lane).status_code == 200
    crossing = client.post(f"/api/v1/recordings/{recording}/readings", json=use | {"end_s": 12.0})
    assert crossing.status_code == 422
    assert "changes within" in crossing.json["detail"]
    taken = client.post(f"/api/v1/recordings/{recording}/readings", json=use)
    assert taken.status_code == 201, taken.json
    assert client.post(f"/api/v1/recordings/{recording}/readings", json=use).status_code == 200
    [reading] = client.get(f"/api/v1/diagnoses/{diagnosis}").json["readings"]
    assert reading["source"] == "recording"
    assert reading["entry"].startswith("12.3")
    assert reading["controls"]["valve"] == "off"
    assert "purge.csv" in reading["note"]


def running(held_rpm: tuple[float, ...] = (780.0, 3200.0)) -> bytes:
    """A 1.2 litre engine at idle and held, whose air mass is reported by 40 % too low when much flows."""
    rows = ["Time [s],Engine speed [1/min],Intake manifold absolute pressure [kPa],Intake air temperature [°C],Air mass flow [g/s]"]
    for n in range(300):
        speed = held_rpm[n // 150]
        kpa = 35.0 if speed < 1000 else 62.0
        drawn = 0.85 * 1.2 * speed / 120.0 * kpa / (0.287 * 303.0)
        rows.append(f"{0.2 * n:.1f},{speed + n % 3},{kpa},30,{drawn * (1.0 if speed < 1000 else 0.6):.2f}")
    return "\n".join(rows).encode()


def test_channels_are_held_against_each_other_with_the_displacement_of_the_job(client: FlaskClient) -> None:
    job_id = check_in(client, make="Orvane", model="Corrie", plate="QA 33 AIR", engine="1.2 petrol")
    recording = send(client, job_id, "held.csv", running())
    ready(client, recording)

    def asked(**more: Any) -> Any:
        query = {"start_s": 0.0, "end_s": 60.0, **more}
        return client.get(f"/api/v1/recordings/{recording}/plausibility", query_string=query)

    found = asked().json
    assert (found["displacement_l"], found["known"]) == (1.2, True)
    [air] = [check for check in found["checks"] if check["id"] == "air-mass"]
    assert (air["verdict"], air["words"]) == ("differs", "Too little is reported the more flows: a dirty film reads like this.")
    assert air["end_s"] > air["start_s"]
    smaller = asked(displacement_l=0.6).json
    assert (smaller["displacement_l"], smaller["known"]) == (0.6, False)
    assert "More air is reported" in next(check["words"] for check in smaller["checks"] if check["id"] == "air-mass")
    assert asked(displacement_l=-1.0).status_code == 422


@pytest.mark.parametrize(
    ("engine", "litres"),
    [("1.2 petrol", 1.2), ("125 petrol", 0.125), ("2,0 diesel", 2.0), ("V6 3.0 diesel", 3.0), ("998 ccm", 0.998), ("electric", None), ("", None)],
)  # fmt: skip
def test_displacement_as_people_write_it(engine: str, litres: float | None) -> None:
    assert displacement_in(engine) == litres


def test_another_workshop_sees_no_recording(client: FlaskClient, door: Door, job: str) -> None:
    recording = send(client, job, "purge.csv", purge_file())
    ready(client, recording)
    stranger = door("mole-lead")
    for path in (
        "",
        "/preview",
        "/pieces",
        "/lines?start_s=0&end_s=1&channels=0",
        "/features?start_s=0&end_s=1&channel=0",
        "/file",
    ):
        assert stranger.get(f"/api/v1/recordings/{recording}{path}").status_code == 404, path
