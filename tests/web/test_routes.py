"""Every route of the API, asked by everyone: what each answers is written down here, and no route may be missing."""

from __future__ import annotations

import io
import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient
from PIL import Image

from tests.conftest import AMBIENT_TEXT, ROOT
from tests.core.describing.sheets import OIL_CONTROL_VALVE
from tests.web.conftest import PASSWORD, Door, reading

TEST = {"instrument": "voltmeter", "red": "X12.7", "black": "BAT.neg", "setup": {"controls": {"key": "on"}}}
GATHER = {"make": "Tessel", "model": "Route", "circuits": ["tessel-purge-valve", "tessel-air-mass"]}
LIMIT = {"title": "Signal", "least": "1 V", "most": "3 V", "source": "workshop"}


CHART = """
sondar_procedure: 1
title: Outside temperature
circuit: quay-ambient
steps:
  1: {do: Is 5 V at the open plug?, red: X31.1, when: {key: "on"}, unplugged: [X31], min: 4.7, max: 5.3, if_pass: 2, if_fail: {unit: W1}}
  2: {do: Resistance of the sensor, with: ohmmeter, red: X31.1/c, black: X31.2/c, unplugged: [X31], min: 1.8k, max: 3.5k,
      if_pass: {text: Replace the module, unit: BCM}, if_fail: {unit: B9}}
"""


def key() -> dict[str, str]:
    return {"client_key": str(uuid4())}


@dataclass(frozen=True)
class Route:
    """One route as asked here.

    Attributes:
        needs: least role: ``nobody``, ``read-only``, ``technician`` or ``lead``.
        done: status for those who may.
        body: makes the request's body.
        elsewhere: status for a lead of another workshop who knows the ids.
    """

    needs: str
    done: int
    body: Callable[[], Any] | None = None
    elsewhere: int = 404


