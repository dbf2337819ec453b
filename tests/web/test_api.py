from __future__ import annotations

from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from sondar.circuit_files import library_circuits
from sondar.core.diagnosis.costs import LEAD_MIN
from tests.conftest import FAN_TEXT
from tests.web.conftest import reading


def test_health_and_headers(client: FlaskClient) -> None:
    answer = client.get("/api/v1/health")
    assert answer.get_json()["status"] == "ok"
    assert "default-src 'self'" in answer.headers["Content-Security-Policy"]


def test_a_circuit_is_versioned_by_its_text(client: FlaskClient) -> None:
    first = client.post("/api/v1/circuits", json={"text": FAN_TEXT})
    assert first.status_code == 201
    same = client.post("/api/v1/circuits", json={"text": FAN_TEXT}).get_json()
    assert same["version_id"] == first.get_json()["version_id"]
    changed = client.post("/api/v1/circuits", json={"text": FAN_TEXT.replace("coil_ohm: 85", "coil_ohm: 80")}).get_json()
    assert changed["version"] == first.get_json()["version"] + 1
    listed = [c for c in client.get("/api/v1/circuits").get_json()["circuits"] if c["slug"] == "radiator-fan-relay"]
    assert [c["version_id"] for c in listed] == [changed["version_id"]], "the list shows the newest"
    detail = client.get(f"/api/v1/circuits/{first.get_json()['version_id']}").get_json()
    assert detail["source_text"] == FAN_TEXT
    assert {"W8", "K3.coil", "M5"} <= {e["id"] for e in detail["drawing"]["elements"]}


def test_a_broken_circuit_file_is_a_problem_with_lines(client: FlaskClient) -> None:
    answer = client.post("/api/v1/circuits", json={"text": FAN_TEXT.replace("rating_a: 40", "rating_a: x")})
    assert answer.status_code == 422
    assert answer.content_type == "application/problem+json"
    (error,) = answer.get_json()["errors"]
    assert error["field"] == "parts.F14.rating_a"
    assert error["line"] > 10


def test_bad_requests_name_the_field(client: FlaskClient, job: dict[str, Any]) -> None:
    bad = client.post("/api/v1/jobs", json={"client_key": "no", "vehicle": {"make": ""}, "complaint": "x", "surprise": 1})
    fields = {e["field"] for e in bad.get_json()["errors"]}
    assert {"client_key", "vehicle.make", "surprise"} <= fields
    for body, field in (
        (reading("soup"), "entry"),
        (reading("12.4 Ω"), "entry"),
        (reading("OL"), "entry"),
        (reading("12", red="X99.1"), "point"),
        (reading("12", red="X31.1/c"), "red"),
        (reading("12", red="BAT.neg"), "black"),
        ({**reading("12"), "instrument": "oracle"}, "instrument"),
        ({**reading("12"), "setup": {"controls": {"key": "sideways"}}}, "position of control key"),
    ):
        answer = client.post(f"/api/v1/diagnoses/{job['diagnosis']}/readings", json=body)
        assert answer.status_code == 422, body
        assert answer.get_json()["errors"][0]["field"] == field
    assert client.get(f"/api/v1/diagnoses/{job['diagnosis']}").get_json()["readings"] == [], "nothing was stored"


@pytest.mark.parametrize("path", ["/api/v1/jobs/{id}", "/api/v1/diagnoses/{id}", "/api/v1/circuits/{id}", "/api/v1/nothing"])
def test_what_is_not_there_is_a_404_problem(client: FlaskClient, path: str) -> None:
    answer = client.get(path.format(id=uuid4()))
    assert answer.status_code == 404
    assert answer.content_type == "application/problem+json"


def test_a_repeat_with_the_same_key_is_harmless(client: FlaskClient, job: dict[str, Any]) -> None:
    body = reading("4.98", red="X2.11")
    first = client.post(f"/api/v1/diagnoses/{job['diagnosis']}/readings", json=body)
    again = client.post(f"/api/v1/diagnoses/{job['diagnosis']}/readings", json=body)
    assert (first.status_code, again.status_code) == (201, 200)
    assert len(again.get_json()["readings"]) == 1
    assert again.get_json()["assessment"]["suspects"] == first.get_json()["assessment"]["suspects"]


