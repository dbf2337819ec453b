"""Commanding the simulated vehicle: recorded while it moves, one hand at a time, given back whatever happens."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from statistics import fmean
from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from sondar.app import command_runs, commands
from sondar.circuit_files import library_network
from sondar.devices.commander import Link
from sondar.simulators.diagnostic_vehicle import DiagnosticVehicle, HiddenFault
from sondar.simulators.doip_vehicle import DoipServer
from tests.web.conftest import Door
from tests.web.test_check_in import check_in

PUMP = {"command": "pump", "channels": ["engine_supply"], "steps": [{"position": "on", "seconds": 2.0}], "seconds": 2.0}


def served(faults: tuple[HiddenFault, ...] = ()) -> DoipServer:
    made = DoipServer(lambda: DiagnosticVehicle(library_network("orvane-lisk"), faults, "WRVLSK18000004012"))
    assert made.live is not None
    threading.Thread(target=made.serve_forever, daemon=True).start()
    return made


@pytest.fixture
def vehicle(door: Door) -> Iterator[DoipServer]:
    """A healthy Orvane Lisk at the interface."""
    made, held = served(), door.app.extensions["sondar"]
    door.app.extensions["sondar"] = replace(held, devices=replace(held.devices, vehicles={"": made.address}))
    yield made
    door.app.extensions["sondar"] = held
    made.shutdown()
    made.server_close()


@pytest.fixture
def job(client: FlaskClient) -> str:
    return check_in(client, "P0230", make="Orvane", model="Lisk", plate="QA 11 CMD", year=2018)


def begin(client: FlaskClient, job: str, **wanted: Any) -> Any:
    return client.post(f"/api/v1/jobs/{job}/commands", json={"client_key": str(uuid4()), **wanted})


def hold(client: FlaskClient, run: str, held: bool, number: int = 0) -> None:
    number = number or time.monotonic_ns() // 1000
    assert client.post(f"/api/v1/command-runs/{run}/hold", json={"held": held, "number": number}).status_code == 200


def over(client: FlaskClient, run: str, within_s: float = 60.0) -> Any:
    """The run when it has ended."""
    end = time.monotonic() + within_s
    while time.monotonic() < end:
        found = client.get(f"/api/v1/command-runs/{run}").json["run"]
        if found["state"] != "running":
            return found
        time.sleep(0.1)
    raise AssertionError(f"still running after {within_s} s")


def comes(what: Callable[[], bool], meanwhile: Callable[[], None] = lambda: None, within_s: float = 30.0) -> None:
    """Wait until something has come about; on a busy machine it may take its time."""
    end = time.monotonic() + within_s
    while not what():
        assert time.monotonic() < end, f"not within {within_s} s"
        meanwhile()
        time.sleep(0.1)


def recorded(client: FlaskClient, run: Any) -> Any:
    return client.get(f"/api/v1/recordings/{run['recording_id']}").json


def rows(client: FlaskClient, run: Any) -> list[tuple[float, float]]:
    """Time and first channel of everything recorded with a run, however few rows a busy machine had time for."""
    out = client.get(f"/api/v1/recordings/{run['recording_id']}/file", query_string={"form": "csv"})
    assert out.status_code == 200, out.json
    found = []
    for line in out.text.splitlines():
        at_s, volts = line.split(",")[:2]
        if at_s.replace(".", "").isdigit() and volts.replace(".", "").isdigit():
            found.append((float(at_s), float(volts)))
    return found


def test_a_pump_is_commanded_and_the_supply_gives_way(client: FlaskClient, job: str, vehicle: DoipServer) -> None:
    offered = client.get(f"/api/v1/jobs/{job}/commands").json
    before = sum(one["times"] for one in offered["coverage"] if (one["title"], one["state"]) == ("Fuel pump", "ended"))
    assert offered["reason"] == ""
    assert {c["id"]: c["hold"] for c in offered["commands"]} == {"flap": True, "pump": False, "beam": False}
    started = begin(client, job, **PUMP)
    assert started.status_code == 201, started.json
    run = over(client, started.json["id"])
    assert (run["state"], run["said"]) == ("ended", "")
    assert vehicle.live is not None
    assert vehicle.live.commanded() == ()
    found = recorded(client, run)
    [lane] = found["lanes"]
    assert [c["position"] for c in lane["changes"]] == ["off", "on", "off"]
    held_s = lane["changes"][2]["at_s"] - lane["changes"][1]["at_s"]
    assert held_s > 1.95, "a step that begins late still lasts as long as was asked for"
    on_s, off_s = (change["at_s"] for change in lane["changes"][1:])
    supply = rows(client, run)
    running = [volts for at_s, volts in supply if on_s + 0.3 <= at_s <= off_s]
    standing = [volts for at_s, volts in supply if at_s >= off_s + 0.3]
    assert running, "the supply is recorded while the pump runs"
    assert standing, "and after it"
    assert fmean(running) < fmean(standing) - 0.03, "a running pump pulls the supply down"
    noticed = client.post(f"/api/v1/command-runs/{run['id']}/found", json={"found": "hums"}).json
    assert noticed["found"] == "hums"
    covered = client.get(f"/api/v1/jobs/{job}/commands").json["coverage"]
    assert {"module": "ECM", "title": "Fuel pump", "state": "ended", "times": before + 1} in covered


def test_what_was_noticed_counts_as_a_functional_check(client: FlaskClient, job: str, vehicle: DoipServer) -> None:
    circuits = client.get("/api/v1/circuits").json["circuits"]
    version = next(c["version_id"] for c in circuits if c["slug"] == "lisk-fuel-pump")
    opened = client.post(f"/api/v1/jobs/{job}/diagnoses", json={"client_key": str(uuid4()), "circuit_version_id": version})
    diagnosis = opened.json["id"]
    run = over(client, begin(client, job, **PUMP).json["id"])["id"]
    parts = client.get(f"/api/v1/command-runs/{run}/parts").json["parts"]
    assert {one["part"] for one in parts} == {"K6", "M6", "ECM"}, (
        "the relay clicks, the pump runs, and the module has carried it out"
    )
    use = {"client_key": str(uuid4()), "diagnosis_id": diagnosis, "part": "M6"}
    early = client.post(f"/api/v1/command-runs/{run}/reading", json=use)
    assert early.status_code == 422
    assert "say first what you noticed" in early.json["detail"]
    client.post(f"/api/v1/command-runs/{run}/found", json={"found": "Nothing"})
    strange = client.post(f"/api/v1/command-runs/{run}/reading", json=use | {"part": "F1"})
    assert strange.status_code == 422
    assert client.post(f"/api/v1/command-runs/{run}/reading", json=use).status_code == 201
    assert client.post(f"/api/v1/command-runs/{run}/reading", json=use).status_code == 200
    [kept] = client.get(f"/api/v1/diagnoses/{diagnosis}").json["readings"]
    assert (kept["instrument"], kept["red"], kept["entry"]) == ("functional-check", "M6", "inoperative")
    assert kept["controls"] == {"key": "run", "pump": "on"}
    assert kept["note"] == "Fuel pump commanded by the scan tool: Nothing"


def test_a_sibling_that_was_commanded_proves_the_module_in_another_circuit(
    client: FlaskClient, job: str, vehicle: DoipServer
) -> None:
    circuits = client.get("/api/v1/circuits").json["circuits"]
    version = next(c["version_id"] for c in circuits if c["slug"] == "lisk-modules-and-bus")
    body = {"client_key": str(uuid4()), "circuit_version_id": version, "carry": False, "reason": "the engine module was silent"}
    diagnosis = client.post(f"/api/v1/jobs/{job}/diagnoses", json=body).json["id"]
    run = over(client, begin(client, job, **PUMP).json["id"])["id"]
    while (answer := client.get(f"/api/v1/command-runs/{run}/parts")).status_code == 202:
        time.sleep(0.2)
    [module] = [one for one in answer.json["parts"] if one["diagnosis_id"] == diagnosis]
    assert module["part"] == "ECM"
    assert module["title"].endswith("which carried it out")
    use = {"client_key": str(uuid4()), "diagnosis_id": diagnosis, "part": "ECM"}
    assert client.post(f"/api/v1/command-runs/{run}/reading", json=use).status_code == 201, "whatever was noticed"
    [kept] = client.get(f"/api/v1/diagnoses/{diagnosis}").json["readings"]
    assert (kept["instrument"], kept["red"], kept["entry"]) == ("module-communication", "ECM", "communicates")
    assert kept["note"] == "Fuel pump commanded by the scan tool: the module carried it out"


def test_one_hand_at_a_time(client: FlaskClient, job: str, vehicle: DoipServer) -> None:
    first = begin(client, job, **PUMP).json
    second = begin(client, job, **PUMP)
    assert second.status_code == 409
    assert "Another tablet" in second.json["detail"]
    assert client.get(f"/api/v1/jobs/{job}/commands").json["running"]["id"] == first["id"]
    over(client, first["id"])
    third = begin(client, job, **PUMP)
    assert third.status_code == 201
    client.post(f"/api/v1/command-runs/{third.json['id']}/stop")
    assert over(client, third.json["id"])["state"] == "stopped"


def test_what_may_hurt_runs_only_while_it_is_held(client: FlaskClient, job: str, vehicle: DoipServer) -> None:
    refused = begin(client, job, command="flap", channels=["flap_current"], steps=[{"position": "move", "seconds": 1.0}])
    assert refused.status_code == 422
    assert "only while a finger holds it" in refused.json["detail"]
    run = begin(client, job, command="flap", channels=["flap_current"]).json["id"]
    live = vehicle.live
    assert live is not None
    time.sleep(0.5)
    assert live.commanded() == ()
    comes(lambda: live.commanded() == ("flap",), lambda: hold(client, run, True))
    late = time.monotonic_ns() // 1000
    hold(client, run, False)
    hold(client, run, True, late)  # a sign from before the finger was lifted, overtaken on its way
    comes(lambda: live.commanded() == ())
    time.sleep(0.5)
    assert live.commanded() == (), "the late sign moves nothing"
    comes(lambda: live.commanded() == ("flap",), lambda: hold(client, run, True))
    comes(lambda: live.commanded() == ())  # no sign any more: the tablet fell into the footwell
    client.post(f"/api/v1/command-runs/{run}/stop")
    found = recorded(client, over(client, run))
    assert [c["position"] for c in found["lanes"][0]["changes"]] == ["rest", "move", "rest", "move", "rest"]
    assert found["channels"][0]["greatest"] > 0.5


def test_nothing_is_commanded_before_what_was_there_before_is_recorded(
    client: FlaskClient, job: str, vehicle: DoipServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    read = Link.read

    def slowly(link: Link) -> dict[str, float]:
        time.sleep(0.4)
        return read(link)

    monkeypatch.setattr(Link, "read", slowly)
    run = over(client, begin(client, job, **PUMP).json["id"])  # its first step asks for "on" at once
    [lane] = recorded(client, run)["lanes"]
    on_s, off_s = (change["at_s"] for change in lane["changes"][1:])
    times = [at_s for at_s, _ in rows(client, run)]
    assert sum(at_s < on_s for at_s in times) >= command_runs.ROWS_AT_REST
    assert off_s - on_s > 1.95, "waiting takes nothing from the step"


def test_a_database_that_stalls_keeps_nothing_moving(
    client: FlaskClient, job: str, vehicle: DoipServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    run = begin(client, job, command="flap", channels=["flap_current"]).json["id"]
    live, looked, goes_on = vehicle.live, commands.store.sign, threading.Event()
    assert live is not None
    comes(lambda: live.commanded() == ("flap",), lambda: hold(client, run, True))

    def stalled(*asked: Any) -> Any:
        goes_on.wait(20)
        return looked(*asked)

    monkeypatch.setattr(commands.store, "sign", stalled)
    comes(lambda: live.commanded() == (), lambda: hold(client, run, True), 15.0)  # the finger is still there, and nobody can know
    goes_on.set()
    client.post(f"/api/v1/command-runs/{run}/stop")
    assert over(client, run)["state"] == "stopped"


def test_a_page_that_is_left_gives_control_back(
    client: FlaskClient, job: str, vehicle: DoipServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(command_runs, "LEFT_S", 1.0)
    run = begin(client, job, **PUMP | {"steps": [{"position": "on", "seconds": 60.0}]}).json["id"]
    found = over(client, run)
    assert (found["state"], found["said"]) == ("stopped", "The page was left: control was given back.")
    assert vehicle.live is not None
    assert vehicle.live.commanded() == ()


def test_a_refusal_is_said_in_words(client: FlaskClient, job: str, vehicle: DoipServer) -> None:
    assert vehicle.live is not None
    vehicle.live.key = "on"
    run = over(client, begin(client, job, **PUMP).json["id"])
    assert run["state"] == "refused"
    assert run["said"].startswith(
        "ECM refuses Fuel pump: conditions are not right (key, engine, speed). P0230 stored; the module may keep"
    )
    covered = client.get(f"/api/v1/jobs/{job}/commands").json["coverage"]
    assert {"module": "ECM", "title": "Fuel pump", "state": "refused", "times": 1} in covered


def test_a_stored_code_keeps_a_module_in_its_default_reaction_until_it_is_cleared(client: FlaskClient, door: Door) -> None:
    made = DoipServer(
        lambda: DiagnosticVehicle(library_network("halden-sound"), (HiddenFault("W4.open", "open", "gone"),), "WHDSND19000003719")
    )
    threading.Thread(target=made.serve_forever, daemon=True).start()
    held = door.app.extensions["sondar"]
    door.app.extensions["sondar"] = replace(held, devices=replace(held.devices, vehicles={"": made.address}))
    try:
        job = check_in(client, "P0480", make="Halden", model="Sound", plate="QA 37 LCK", year=2019)
        [fan] = client.get(f"/api/v1/jobs/{job}/commands").json["commands"]
        assert fan["locked_by"] == ["P0480"]
        refused = begin(client, job, command="fan", channels=["fan_current"]).json["id"]
        comes(
            lambda: client.get(f"/api/v1/command-runs/{refused}").json["run"]["state"] != "running",
            lambda: hold(client, refused, True),
        )
        found = over(client, refused)
        assert found["state"] == "refused"
        assert "P0480 stored; the module may keep to a default reaction" in found["said"]
        assert client.post(f"/api/v1/jobs/{job}/clearing", json={"client_key": str(uuid4()), "by": "vehicle"}).status_code < 300
        assert client.get(f"/api/v1/jobs/{job}/commands").json["commands"][0]["locked_by"] == []
        run = begin(client, job, command="fan", channels=["fan_current"]).json["id"]
        live = made.live
        assert live is not None
        comes(lambda: live.commanded() == ("fan",), lambda: hold(client, run, True))
        client.post(f"/api/v1/command-runs/{run}/stop")
        assert over(client, run)["state"] == "stopped"
    finally:
        door.app.extensions["sondar"] = held
        made.shutdown()
        made.server_close()


def test_a_vehicle_lost_in_the_middle_is_said_and_the_recording_kept(client: FlaskClient, door: Door, job: str) -> None:
    made, held = served(), door.app.extensions["sondar"]
    door.app.extensions["sondar"] = replace(held, devices=replace(held.devices, vehicles={"": made.address}))
    try:
        run = begin(client, job, **PUMP | {"steps": [{"position": "on", "seconds": 30.0}]}).json["id"]
        assert made.live is not None
        live = made.live
        comes(lambda: live.commanded() == ("pump",))
        time.sleep(1.0)
        made.go_away()
        found = over(client, run, 30.0)
        assert found["state"] == "lost"
        assert "Control may still be active: switch the key off." in found["said"]
        kept = recorded(client, found)
        assert kept["recording"]["state"] == "ready"
        assert 0.5 < kept["recording"]["end_s"] < 30.0
        assert [c["position"] for c in kept["lanes"][0]["changes"]] == ["off", "on"]
        comes(lambda: live.commanded() == ())  # the module's own session time-out ends it
    finally:
        door.app.extensions["sondar"] = held
        made.shutdown()
        made.server_close()


def test_a_run_whose_program_has_ended_is_closed_and_its_recording_kept(
    client: FlaskClient, job: str, vehicle: DoipServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    given_up = threading.Event()
    monkeypatch.setattr(command_runs, "finish", lambda *_: given_up.set())  # as if it had been killed
    run, live = begin(client, job, **PUMP).json, vehicle.live
    assert live is not None
    assert given_up.wait(60.0)
    assert live.commanded() == ()
    monkeypatch.undo()
    assert client.get(f"/api/v1/command-runs/{run['id']}").json["run"]["state"] == "running"
    monkeypatch.setattr(commands.store, "ALIVE_S", 0)
    monkeypatch.setattr(commands.store, "_SELECT", commands.store._SELECT.replace("secs => 15", "secs => 1"))

    def state() -> Any:
        return client.get(f"/api/v1/command-runs/{run['id']}").json["run"]

    comes(lambda: state()["state"] == "lost")
    assert "switch the key off" in state()["said"]
    assert recorded(client, run)["recording"]["state"] == "ready"


def test_a_wish_that_cannot_be_met_names_its_field(client: FlaskClient, job: str, vehicle: DoipServer) -> None:
    for wanted, said in (
        ({"command": "rocket", "channels": []}, "command: 'rocket' is not among the commands"),
        ({"command": "", "channels": []}, "channels: choose at least one figure"),
        ({"command": "", "channels": ["oil"]}, "channels: 'oil' is not among the live data"),
        (
            {"command": "pump", "channels": [], "steps": [{"position": "half", "seconds": 1}]},
            "steps: Fuel pump has no position 'half'",
        ),
        ({"command": "pump", "channels": []}, "steps: say at least one position"),
    ):
        refused = begin(client, job, **wanted)
        assert refused.status_code == 422, wanted
        assert said in refused.json["detail"]