ROUTES: dict[str, Route] = {
    "GET /health": Route("nobody", 200, elsewhere=200),
    "GET /ready": Route("nobody", 200, elsewhere=200),
    "GET /setup": Route("nobody", 200, elsewhere=200),
    "POST /setup": Route("nobody", 409, lambda: {"code": "x", "workshop": "w", "name": "n", "sign_in": "nn", "password": "p"}, 409),
    "GET /session": Route("nobody", 200, elsewhere=200),
    "POST /session": Route("nobody", 200, lambda: {"sign_in": "quay-read-only", "password": PASSWORD}, 200),
    "GET /shared/{token}": Route("nobody", 404, elsewhere=404),
    "GET /accounts": Route("lead", 200, elsewhere=200),
    "POST /accounts": Route("lead", 201, lambda: {"sign_in": f"r{uuid4().hex[:8]}", "name": "R", "role": "read-only", "password": PASSWORD}, 201),
    "PUT /accounts/{account_id}": Route("lead", 200, lambda: {"name": "Changed", "role": "technician", "active": True}),
    "PUT /accounts/{account_id}/password": Route("lead", 200, lambda: {"password": PASSWORD}),
    "GET /calculators": Route("read-only", 200, elsewhere=200),
    "POST /calculators/{calculator_id}": Route("read-only", 200, lambda: {"values": {"volts": "12", "amps": "2"}}, 200),
    "GET /audit": Route("lead", 200, elsewhere=200),
    "GET /lists": Route("read-only", 200, elsewhere=200),
    "GET /diagnoses/{diagnosis_id}": Route("read-only", 200),
    "GET /diagnoses/{diagnosis_id}/procedures": Route("read-only", 200),
    "POST /diagnoses/{diagnosis_id}/procedures": Route("technician", 201, lambda: {"text": CHART}),
    "GET /diagnoses/{diagnosis_id}/procedures/{procedure_id}": Route("read-only", 200),
    "GET /diagnoses/{diagnosis_id}/procedures/{procedure_id}/comparison": Route("read-only", 200),
    "GET /diagnoses/{diagnosis_id}/expected-values": Route("read-only", 200),
    "GET /programs": Route("lead", 200, elsewhere=200),
    "POST /programs": Route("lead", 201, lambda: {"name": "Parts program", "role": "read-only"}, 201),
    "DELETE /programs/{program_id}": Route("lead", 200),
    "POST /jobs/{job_id}/erasure": Route("lead", 200, lambda: {"words": False}),
    "GET /workshop/storage": Route("read-only", 200, elsewhere=200),
    "GET /diagnoses/{diagnosis_id}/foreseen": Route("read-only", 200),
    "POST /diagnoses/{diagnosis_id}/repairs": Route("technician", 201, lambda: {**key(), "units": ["W1"], "action": "Replaced"}),
    "POST /diagnoses/{diagnosis_id}/exclusions": Route("technician", 200, lambda: {**key(), "kind": "point", "name": "X12", "excluded": False}),
    "POST /diagnoses/{diagnosis_id}/meter": Route("technician", 502, lambda: TEST),
    "POST /diagnoses/{diagnosis_id}/preview": Route("read-only", 200, lambda: TEST),
    "POST /diagnoses/{diagnosis_id}/readings": Route("technician", 201, lambda: reading("4.9")),
    "POST /diagnoses/{diagnosis_id}/readings/{reading_id}/void": Route("technician", 200, lambda: {**key(), "reason": "misread"}),
    "POST /diagnoses/{diagnosis_id}/waveform": Route("read-only", 200, lambda: TEST),
    "POST /diagnoses/{diagnosis_id}/conclusion": Route("technician", 201, lambda: {**key(), "seen_seq": 10_000}),
    "GET /circuits": Route("read-only", 200, elsewhere=200),
    "POST /circuits": Route("technician", 201, lambda: {"text": AMBIENT_TEXT}, 201),
    "GET /circuits/{version_id}": Route("read-only", 200),
    "GET /circuits/{version_id}/versions": Route("read-only", 200),
    "GET /codes": Route("read-only", 200, elsewhere=200),
    "GET /codes/{code}": Route("read-only", 200, elsewhere=200),
    "GET /templates": Route("read-only", 200, elsewhere=200),
    "POST /jobs/{job_id}/typical": Route("technician", 201, lambda: {**key(), "template": "horn"}),
    "GET /diagnoses/{diagnosis_id}/known": Route("read-only", 200),
    "PUT /diagnoses/{diagnosis_id}/known": Route(
        "technician", 200, lambda: {**key(), "changes": [{"kind": "wire", "id": "W1", "field": "colour", "value": "BN/WH"}]}
    ),
    "PUT /diagnoses/{diagnosis_id}/limits": Route("technician", 200, lambda: {**key(), "limit": {**LIMIT, "test": TEST}}),
    "DELETE /diagnoses/{diagnosis_id}/limits/{limit_id}": Route("technician", 200),
    "POST /diagnoses/{diagnosis_id}/insertions": Route("technician", 201, lambda: {**key(), "wire": "W1", "what": "joint"}),
    "POST /jobs/{job_id}/recordings/typed": Route(
        "technician", 201, lambda: {**key(), "name": "By hand", "channels": [{"name": "Pressure", "unit": "kPa", "rest": 100.0}]}
    ),
    "PUT /recordings/{recording_id}/known-good": Route("technician", 409, lambda: {"said": "warm, idle"}),
    "GET /recordings/{recording_id}/pairs": Route("read-only", 404),
    "GET /jobs/{job_id}/modules": Route("read-only", 200),
    "GET /parts": Route("read-only", 200, elsewhere=200),
    "GET /jobs/{job_id}/parts": Route("read-only", 200),
    "GET /jobs/{job_id}/parts-table": Route("read-only", 200),
    "POST /wires": Route("read-only", 200, lambda: {"wires": 5, "readings": [{"cavity": 1, "kind": "on", "entry": "5.0"}]}, elsewhere=200),
    "POST /sheets": Route("technician", 201, lambda: {"sheet": OIL_CONTROL_VALVE}, 201),
    "POST /sheets/preview": Route("read-only", 200, lambda: {"sheet": OIL_CONTROL_VALVE}, 200),
    "POST /sheets/table": Route("read-only", 200, lambda: {"text": "cavity,colour\n1,red\n", "form": "csv"}, 200),
    "POST /sheets/pictures": Route("technician", 201, lambda: "picture", elsewhere=201),
    "GET /sheets/pictures/{picture_id}": Route("read-only", 200),
    "PUT /diagnoses/{diagnosis_id}/circuit": Route("technician", 200, lambda: {**key(), "version_id": "{version_id}"}),
    "GET /diagnoses/{diagnosis_id}/repair-plan": Route("read-only", 200),
    "GET /jobs/{job_id}/bundle": Route("read-only", 200),
    "GET /jobs/{job_id}/verification": Route("read-only", 200),
    "POST /jobs/{job_id}/readiness": Route("technician", 502, key),
    "GET /jobs/{job_id}/road-test": Route("read-only", 200),
    "GET /jobs/{job_id}/estimate": Route("read-only", 200),
    "POST /jobs/{job_id}/estimate/acceptance": Route("technician", 422, lambda: {**key(), "name": "K. L.", "gross": "1"}),
    "POST /bundles": Route("technician", 422, lambda: "bundle", 422),
    "GET /jobs/{job_id}/commands": Route("read-only", 200),
    "POST /jobs/{job_id}/commands": Route("technician", 502, lambda: {**key(), "channels": ["x"]}),
    "GET /command-runs/{run_id}": Route("read-only", 404),
    "POST /command-runs/{run_id}/hold": Route("technician", 404, lambda: {"held": True, "number": 1}),
    "POST /command-runs/{run_id}/stop": Route("technician", 404),
    "GET /command-runs/{run_id}/parts": Route("read-only", 404),
    "POST /command-runs/{run_id}/reading": Route("technician", 404, lambda: {**key(), "diagnosis_id": str(uuid4()), "part": "M1"}),
    "POST /command-runs/{run_id}/found": Route("technician", 404, lambda: {"found": "clicked"}),
    "GET /jobs/{job_id}/recordings": Route("read-only", 200),
    "POST /jobs/{job_id}/recordings": Route("technician", 201, lambda: {**key(), "name": "log.csv", "bytes": 100}),
    "GET /recordings/{recording_id}": Route("read-only", 200),
    "DELETE /recordings/{recording_id}": Route("technician", 204),
    "GET /recordings/{recording_id}/pieces": Route("read-only", 200),
    "PUT /recordings/{recording_id}/pieces/{number}": Route("technician", 422, lambda: "piece"),
    "GET /recordings/{recording_id}/preview": Route("read-only", 409),
    "POST /recordings/{recording_id}/reading": Route("technician", 409, dict),
    "GET /recordings/{recording_id}/lines": Route("read-only", 200),
    "GET /recordings/{recording_id}/features": Route("read-only", 404),
    "GET /recordings/{recording_id}/plausibility": Route("read-only", 200),
    "GET /recordings/{recording_id}/file": Route("read-only", 409),
    "POST /recordings/{recording_id}/marks": Route("technician", 201, lambda: {**key(), "at_s": 1.0, "text": "here"}),
    "PUT /recordings/{recording_id}/channel-meaning": Route(
        "technician", 404, lambda: {"name": "a", "diagnosis_id": str(uuid4()), "instrument": "voltmeter", "red": "X", "black": "Y"}
    ),
    "PUT /recordings/{recording_id}/lane-meaning": Route("technician", 404, lambda: {"name": "a", "control": "key", "positions": {}}),
    "POST /recordings/{recording_id}/readings": Route("technician", 404, lambda: {**key(), "channel": 0, "start_s": 0, "end_s": 1}),
    "GET /jobs/{job_id}/report": Route("read-only", 200),
    "GET /jobs/{job_id}/follow-up": Route("read-only", 404),
    "GET /follow-ups": Route("read-only", 200, elsewhere=200),
    "GET /jobs": Route("read-only", 200, elsewhere=200),
    "POST /jobs": Route("technician", 201, lambda: {**key(), "vehicle": {"make": "Brigg"}}, 201),
    "GET /jobs/{job_id}": Route("read-only", 200),
    "PUT /jobs/{job_id}/answers/{field}": Route("technician", 200, lambda: {**key(), "value": f"said {uuid4()}", "seen_seq": 2_000_000_000}),
    "POST /jobs/{job_id}/diagnoses": Route("technician", 201, lambda: {**key(), "circuit_version_id": "{version_id}"}),
    "POST /jobs/{job_id}/clearing": Route("technician", 201, lambda: {**key(), "by": "hand"}),
    "PUT /jobs/{job_id}/codes/{code}/meaning": Route("technician", 200, lambda: {"title": "Bilge alarm"}),
    "GET /events": Route("read-only", 204, elsewhere=204),
    "GET /jobs/{job_id}/events": Route("read-only", 204),
    "POST /jobs/{job_id}/notes": Route("technician", 201, lambda: {**key(), "body": "a note"}),
    "POST /jobs/{job_id}/photos": Route("technician", 201, lambda: "picture"),
    "GET /jobs/{job_id}/photos/{photo_id}": Route("read-only", 200),
    "POST /jobs/{job_id}/scans": Route("technician", 201, lambda: {**key(), "text": "P0073"}),
    "POST /jobs/{job_id}/scans/preview": Route("technician", 200, lambda: {"text": "P0073"}),
    "POST /jobs/{job_id}/scans/vehicle": Route("technician", 502, key),
    "GET /jobs/{job_id}/shares": Route("read-only", 200),
    "POST /jobs/{job_id}/shares": Route("technician", 201, lambda: {"days": 3}),
    "DELETE /jobs/{job_id}/shares/{share_id}": Route("technician", 200),
    "GET /jobs/{job_id}/timeline": Route("read-only", 200),
    "GET /jobs/{job_id}/triage": Route("read-only", 200),
    "PUT /me/password": Route("read-only", 422, lambda: {"old": "no", "new": "no"}, 422),
    "GET /me/sessions": Route("read-only", 200, elsewhere=200),
    "DELETE /me/sessions/{session_id}": Route("read-only", 404, elsewhere=404),
    "PUT /me/theme": Route("read-only", 200, lambda: {"theme": "dark"}, 200),
    "GET /meters": Route("read-only", 200, elsewhere=200),
    "POST /meters": Route("lead", 201, lambda: {"name": "M"}, 201),
    "DELETE /meters/{meter_id}": Route("lead", 200),
    "DELETE /session": Route("read-only", 200, elsewhere=200),
    "GET /vehicle-models": Route("read-only", 200, elsewhere=200),
    "GET /vehicle-models/{slug}": Route("read-only", 200, elsewhere=200),
    "POST /vehicle-models/preview": Route("read-only", 200, lambda: GATHER, elsewhere=200),
    "POST /vehicle-models/gathered": Route("technician", 201, lambda: GATHER, elsewhere=201),
    "POST /vehicle-models": Route("technician", 422, lambda: {"text": "sondar_vehicle: 1"}, 422),
    "GET /vehicles": Route("read-only", 200, elsewhere=200),
    "GET /vehicles/{vehicle_id}": Route("read-only", 200),
    "PUT /workshop": Route("lead", 409, lambda: {"name": "W", "rate_per_hour": 1, "currency": "EUR", "decision_threshold": 0.9,
        "distance_unit": "km",
                                                 "temperature_unit": "C", "tools": ["voltmeter"], "alone": False, "show_examples": True,
                                                 "photo_quota_mb": 5000, "recording_quota_mb": 20000,
                                                 "erase_after_months": None, "group_shares": {},
                                                 "version": 2_000_000_000}, 409),
    "GET /workshop/sessions": Route("lead", 200, elsewhere=200),
    "DELETE /workshop/sessions/{session_id}": Route("lead", 404),
}  # fmt: skip
RANK = {"nobody": 0, "read-only": 1, "technician": 2, "lead": 3}


