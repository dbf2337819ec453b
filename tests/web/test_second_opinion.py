"""Somebody else's diagnosis is answered; codes of systems on which nothing is measured carry their caution; what fails how often."""

from __future__ import annotations

from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from sondar.simulators.vehicle import SimulatedVehicle
from tests.conftest import AMBIENT_TEXT, circuit_of
from tests.web.conftest import Door
from tests.web.test_keeping import change


def answer(client: FlaskClient, job: dict[str, Any], field: str, value: Any) -> None:
    body = {"client_key": str(uuid4()), "value": value, "seen_seq": 10_000}
    found = client.put(f"/api/v1/jobs/{job['id']}/answers/{field}", json=body)
    assert found.status_code == 200, found.get_json()


def opinion(client: FlaskClient, job: dict[str, Any]) -> Any:
    return client.get(f"/api/v1/diagnoses/{job['diagnosis']}").get_json()["opinion"]


def verdicts(client: FlaskClient, job: dict[str, Any]) -> dict[str, str]:
    return {item["part"]: item["verdict"] for item in opinion(client, job)["answers"]}


def measured_to_the_call(client: FlaskClient, job: dict[str, Any], fault: str) -> Any:
    """Do what is proposed on a vehicle with a fault until a diagnosis is due."""
    circuit = circuit_of(AMBIENT_TEXT)
    vehicle = SimulatedVehicle(circuit, [(fault, None)], seed=3)
    url = f"/api/v1/diagnoses/{job['diagnosis']}"
    state = client.get(url).get_json()
    for _ in range(15):
        if state["assessment"]["conclusion"]["settled"]:
            break
        test = state["assessment"]["proposals"][0]["test"]
        setup = {name: test["setup"][name] for name in ("controls", "unplugged")}
        made = circuit.setup(setup["controls"], frozenset(setup["unplugged"]))
        value, word = vehicle.measure(test["instrument"], test["red"], test["black"], made)
        body = {"client_key": str(uuid4()), "setup": setup, "entry": word or f"{value:.4g}"}
        sent = client.post(f"{url}/readings", json=body | {name: test[name] for name in ("instrument", "red", "black")})
        assert sent.status_code == 201, sent.get_json()
        state = sent.get_json()
    return state


def test_nobody_asked(client: FlaskClient, job: dict[str, Any]) -> None:
    assert opinion(client, job) is None


def test_a_second_opinion_is_answered_part_by_part(client: FlaskClient, job: dict[str, Any]) -> None:
    answer(client, job, "opinion_by", "the customer's brother")
    answer(client, job, "opinion_said", "new sensor bought, the module is suspected")
    answer(client, job, "opinion_parts", ["B9", "BCM", "K3"])
    found = opinion(client, job)
    assert found["by"] == "the customer's brother"
    sensor = "B9"
    answer(client, job, "opinion_parts", [sensor, "K3"])
    assert verdicts(client, job) == {sensor: "open", "K3": "another circuit"}
    state = measured_to_the_call(client, job, "B9.open")
    assert state["assessment"]["conclusion"]["units"] == ["B9"]
    wire = "W3"
    answer(client, job, "opinion_parts", [sensor, wire])
    assert verdicts(client, job) == {sensor: "confirmed", wire: "part not needed"}
    sentence = next(item["sentence"] for item in opinion(client, job)["answers"] if item["part"] == wire)
    assert f"after {len(state['readings'])} readings" in sentence


@pytest.mark.parametrize(("code", "word"), [("B0012", "Restraint"), ("P0A1F", "High-voltage"), ("P0480", ""), ("B1012", "")])
def test_codes_of_systems_on_which_nothing_is_measured(client: FlaskClient, job: dict[str, Any], code: str, word: str) -> None:
    body = {"client_key": str(uuid4()), "source": "typed", "text": code, "conditions": []}
    detail = client.post(f"/api/v1/jobs/{job['id']}/scans", json=body).get_json()
    danger = next(item["danger"] for item in detail["codes"] if item["code"] == code)
    assert danger.startswith(word) if word else danger == ""


def test_a_workshop_sets_how_often_what_fails(door: Door, client: FlaskClient, job: dict[str, Any]) -> None:
    lead = door("quay-lead")
    before = client.get(f"/api/v1/diagnoses/{job['diagnosis']}").get_json()
    usual = {item["key"]: item["percent"] for item in client.get("/api/v1/lists").get_json()["groups"]}
    assert sum(usual.values()) == pytest.approx(100)
    try:
        change(lead, group_shares={**usual, "module": 60})
        after = client.get(f"/api/v1/diagnoses/{job['diagnosis']}").get_json()
        assert after["assessment"]["track"][0]["module"] > 3 * before["assessment"]["track"][0]["module"]
        assert "the workshop's own figures for what fails" in after["prior_reasons"]
    finally:
        change(lead, group_shares={})
    shop = lead.get("/api/v1/session").get_json()["workshop"]
    bad = lead.put("/api/v1/workshop", json={**shop, "group_shares": {"wiring": 50}})
    assert bad.status_code == 422
    assert "all of wiring" in str(bad.get_json())
