"""Search is put together behind the entries: it finds them a moment later and never stands in their way."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any
from uuid import uuid4

from flask.testing import FlaskClient


def until_found(client: FlaskClient, word: str, wanted: Callable[[list[dict[str, Any]]], bool]) -> list[dict[str, Any]]:
    deadline = time.monotonic() + 20
    while not wanted(found := client.get("/api/v1/jobs", query_string={"q": word}).get_json()["jobs"]):
        assert time.monotonic() < deadline, f"{word} leads to {len(found)} jobs"
        time.sleep(0.05)
    return found


def note(client: FlaskClient, job: dict[str, Any], body: str) -> int:
    return client.post(f"/api/v1/jobs/{job['id']}/notes", json={"client_key": str(uuid4()), "body": body}).status_code


def test_a_megabyte_of_notes_keeps_nobody_from_writing_or_finding(client: FlaskClient, job: dict[str, Any]) -> None:
    words = " ".join(f"guillemot{n}" for n in range(220))
    for part in range(330):
        assert note(client, job, f"{words} {part}x"[:4000]) == 201
    assert note(client, job, "the razorbill was last") == 201
    answer = client.put(
        f"/api/v1/jobs/{job['id']}/answers/complaint", json={"client_key": str(uuid4()), "value": "shearwater", "seen_seq": 0}
    )
    assert answer.status_code == 200
    for word in ("razorbill", "shearwater", "guillemot7"):
        until_found(client, word, lambda found: [j["id"] for j in found] == [job["id"]])


def test_three_thousand_codes_are_one_list(client: FlaskClient, job: dict[str, Any]) -> None:
    def sent(count: int) -> float:
        text = "\n".join(f"P{0x1000 + n:04X}" for n in range(count))
        body = {"client_key": str(uuid4()), "source": "import", "text": text, "conditions": [], "none_stored": False}
        begun = time.perf_counter()
        answer = client.post(f"/api/v1/jobs/{job['id']}/scans", json=body)
        assert answer.status_code == 201, answer.get_json()
        return time.perf_counter() - begun

    few = max(sent(30) for _ in range(3))
    many = sent(3000)
    assert many < 100 * few, "each code costs no more than it did among few"
    until_found(client, "P1ABC", lambda found: job["id"] in [j["id"] for j in found])


def test_a_vehicle_is_found_by_its_new_plate(client: FlaskClient, job: dict[str, Any]) -> None:
    plate = f"QX {uuid4().hex[:4]} KL"
    body = {"client_key": str(uuid4()), "value": plate, "seen_seq": 0}
    assert client.put(f"/api/v1/jobs/{job['id']}/answers/plate", json=body).status_code == 200
    until_found(client, plate.replace(" ", ""), lambda found: [j["id"] for j in found] == [job["id"]])