def test_a_job_is_created_once_per_key(client: FlaskClient, job: dict[str, Any]) -> None:
    body = {
        "client_key": str(uuid4()),
        "vehicle": {"make": "Brigg"},
        "circuit_version_id": job["circuit_version_id"],
        "complaint": "x",
    }
    ids = {client.post("/api/v1/jobs", json=body).get_json()["id"] for _ in range(3)}
    assert len(ids) == 1


def test_a_voided_reading_stays_and_no_longer_counts(client: FlaskClient, job: dict[str, Any]) -> None:
    url = f"/api/v1/diagnoses/{job['diagnosis']}"
    client.post(f"{url}/readings", json=reading("2.75", red="X2.11"))
    before = client.get(url).get_json()
    after = client.post(f"{url}/readings", json=reading("0.0", red="X12.7")).get_json()
    assert after["assessment"]["suspects"][0] != before["assessment"]["suspects"][0]
    wrong = after["readings"][1]["id"]
    body = {"client_key": str(uuid4()), "reason": "Wrong point"}
    back = client.post(f"{url}/readings/{wrong}/void", json=body).get_json()
    assert back["readings"][1]["voided_because"] == "Wrong point"
    assert back["assessment"]["suspects"] == before["assessment"]["suspects"]
    twice = client.post(f"{url}/readings/{wrong}/void", json={**body, "client_key": str(uuid4()), "reason": "again"})
    assert twice.get_json()["readings"][1]["voided_because"] == "Wrong point"
    assert client.post(f"{url}/readings/{uuid4()}/void", json=body).status_code == 404


def test_exclusions_drop_out_of_the_plan_and_come_back(client: FlaskClient, job: dict[str, Any]) -> None:
    url = f"/api/v1/diagnoses/{job['diagnosis']}/exclusions"
    out = client.post(url, json={"client_key": str(uuid4()), "kind": "point", "name": "X31", "excluded": True}).get_json()
    assert out["exclusions"]["point"] == ["X31"]
    assert not any(p["test"]["red"].startswith("X31") for p in out["assessment"]["proposals"])
    client.post(url, json={"client_key": str(uuid4()), "kind": "instrument", "name": "voltmeter", "excluded": True})
    back = client.post(url, json={"client_key": str(uuid4()), "kind": "point", "name": "X31", "excluded": False}).get_json()
    assert back["exclusions"] == {"point": [], "instrument": ["voltmeter"], "figure": [], "seized": []}
    assert not any(p["test"]["instrument"] == "voltmeter" for p in back["assessment"]["proposals"])
    assert client.post(url, json={"client_key": str(uuid4()), "kind": "point", "name": "moon", "excluded": True}).status_code == 422


