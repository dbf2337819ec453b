"""The bench meter recorded over time: alone at the points of a test, and beside a command of the vehicle."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from dataclasses import replace
from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from sondar.circuit_files import library_network
from sondar.simulators.bench_meter import MeterServer
from sondar.simulators.doip_vehicle import DoipServer
from sondar.simulators.vehicle import SimulatedVehicle
from tests.web.conftest import Door
from tests.web.test_check_in import check_in
from tests.web.test_commands import PUMP, begin, over, served

AT_PUMP = {"instrument": "voltmeter", "red": "X46.1", "black": "BAT.neg", "controls": {"key": "on"}}


class AnyVehicle(dict[str, SimulatedVehicle]):
    """The same vehicle by whatever name, made and measured once before a meter waits for it."""

    def __init__(self) -> None:
        super().__init__()
        self.vehicle = SimulatedVehicle(library_network("orvane-lisk").network, [], seed=3)
        self.vehicle.measure("voltmeter", "X46.1", "BAT.neg", self.vehicle.circuit.setup({"key": "on"}))

    def __missing__(self, _name: str) -> SimulatedVehicle:
        return self.vehicle

    def __contains__(self, _name: object) -> bool:
        return True


@pytest.fixture
def meter(door: Door) -> Iterator[MeterServer]:
    with MeterServer(AnyVehicle()) as made:
        threading.Thread(target=made.serve_forever, daemon=True).start()
        held = door.app.extensions["sondar"]
        door.app.extensions["sondar"] = replace(held, devices=replace(held.devices, meter=made.address, vehicles={}))
        yield made
        door.app.extensions["sondar"] = held
        made.shutdown()


@pytest.fixture
def vehicle(door: Door, meter: MeterServer) -> Iterator[DoipServer]:
    made, held = served(), door.app.extensions["sondar"]
    door.app.extensions["sondar"] = replace(held, devices=replace(held.devices, vehicles={"": made.address}))
    yield made
    made.shutdown()
    made.server_close()


@pytest.fixture
def diagnosis(client: FlaskClient) -> tuple[str, str]:
    """(job, circuit diagnosis) of a fuel pump."""
    job = check_in(client, "P0230", make="Orvane", model="Lisk", plate="QA 44 LOG", year=2018)
    circuits = client.get("/api/v1/circuits").json["circuits"]
    version = next(c["version_id"] for c in circuits if c["slug"] == "lisk-fuel-pump")
    body = {"client_key": str(uuid4()), "circuit_version_id": version}
    return job, client.post(f"/api/v1/jobs/{job}/diagnoses", json=body).json["id"]


def channels(client: FlaskClient, run: Any) -> dict[str, Any]:
    opened = client.get(f"/api/v1/recordings/{run['recording_id']}").json
    return {one["name"]: one for one in opened["channels"]}


def test_the_meter_alone_needs_no_vehicle_interface(client: FlaskClient, meter: MeterServer, diagnosis: tuple[str, str]) -> None:
    job, circuit = diagnosis
    begun = begin(client, job, meter={"diagnosis_id": circuit, **AT_PUMP}, seconds=4.0)
    assert begun.status_code == 201, begun.json
    run = over(client, begun.json["id"], 60.0)
    assert (run["state"], run["title"]) == ("ended", "Voltmeter, X46.1 to BAT.neg")
    [(name, channel)] = channels(client, run).items()
    assert (name, channel["unit"]) == ("Voltmeter, X46.1 to BAT.neg", "V")
    assert channel["samples"] > 4
    assert channel["tie"]["red"] == "X46.1", "what it measures is known without being said again"
    query = {"channel": 0, "start_s": 0.0, "end_s": 10.0}
    found = client.get(f"/api/v1/recordings/{run['recording_id']}/features", query_string=query).json["features"]
    [level] = [one for one in found if one["kind"] == "level"]
    use = {
        "client_key": str(uuid4()), "kind": "level", "channel": 0, "start_s": level["start_s"], "end_s": level["end_s"], "controls": {},
        "unplugged": [],
    }  # fmt: skip
    used = client.post(f"/api/v1/recordings/{run['recording_id']}/readings", json=use)
    assert used.status_code == 201, used.json
    [reading] = client.get(f"/api/v1/diagnoses/{circuit}").json["readings"]
    assert (reading["red"], reading["source"]) == ("X46.1", "recording")


def test_the_meter_stands_beside_what_the_module_tells_on_one_clock(
    client: FlaskClient, vehicle: DoipServer, diagnosis: tuple[str, str]
) -> None:
    job, circuit = diagnosis
    begun = begin(client, job, **PUMP, meter={"diagnosis_id": circuit, **AT_PUMP})
    assert begun.status_code == 201, begun.json
    found = channels(client, over(client, begun.json["id"], 60.0))
    assert list(found) == ["Engine module supply", "Voltmeter, X46.1 to BAT.neg"]
    assert found["Engine module supply"]["samples"] == found["Voltmeter, X46.1 to BAT.neg"]["samples"] > 2


def test_a_meter_that_goes_away_ends_the_run_and_what_came_is_kept(
    client: FlaskClient, meter: MeterServer, diagnosis: tuple[str, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    job, circuit = diagnosis
    asked = {"n": 0}

    class Leaving(AnyVehicle):
        def __missing__(self, name: str) -> SimulatedVehicle:
            asked["n"] += 1
            if asked["n"] > 12:
                raise OSError("pulled")
            return super().__missing__(name)

    monkeypatch.setattr(meter.RequestHandlerClass, "vehicles", Leaving())
    run = over(client, begin(client, job, meter={"diagnosis_id": circuit, **AT_PUMP}, seconds=20.0).json["id"], 60.0)
    assert run["state"] == "lost"
    assert "meter" in run["said"]
    assert next(iter(channels(client, run).values()))["samples"] >= 2


@pytest.mark.parametrize(
    ("wanted", "field"),
    [
        ({"instrument": "functional-check", "red": "M6", "black": "BAT.neg"}, "meter.instrument"),
        ({"instrument": "voltmeter", "red": "X46.1", "black": "BAT.neg", "diagnosis_id": str(uuid4())}, "meter.diagnosis_id"),
        ({"instrument": "voltmeter", "red": "nowhere", "black": "BAT.neg"}, None),
    ],
)
def test_what_cannot_be_logged_is_refused_at_its_field(
    client: FlaskClient, meter: MeterServer, diagnosis: tuple[str, str], wanted: dict[str, Any], field: str | None
) -> None:
    job, circuit = diagnosis
    refused = begin(client, job, meter={"diagnosis_id": circuit, "controls": {}, **wanted}, seconds=1.0)
    assert refused.status_code == 422, refused.json
    if field is not None:
        assert [one["field"] for one in refused.json["errors"]] == [field]


def test_without_a_meter_it_is_said(client: FlaskClient, door: Door, diagnosis: tuple[str, str]) -> None:
    job, circuit = diagnosis
    held = door.app.extensions["sondar"]
    door.app.extensions["sondar"] = replace(held, devices=replace(held.devices, meter="", vehicles={}))
    refused = begin(client, job, meter={"diagnosis_id": circuit, **AT_PUMP}, seconds=1.0)
    door.app.extensions["sondar"] = held
    assert (refused.status_code, refused.json["title"]) == (502, "Meter not read")


def test_a_meter_that_is_not_there_ends_the_run_with_what_to_do(
    client: FlaskClient, door: Door, diagnosis: tuple[str, str]
) -> None:
    job, circuit = diagnosis
    held = door.app.extensions["sondar"]
    door.app.extensions["sondar"] = replace(held, devices=replace(held.devices, meter="TCPIP::127.0.0.1::1::SOCKET", vehicles={}))
    run = over(client, begin(client, job, meter={"diagnosis_id": circuit, **AT_PUMP}, seconds=1.0).json["id"], 60.0)
    door.app.extensions["sondar"] = held
    assert run["state"] == "lost"
    assert "check that it is on and connected" in run["said"]