def fill(text: str, ids: dict[str, str]) -> str:
    for name, value in ids.items():
        text = text.replace("{" + name + "}", value)
    return text


def picture() -> dict[str, Any]:
    held = io.BytesIO()
    Image.new("RGB", (8, 8), "white").save(held, "PNG")
    held.seek(0)
    return {**key(), "caption": "", "picture": (held, "p.png")}


def ask(client: FlaskClient, route: str, ids: dict[str, str]) -> int:
    method, path = route.split(" ")
    body = ROUTES[route].body
    content = None if body is None else body()
    kwargs: dict[str, Any] = {}
    if content == "picture":
        kwargs = {"data": picture(), "content_type": "multipart/form-data"}
    elif content == "bundle":
        kwargs = {"data": {"bundle": (io.BytesIO(b"no zip"), "job.zip")}, "content_type": "multipart/form-data"}
    elif content == "piece":
        kwargs = {"data": {"piece": (io.BytesIO(b"too short"), "piece")}, "content_type": "multipart/form-data"}
    elif content is not None:
        kwargs = {"json": json.loads(fill(json.dumps(content), ids))}
    if route in ("GET /vehicles", "GET /codes"):
        kwargs = {"query_string": {"plate": "PA 1"} if route == "GET /vehicles" else {"q": "443"}}
    if route.startswith("GET /recordings/{recording_id}/") and route.rsplit("/", 1)[-1] in (
        "lines",
        "features",
        "pairs",
        "plausibility",
    ):
        kwargs = {"query_string": {"start_s": 0, "end_s": 1, "channel": 0, "other": 1, "channels": "0"}}
    if route.startswith("DELETE /diagnoses/{diagnosis_id}/limits"):
        kwargs = {"query_string": key()}
    if route == "GET /diagnoses/{diagnosis_id}/repair-plan":
        kwargs = {"query_string": {"units": "W1"}}
    answer = client.open(f"/api/v1{fill(path, ids)}", method=method, buffered=False, **kwargs)
    status: int = answer.status_code
    answer.close()
    return status