def test_what_is_seized_costs_its_minutes_and_its_price_until_it_has_come_apart(client: FlaskClient, job: dict[str, Any]) -> None:
    url = f"/api/v1/diagnoses/{job['diagnosis']}"
    apart = {
        "instrument": "voltmeter",
        "red": "X31.1",
        "black": "BAT.neg",
        "setup": {"controls": {"key": "on"}, "unplugged": ["X31"]},
    }
    rate = client.get("/api/v1/session").get_json()["workshop"]["rate_per_hour"]
    usual = client.post(f"{url}/preview", json=apart).get_json()

    def say(excluded: bool, name: str = "X31", **more: float) -> Any:
        body = {"client_key": str(uuid4()), "kind": "seized", "name": name, "excluded": excluded, **more}
        return client.post(f"{url}/exclusions", json=body)

    assert say(True).status_code == 422
    assert "minutes" in say(True, minutes=20).get_json()["errors"][0]["message"]
    assert say(True, name="moon", minutes=20, price=0).status_code == 422
    out = say(True, minutes=20, price=30).get_json()
    assert out["exclusions"]["seized"] == [{"name": "X31", "minutes": 20.0, "price": 30.0}]
    forced = client.post(f"{url}/preview", json=apart).get_json()
    assert forced["minutes"] == pytest.approx(usual["minutes"] + 20 + 30 / rate * 60)
    assert "free X31, which is seized" in forced["steps"]
    assert any("Seized" in caution for caution in forced["cautions"])
    connected = {**apart, "setup": {"controls": {"key": "on"}, "unplugged": []}}
    assert "seized" not in str(client.post(f"{url}/preview", json=connected).get_json()["steps"]), "it can be measured as it is"
    client.post(f"{url}/readings", json=reading("2.7", red="X31.1"))
    assert client.get(url).get_json()["exclusions"]["seized"], "measured while connected: it is still seized"
    client.post(f"{url}/readings", json=reading("5.0", red="X31.1", setup=apart["setup"]))
    assert client.get(url).get_json()["exclusions"]["seized"] == [], "it has come apart: the reading was taken with it open"
    again = say(True, minutes=5, price=0).get_json()
    assert again["exclusions"]["seized"]
    assert say(False).get_json()["exclusions"]["seized"] == []
    events = client.get(f"/api/v1/jobs/{job['id']}/timeline").get_json()
    assert "seized X31" in str(events)


def test_preview_reckons_any_test_and_explains_a_refusal(client: FlaskClient, job: dict[str, Any]) -> None:
    url = f"/api/v1/diagnoses/{job['diagnosis']}/preview"
    test = {"instrument": "voltmeter", "red": "X12.7", "black": "BAT.neg", "setup": {"controls": {"key": "on"}}}
    card = client.post(url, json=test).get_json()
    assert card["expected_low"] < 2.75 < card["expected_high"]
    lead = 2 * 0.5 + LEAD_MIN  # X12 is in the wet: sealed
    assert card["minutes"] == pytest.approx(0.2 + 5 + 0.5 + 0.4 + lead)
    lamp = client.post(url, json={**test, "instrument": "lamp-21w"})
    assert lamp.status_code == 422
    assert "overload the module's input here" in lamp.get_json()["detail"]


def test_what_is_foreseen_for_a_result_is_what_stands_after_it(client: FlaskClient, job: dict[str, Any]) -> None:
    url = f"/api/v1/diagnoses/{job['diagnosis']}"
    before = client.get(url).get_json()
    foreseen = client.get(f"{url}/foreseen").get_json()
    assert foreseen["evidence_seq"] == before["evidence_seq"]
    assert foreseen["test"] == before["assessment"]["proposals"][0]["test"]
    assert 2 <= len(foreseen["results"]) <= 3
    result = next(item for item in foreseen["results"] if not item["settled"])
    assert result["then"], "two readings ahead"
    test = foreseen["test"]
    entry = result["word"] or f"{0.5 * (result['low'] + result['high']):.4g}"
    setup = {"controls": test["setup"]["controls"], "unplugged": test["setup"]["unplugged"]}
    body = {"client_key": str(uuid4()), "instrument": test["instrument"], "red": test["red"], "black": test["black"]}
    after = client.post(f"{url}/readings", json={**body, "setup": setup, "entry": entry}).get_json()
    assert after["assessment"]["proposals"][0]["test"] == result["proposal"]["test"]
    assert client.get(url).get_json()["readings"][0]["entry"] == entry, "looking ahead stored nothing"
    assert len(after["readings"]) == 1


