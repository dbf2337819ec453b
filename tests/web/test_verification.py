"""Verification over HTTP: readings, codes, monitors and commands after a repair, and what a job may be closed with."""

from __future__ import annotations

import subprocess
import threading
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from sondar.circuit_files import library_network
from sondar.core.circuit.vehicle import RoutineItem
from sondar.devices.commander import Link, RefusedByModuleError
from sondar.simulators.diagnostic_vehicle import DiagnosticVehicle, HiddenFault
from sondar.simulators.doip_vehicle import DoipServer
from tests.web.conftest import Door, reading
from tests.web.test_check_in import check_in
from tests.web.test_commands import begin, over, vehicle
from tests.web.test_repairs import CUT, close, cut, put_back, repair

__all__ = ["cut", "vehicle"]

ALWAYS = 2_000_000_000


def key() -> dict[str, str]:
    return {"client_key": str(uuid4())}


def shown(client: FlaskClient, job_id: str) -> dict[str, Any]:
    found: dict[str, Any] = client.get(f"/api/v1/jobs/{job_id}/verification").get_json()
    return found


def say(client: FlaskClient, job_id: str, field: str, value: Any) -> Any:
    return client.put(f"/api/v1/jobs/{job_id}/answers/{field}", json={**key(), "value": value, "seen_seq": ALWAYS})


def test_a_failed_reading_stands_beside_what_it_shows_now(client: FlaskClient, cut: dict[str, Any]) -> None:
    assert shown(client, cut["id"])["standing"]["sentence"] == "No repair is recorded."
    repair(client, cut)
    [item] = shown(client, cut["id"])["readings"]
    assert (item["before"], item["now"], item["passed"], item["said"]) == ("5.01 V", "", None, "")
    assert item["test"]["setup"]["controls"]["key"] == "on"
    client.post(f"{cut['url']}/readings", json=reading("4.41", red="X2.11", black="BAT.neg"))
    found = shown(client, cut["id"])
    [item] = found["readings"]
    assert (item["now"], item["passed"]) == ("4.41 V", False)
    assert "above its range; it was" in item["said"]
    assert found["standing"]["outcome"] == "partly"  # nearer than before
    client.post(f"{cut['url']}/readings", json=reading("2.74", red="X2.11", black="BAT.neg"))
    found = shown(client, cut["id"])
    [item] = found["readings"]
    assert (item["now"], item["passed"]) == ("2.74 V", True)
    assert "record that repair; if not, it comes and goes" in item["said"]
    assert found["standing"]["outcome"] == "fixed"


def test_a_reading_that_only_passes_because_less_is_known_is_said_to_be_doubtful(client: FlaskClient, job: dict[str, Any]) -> None:
    url = f"/api/v1/diagnoses/{job['diagnosis']}"
    sensor = reading("2.67k", red="X31.1/c", instrument="ohmmeter", setup={"controls": {"key": "off"}, "unplugged": ["X31"]})
    sensor["black"] = "X31.2/c"
    assert client.post(f"{url}/readings", json=sensor).status_code == 201
    for entry, red, black in CUT:
        client.post(f"{url}/readings", json=reading(entry, red=red, black=black))
    repair(client, {**job, "url": url})
    red = shown(client, job["id"])["readings"][0]["test"]["red"]
    client.post(f"{url}/readings", json=reading("3.80", red=red, black="BAT.neg"))
    [item] = shown(client, job["id"])["readings"]
    assert item["passed"] is True
    assert "Before the repair 2." in item["said"]
    assert "not right yet" in item["said"]


def test_a_job_is_closed_as_partly_fixed_only_with_what_is_left(client: FlaskClient, cut: dict[str, Any]) -> None:
    repair(client, cut)
    put_back(client, cut)
    client.post(f"{cut['url']}/readings", json=reading("4.41", red="X2.11", black="BAT.neg"))
    put_back(client, cut)
    assert "Or say under verification" in close(client, cut).get_json()["detail"]
    assert say(client, cut["id"], "outcome", "half").status_code == 422
    assert say(client, cut["id"], "outcome", "partly").status_code == 200
    refused = close(client, cut)
    assert (refused.status_code, refused.get_json()["title"]) == (409, "Say what is left")
    say(client, cut["id"], "outcome_left", "0.5 V above the range: corrosion further up; the joint is opened on Monday.")
    assert close(client, cut).status_code == 200