@pytest.fixture
def things(door: Door) -> Callable[[], dict[str, str]]:
    """Makes one of everything in the quay workshop; ids by the names the paths use."""

    def make() -> dict[str, str]:
        tech, lead = door("quay-technician"), door("quay-lead")
        # A circuit of the workshop's own: the library's are everyone's.
        text = AMBIENT_TEXT.replace("id: ambient-temperature", "id: quay-ambient")
        version = tech.post("/api/v1/circuits", json={"text": text}).get_json()["version_id"]
        job = tech.post(
            "/api/v1/jobs", json={**key(), "vehicle": {"make": "Orvane"}, "circuit_version_id": version, "codes": "P0073"}
        ).get_json()
        diagnosis = tech.get(f"/api/v1/jobs/{job['id']}").get_json()["diagnoses"][0]["id"]
        measuring = tech.post(f"/api/v1/diagnoses/{diagnosis}/readings", json=reading("4.9")).get_json()
        photo = tech.post(f"/api/v1/jobs/{job['id']}/photos", data=picture(), content_type="multipart/form-data").get_json()[
            "photos"
        ][0]
        share = tech.post(f"/api/v1/jobs/{job['id']}/shares", json={"days": 1}).get_json()["shares"][0]
        body = {"sign_in": f"t{uuid4().hex[:8]}", "name": "T", "role": "technician", "password": PASSWORD}
        account = next(
            a for a in lead.post("/api/v1/accounts", json=body).get_json()["accounts"] if a["sign_in"] == body["sign_in"]
        )
        meter = lead.post("/api/v1/meters", json={"name": f"Meter {uuid4().hex[:6]}"}).get_json()["meters"][-1]
        program = lead.post("/api/v1/programs", json={"name": "Parts", "role": "read-only"}).get_json()["programs"][0]
        procedure = tech.post(f"/api/v1/diagnoses/{diagnosis}/procedures", json={"text": CHART}).get_json()
        sheet = tech.post("/api/v1/sheets/pictures", data=picture(), content_type="multipart/form-data").get_json()
        kept = {**key(), "limit": {**LIMIT, "title": "Kept", "test": TEST}}
        tech.put(f"/api/v1/diagnoses/{diagnosis}/limits", json=kept)
        announced = {**key(), "name": "log.csv", "bytes": 100}
        recording = tech.post(f"/api/v1/jobs/{job['id']}/recordings", json=announced).get_json()
        return {
            "run_id": str(uuid4()), "recording_id": recording["id"], "number": "0", "version_id": version,
            "job_id": job["id"], "vehicle_id": job["vehicle_id"], "diagnosis_id": diagnosis, "photo_id": photo["id"],
            "calculator_id": "ohm", "program_id": program["id"], "procedure_id": procedure["id"],
            "reading_id": measuring["readings"][0]["id"], "share_id": share["id"], "account_id": account["id"], "meter_id": meter["id"],
            "picture_id": sheet["pictures"][0], "limit_id": "kept", "slug": "halden-tern",
            "session_id": str(uuid4()), "token": "no-such-token", "field": "complaint", "code": "P1ABC",
        }  # fmt: skip

    return make