def test_a_job_comes_to_a_conclusion_that_is_kept(client: FlaskClient, job: dict[str, Any]) -> None:
    url = f"/api/v1/diagnoses/{job['diagnosis']}"
    apart = {"controls": {"key": "on"}, "unplugged": ["X31"]}
    client.post(f"{url}/readings", json=reading("5.01", red="X31.1", setup=apart))
    client.post(f"{url}/readings", json=reading("0.00", red="X31.2", setup=apart))
    off = {"controls": {"key": "off"}, "unplugged": ["X31"]}
    measuring = client.post(
        f"{url}/readings", json=reading("OL", red="X31.1/c", black="X31.2/c", instrument="ohmmeter", setup=off)
    ).get_json()
    conclusion = measuring["assessment"]["conclusion"]
    assert measuring["assessment"]["suspects"][0]["probability"] > 0.8, measuring["assessment"]["suspects"][:3]
    assert conclusion["units"] == ["B9"]
    assert conclusion["group"] == "component"
    concluded = client.post(
        f"{url}/conclusion", json={"client_key": str(uuid4()), "seen_seq": measuring["evidence_seq"]}
    ).get_json()
    assert concluded["job"]["stage"] == "diagnosis"
    assert "Ambient sensor" in concluded["job"]["conclusion"]
    assert all(e["weight_ban"] > -1 for e in concluded["assessment"]["suspects"][0]["evidence"])


def test_jobs_are_paged(client: FlaskClient, job: dict[str, Any]) -> None:
    seen, before = [], None
    while True:
        page = client.get("/api/v1/jobs", query_string={"limit": 2, **({"before": before} if before else {})}).get_json()
        seen += [j["number"] for j in page["jobs"]]
        before = page["next_before"]
        if before is None:
            break
    assert seen == sorted(set(seen), reverse=True)
    assert job["number"] in seen


def test_no_meter_is_a_clear_answer(client: FlaskClient, job: dict[str, Any]) -> None:
    test = {"instrument": "voltmeter", "red": "X12.7", "black": "BAT.neg", "setup": {"controls": {"key": "on"}}}
    answer = client.post(f"/api/v1/diagnoses/{job['diagnosis']}/meter", json=test)
    assert answer.status_code == 502
    assert "type the reading" in answer.get_json()["detail"]


def test_tests_without_probes_have_targets(client: FlaskClient) -> None:
    text = library_circuits()["tessel-purge-valve"]
    circuit = client.post("/api/v1/circuits", json={"text": text}).get_json()
    detail = client.get(f"/api/v1/circuits/{circuit['version_id']}").get_json()
    targets = {(t["ref"], t["instrument"]) for t in detail["targets"]}
    assert {
        ("Y6", "functional-check"),
        ("Y6", "substitution"),
        ("W1", "current-clamp"),
        ("W1", "visual-inspection"),
        ("X51", "wiggle-test"),
    } <= targets
    assert not {("ECM", "substitution"), ("X51", "current-clamp")} & targets
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Tessel"}, "circuit_version_id": circuit["version_id"]}
    job = client.post("/api/v1/jobs", json=body).get_json()["id"]
    diagnosis = client.get(f"/api/v1/jobs/{job}").get_json()["diagnoses"][0]["id"]
    url = f"/api/v1/diagnoses/{diagnosis}/readings"
    on = {"controls": {"key": "run", "purge": "half"}}
    heard = client.post(url, json=reading("no click", red="Y6", instrument="functional-check", setup=on))
    assert heard.status_code == 201
    assert heard.get_json()["readings"][0]["label"] == "inoperative"
    suspects = {s["unit"]: s["probability"] for s in heard.get_json()["assessment"]["suspects"]}
    fed = client.post(url, json=reading("0.2", red="W1", instrument="current-clamp", setup=on)).get_json()
    after = {s["unit"]: s["probability"] for s in fed["assessment"]["suspects"]}
    assert after["Y6@system"] > suspects["Y6@system"], "current flows and nothing moves: the plunger"
    for wrong, said in (
        ({"red": "X51.1", "instrument": "functional-check"}, "cannot look at X51.1"),
        ({"red": "Y6", "instrument": "current-clamp"}, "cannot look at Y6"),
        ({"red": "Y6", "instrument": "voltmeter"}, "no point 'Y6'"),
    ):
        answer = client.post(url, json=reading("1", setup=on, **wrong))
        assert answer.status_code == 422
        assert said in str(answer.get_json()), wrong