def test_a_code_that_is_back_keeps_a_job_open(client: FlaskClient, cut: dict[str, Any]) -> None:
    assert client.post(f"/api/v1/jobs/{cut['id']}/scans", json={**key(), "text": "BCM: P0073 confirmed"}).status_code == 201
    repair(client, cut)
    client.post(f"{cut['url']}/readings", json=reading("2.74", red="X2.11", black="BAT.neg"))
    put_back(client, cut)
    [code] = shown(client, cut["id"])["codes"]
    assert (code["code"], code["state"], code["before"]) == ("P0073", "not cleared", ["confirmed"])
    client.post(f"/api/v1/jobs/{cut['id']}/clearing", json={**key(), "by": "hand"})
    assert shown(client, cut["id"])["codes"][0]["state"] == "not read"
    client.post(f"/api/v1/jobs/{cut['id']}/scans", json={**key(), "text": "P0073 active"})
    found = shown(client, cut["id"])
    assert (found["codes"][0]["state"], found["standing"]["outcome"]) == ("failed again", "partly")
    refused = close(client, cut)
    assert (refused.status_code, refused.get_json()["title"]) == (409, "Codes are back")
    client.post(f"/api/v1/jobs/{cut['id']}/clearing", json={**key(), "by": "hand"})
    client.post(f"/api/v1/jobs/{cut['id']}/scans", json={**key(), "text": "", "none_stored": True, "conditions": ["key cycled"]})
    found = shown(client, cut["id"])
    assert (found["codes"][0]["state"], found["run"]) == ("not there", ["key cycled"])
    assert close(client, cut).status_code == 200


@pytest.mark.parametrize(("days", "said"), [(-3, "is overdue"), (0, "is due today"), (30, "is due in 30 days"), (200, "")])
def test_clearing_is_warned_of_before_an_inspection(client: FlaskClient, cut: dict[str, Any], days: int, said: str) -> None:
    due = (datetime.now(UTC).date() + timedelta(days=days)).isoformat()
    assert say(client, cut["id"], "inspection_due", due).status_code == 200
    warned = shown(client, cut["id"])["clearing_warning"]
    assert said in warned
    assert bool(warned) is bool(said)


@pytest.fixture
def broken(door: Door) -> Iterator[DoipServer]:
    """A Lisk with an open throttle position sensor, four times as fast."""
    faults = [HiddenFault("B24.open", "")]
    made = DoipServer(lambda: DiagnosticVehicle(library_network("orvane-lisk"), faults, "WRVLSK18000004012", speed=4.0))
    threading.Thread(target=made.serve_forever, daemon=True).start()
    held = door.app.extensions["sondar"]
    door.app.extensions["sondar"] = replace(held, devices=replace(held.devices, vehicles={"": made.address}))
    yield made
    door.app.extensions["sondar"] = held
    made.shutdown()


@pytest.fixture
def throttle(client: FlaskClient, broken: DoipServer) -> dict[str, str]:
    """A job on that vehicle, with its codes read and its circuit opened."""
    job_id = check_in(client, "P0122", make="Orvane", model="Lisk", plate="QA 24 VFY", year=2018)
    assert client.post(f"/api/v1/jobs/{job_id}/scans/vehicle", json={**key(), "conditions": []}).status_code == 201
    detail = client.get(f"/api/v1/jobs/{job_id}").get_json()
    version = next(c["version_id"] for c in detail["circuits"] if c["slug"] == "lisk-throttle-position")
    made = client.post(f"/api/v1/jobs/{job_id}/diagnoses", json={**key(), "circuit_version_id": version}).get_json()
    return {"id": job_id, "diagnosis": made["id"], "url": f"/api/v1/diagnoses/{made['id']}"}