def test_no_route_is_missing_here() -> None:
    document = json.loads((ROOT / "docs" / "openapi.json").read_text())
    served = {
        f"{method.upper()} {path.removeprefix('/api/v1')}" for path, methods in document["paths"].items() for method in methods
    }
    assert served == set(ROUTES)


@pytest.mark.parametrize("route", [r for r in ROUTES if r != "DELETE /session"])
def test_who_may_ask_what(door: Door, things: Callable[[], dict[str, str]], route: str) -> None:
    expected = ROUTES[route]
    ids = things()
    assert ask(door.nobody(), route, ids) == (expected.done if expected.needs == "nobody" else 401)
    for role in ("read-only", "technician", "lead"):
        client = door(f"quay-{role}")
        allowed = RANK[role] >= RANK[expected.needs]
        if route == "POST /session":
            client = door.nobody()
        fresh = things() if route.startswith(("DELETE", "PUT /accounts")) or "voiding" in route else ids
        assert ask(client, route, fresh) == (expected.done if allowed else 403), role
    stranger = door.nobody() if route == "POST /session" else door("mole-lead")
    assert ask(stranger, route, ids) == expected.elsewhere, "a lead of another workshop"


def test_signing_out_ends_for_every_role(door: Door) -> None:
    for role in ("read-only", "technician", "lead"):
        client = door.nobody()
        me = client.post("/api/v1/session", json={"sign_in": f"quay-{role}", "password": PASSWORD}).get_json()
        assert client.delete("/api/v1/session").status_code == 403, "without its token"
        assert client.delete("/api/v1/session", headers={"X-CSRF-Token": me["csrf"]}).status_code == 200
        assert client.get("/api/v1/jobs").status_code == 401