def test_codes_are_proved_by_the_vehicle_and_monitors_by_their_module(
    client: FlaskClient, broken: DoipServer, throttle: dict[str, str], tmp_path: Path
) -> None:
    job_id = throttle["id"]
    say(client, job_id, "conditions", ["cold", "bumps"])
    read = client.post(f"/api/v1/jobs/{job_id}/readiness", json=key()).get_json()
    assert read["monitors"]["outstanding"] == []
    assert not read["monitors"]["since_repair"] or not read["repaired_at"]
    assert {line["code"] for line in read["frame"]} == {"P0122"}
    assert [one["verdict"] for one in read["results"]][:1] == ["near its limit"], "the catalyst at 0.94 of 1 comes first"
    assert read["results"][0]["limits"] == "0 to 1"
    assert client.post(f"{throttle['url']}/repairs", json={**key(), "units": ["B24"], "action": "Replaced"}).status_code == 201
    broken.vehicle.repair(["B24"])
    found = shown(client, job_id)
    assert [(c["code"], c["state"]) for c in found["codes"]] == [("P0122", "not cleared")]
    assert not found["monitors"]["since_repair"]
    assert found["watch"] == ["Body module supply", "Cabin flap motor current", "Engine module supply", "Throttle position signal"]
    broken.vehicle.speed = 0.0  # its monitors wait, however long the requests take
    client.post(f"/api/v1/jobs/{job_id}/clearing", json={**key(), "by": "vehicle"})
    client.post(f"/api/v1/jobs/{job_id}/scans/vehicle", json={**key(), "conditions": []})
    assert shown(client, job_id)["codes"][0]["state"] == "not completed"
    read = client.post(f"/api/v1/jobs/{job_id}/readiness", json=key()).get_json()
    assert "evaporative system" in read["monitors"]["outstanding"]
    assert read["monitors"]["since_repair"]
    card = client.get(f"/api/v1/jobs/{job_id}/road-test")
    assert (card.status_code, card.content_type) == (200, "application/pdf")
    (tmp_path / "card.pdf").write_bytes(card.data)
    words = subprocess.run(
        ["/usr/bin/pdftotext", "-layout", tmp_path / "card.pdf", "-"], capture_output=True, text=True, check=True
    ).stdout
    for said in (
        "A second person reads the screen",
        "P0122",
        "It sets when",
        "only cold",
        "evaporative system",
        "Throttle position signal",
    ):
        assert said in words
    broken.vehicle.speed = 1e6  # every monitor has run by now
    client.post(f"/api/v1/jobs/{job_id}/scans/vehicle", json={**key(), "conditions": ["key cycled"]})
    found = shown(client, job_id)
    assert found["codes"][0]["state"] == "passed"
    assert found["conditions"] == ["cold", "driven"]


def test_a_routine_belongs_to_the_repair_and_says_how_it_ended(
    client: FlaskClient, broken: DoipServer, throttle: dict[str, str]
) -> None:
    plan = client.get(f"{throttle['url']}/repair-plan?units=B24").get_json()["steps"]
    [step] = [step for step in plan if step["routine"]]
    assert (step["routine"], step["stage"], step["caution"]) == ("throttle_ends", "after", True)
    assert "basic setting, ECM, key run" in step["text"]
    offered = client.get(f"/api/v1/jobs/{throttle['id']}/commands").get_json()
    assert next(r["success"] for r in offered["routines"] if r["id"] == "throttle_ends") == "completed"
    wanted = {"routine": "throttle_ends", "channels": ["throttle", "obd:42"]}
    run = over(client, begin(client, throttle["id"], **wanted).get_json()["id"])
    assert (run["state"], run["found"], run["said"]) == ("ended", "ends not plausible", "Result: ends not plausible.")
    broken.vehicle.repair(["B24"])
    run = over(client, begin(client, throttle["id"], **wanted).get_json()["id"])
    assert (run["state"], run["found"], run["said"]) == ("ended", "completed", "")
    opened = client.get(f"/api/v1/recordings/{run['recording_id']}").get_json()
    assert {channel["name"] for channel in opened["channels"]} == {"Throttle position signal", "Control module voltage"}
    assert [change["position"] for change in opened["lanes"][0]["changes"]][:2] == ["not started", "running"]
    for odd in (
        {"routine": "no-such"},
        {"routine": "throttle_ends", "command": "pump"},
        {"channels": ["obd:ZZ"]},
        {"channels": ["obd:FE"]},
    ):
        assert begin(client, throttle["id"], **odd).status_code == 422


def test_a_command_is_given_again_after_the_repair(client: FlaskClient, vehicle: DoipServer) -> None:
    job_id = check_in(client, "P0230", make="Orvane", model="Lisk", plate="QA 12 VFY", year=2018)
    detail = client.get(f"/api/v1/jobs/{job_id}").get_json()
    version = next(c["version_id"] for c in detail["circuits"] if c["slug"] == "lisk-fuel-pump")
    made = client.post(f"/api/v1/jobs/{job_id}/diagnoses", json={**key(), "circuit_version_id": version}).get_json()
    pump = {"command": "pump", "channels": ["engine_supply"], "steps": [{"position": "on", "seconds": 0.3}], "seconds": 0.2}
    first = over(client, begin(client, job_id, **pump).get_json()["id"])
    client.post(f"/api/v1/command-runs/{first['id']}/found", json={"found": "Nothing"})
    assert shown(client, job_id)["commands"] == []
    client.post(f"/api/v1/diagnoses/{made['id']}/repairs", json={**key(), "units": ["K6"], "action": "Replaced"})
    [again] = shown(client, job_id)["commands"]
    assert (again["title"], again["before"], again["after"], again["after_recording"]) == ("Fuel pump", "Nothing", "", None)
    second = over(client, begin(client, job_id, **pump).get_json()["id"])
    client.post(f"/api/v1/command-runs/{second['id']}/found", json={"found": "It moves"})
    [again] = shown(client, job_id)["commands"]
    assert (again["before"], again["after"]) == ("Nothing", "It moves")
    assert again["after_recording"] == second["recording_id"]


def test_a_vehicle_that_nobody_has_described_still_says_its_figures(client: FlaskClient, vehicle: DoipServer) -> None:
    job_id = check_in(client, "", make="Brigg", model="Skerry", plate="QA 61 VFY", year=2021)
    assert client.get(f"/api/v1/jobs/{job_id}/commands").get_json()["data"] == []
    assert client.post(f"/api/v1/jobs/{job_id}/readiness", json=key()).status_code == 200
    offered = client.get(f"/api/v1/jobs/{job_id}/commands").get_json()
    assert (offered["reason"], offered["described"]) == ("", False)
    assert {"obd:05", "obd:42"} <= {one["id"] for one in offered["data"]}
    run = over(client, begin(client, job_id, channels=["obd:42", "obd:0C"], seconds=0.5).get_json()["id"])
    assert run["state"] == "ended"
    opened = client.get(f"/api/v1/recordings/{run['recording_id']}").get_json()
    assert [channel["name"] for channel in opened["channels"]] == ["Control module voltage", "Engine speed"]


def test_without_an_interface_monitors_are_ticked_by_hand(client: FlaskClient, job: dict[str, Any]) -> None:
    refused = client.post(f"/api/v1/jobs/{job['id']}/readiness", json=key())
    assert refused.status_code == 502
    assert "tick the monitors" in refused.get_json()["detail"]
    assert say(client, job["id"], "readiness", ["catalyst | maybe"]).status_code == 422
    assert say(client, job["id"], "readiness", ["catalyst | not complete", "misfire | complete"]).status_code == 200
    assert shown(client, job["id"])["monitors"] == {"complete": ["misfire"], "outstanding": ["catalyst"], "since_repair": True}


def test_a_routine_that_is_refused_in_the_middle_does_not_go_on(
    client: FlaskClient, broken: DoipServer, throttle: dict[str, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    def refuses(_line: Link, item: RoutineItem) -> str:
        raise RefusedByModuleError(item.module, f"the result of {item.title}", 0x22)

    monkeypatch.setattr(Link, "routine_result", refuses)
    run = over(client, begin(client, throttle["id"], routine="throttle_ends").get_json()["id"])
    assert run["state"] == "refused"
    assert "conditions are not right" in run["said"]
    assert not broken.vehicle.live._started
