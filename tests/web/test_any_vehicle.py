"""A vehicle that nobody has described: codes by number and words, typical circuits, measuring at once."""

from __future__ import annotations

from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from tests.web.conftest import Door, reading
from tests.web.test_check_in import check_in, detail, say, triage


def get(client: FlaskClient, path: str, **query: Any) -> dict[str, Any]:
    answer = client.get(f"/api/v1{path}", query_string=query)
    assert answer.status_code == 200, answer.json
    found: dict[str, Any] = answer.json
    return found


def measure(client: FlaskClient, job_id: str, **body: Any) -> Any:
    return client.post(f"/api/v1/jobs/{job_id}/typical", json={"client_key": str(uuid4()), **body})


@pytest.mark.parametrize("said", ["443", "P443", "P0443-14"])
def test_a_code_as_people_say_it(client: FlaskClient, said: str) -> None:
    first = get(client, "/codes", q=said)["codes"][0]
    assert (first["code"], first["held"], first["as_said"]) == ("P0443", True, said.startswith("P0443"))
    assert first["failure_words"] == ("circuit shorted to ground or open" if said.endswith("14") else "")


def test_a_code_by_words_and_one_that_is_not_held(client: FlaskClient) -> None:
    assert "P0458" in [one["code"] for one in get(client, "/codes", q="purge valve low")["codes"]]
    maker = get(client, "/codes", q="P1443")["codes"][0]
    assert not maker["held"]
    assert "manufacturer" in maker["why_not"]
    assert get(client, "/codes", q="bilge alarm")["codes"] == []
    assert client.get("/api/v1/codes", query_string={"q": ""}).status_code == 422


def test_the_page_of_a_code(client: FlaskClient) -> None:
    page = get(client, "/codes/P0118")
    assert page["meaning"] == "Coolant temperature sensor 1: circuit high"
    assert page["electrically"].startswith("Nearly the whole pull-up voltage")
    assert {"code": "P0117", "meaning": "Coolant temperature sensor 1: circuit low"} in page["companions"]
    assert page["circuit"] == "Temperature sensor, two wires"
    assert "High-voltage" in get(client, "/codes/P0A0B")["danger"]
    assert not get(client, "/codes/P1118")["held"]
    assert client.get("/api/v1/codes/118").status_code == 422


def test_typical_circuits_for_a_code_a_name_and_a_count(client: FlaskClient) -> None:
    found = get(client, "/templates", code="P0443")
    assert found["part"] == "canister purge valve"
    first = found["templates"][0]
    assert (first["id"], first["title"]) == ("valve-pulsed", "Pulsed valve, supplied with the key, grounded by the module")
    assert (first["wires"], first["carries"], first["fed"], first["relay"], first["coded_lines"]) == (
        2,
        ["supply", "control"],
        True,
        False,
        0,
    )
    assert first["figures"] == [{"place": "Y.coil_ohm", "label": "Valve: coil resistance", "unit": "Ω", "value": "3 to 40"}]
    assert get(client, "/templates", said="gear range switch")["templates"][0]["coded_lines"] == 4
    assert get(client, "/templates", said="oil pressure switch", wires=1)["templates"][0]["id"] == "switch-one-wire"
    assert get(client, "/templates", said="bilge")["templates"] == []
    assert len(get(client, "/templates")["templates"]) >= 50


def test_from_a_code_to_a_reading_on_a_make_that_nobody_knows(client: FlaskClient) -> None:
    job_id = check_in(client, "P0118 confirmed", make="Brigg", model="Skerry scooter")
    code = detail(client, job_id)["codes"][0]
    assert (code["title"], code["known_from"]) == ("Coolant temperature sensor 1: circuit high", "generic")
    assert code["template"] == "thermistor-two-wire"
    first = triage(client, job_id)["parts"][0]
    assert (first["code"], first["template"]) == ("P0118", "thermistor-two-wire")
    made = measure(client, job_id, template=first["template"], code="P0118")
    assert made.status_code == 201, made.json
    assert made.json["title"] == "Coolant temperature sensor 1, typical"
    answer = client.post(
        f"/api/v1/diagnoses/{made.json['id']}/readings",
        json=reading("0.01", red="X2.1", black="X2.2", setup={"controls": {"key": "on"}, "unplugged": ["X2"]}),
    )
    assert answer.status_code == 201, answer.json
    component = sum(one["probability"] for one in answer.json["assessment"]["suspects"] if one["group"] == "component")
    assert component < 0.05, "no voltage at the open plug is not the sensor"


def test_the_same_part_on_two_makes_is_two_circuits(client: FlaskClient) -> None:
    made = [
        measure(client, check_in(client, "", make=make), template="switch-to-ground", name="oil pressure switch")
        for make in ("Brigg", "Orvane")
    ]
    assert [one.json["title"] for one in made] == ["Oil pressure switch, typical"] * 2
    assert made[0].json["slug"] != made[1].json["slug"]


def test_a_request_sent_twice_opens_one_diagnosis(client: FlaskClient) -> None:
    job_id, body = check_in(client, "", make="Brigg"), {"client_key": str(uuid4()), "template": "horn"}
    made = [client.post(f"/api/v1/jobs/{job_id}/typical", json=body).json["id"] for _ in range(2)]
    assert made[0] == made[1]


def test_what_is_not_there_is_said(client: FlaskClient, door: Door) -> None:
    job_id = check_in(client, "", make="Brigg")
    answer = measure(client, job_id, template="warp-drive")
    assert answer.status_code == 422
    assert answer.json["errors"][0]["field"] == "template"
    assert measure(client, str(uuid4()), template="horn").status_code == 404
    assert measure(door("quay-read-only"), job_id, template="horn").status_code == 403


@pytest.mark.parametrize("name", ["Ölschalter", "日本", "<b>x</b>", '"; drop', "a" * 60, "  "])
def test_any_name_makes_a_circuit(client: FlaskClient, name: str) -> None:
    made = measure(client, check_in(client, "", make="Brigg"), template="horn", name=name)
    assert made.status_code == 201, made.json
    assert made.json["title"].casefold().startswith(name.strip().casefold() or "horn")


def coil_of_three_ohms(client: FlaskClient) -> tuple[str, dict[str, Any]]:
    """A valve that nobody has described, whose coil reads less than most have: the diagnosis, and what is said of it."""
    diagnosis = measure(client, check_in(client, "", make="Brigg", model="Skerry"), template="solenoid-low-side").json["id"]
    apart = {"controls": {"key": "off"}, "unplugged": ["X2"]}
    body = reading("3.0", instrument="ohmmeter", red="X2.1/c", black="X2.2/c", setup=apart)
    answer = client.post(f"/api/v1/diagnoses/{diagnosis}/readings", json=body)
    assert answer.status_code == 201, answer.json
    return diagnosis, answer.json["assessment"]


def test_a_published_figure_is_a_test_and_decides_once_it_is_filled_in(client: FlaskClient) -> None:
    diagnosis, said = coil_of_three_ohms(client)
    [figure] = said["look_ups"]
    assert (figure["part"], figure["field"], figure["unit"]) == ("Y", "coil_ohm", "Ω")
    assert figure["title"].startswith("Coil resistance of ")
    assert figure["expected_saving_min"] > figure["minutes"] > 0
    fill = {"client_key": str(uuid4()), "changes": [{"kind": "part", "id": "Y", "field": "coil_ohm", "value": "29 to 31"}]}
    after = client.put(f"/api/v1/diagnoses/{diagnosis}/known", json=fill).json["assessment"]
    assert after["look_ups"] == []
    assert after["suspects"][0]["unit"] == "Y"
    assert after["suspects"][0]["probability"] > 0.85


def test_a_figure_that_is_published_nowhere_is_said_once(client: FlaskClient) -> None:
    diagnosis, _ = coil_of_three_ohms(client)
    path = f"/api/v1/diagnoses/{diagnosis}/exclusions"
    wanted = {"client_key": str(uuid4()), "kind": "figure", "name": "Y.coil_ohm", "excluded": True}
    without = client.post(path, json=wanted).json
    [left] = without["exclusions"]["figure"]
    assert (without["assessment"]["look_ups"], left["name"]) == ([], "Y.coil_ohm")
    assert left["title"].startswith("Coil resistance of ")
    again = client.post(path, json=wanted | {"client_key": str(uuid4()), "excluded": False}).json
    assert len(again["assessment"]["look_ups"]) == 1
    client.post(path, json=wanted | {"client_key": str(uuid4())})
    fill = {"client_key": str(uuid4()), "changes": [{"kind": "part", "id": "Y", "field": "coil_ohm", "value": "30"}]}
    known = client.put(f"/api/v1/diagnoses/{diagnosis}/known", json=fill).json
    assert known["exclusions"]["figure"] == [], "what was found after all is not ruled out"
    diagnosis, _ = coil_of_three_ohms(client)
    path = f"/api/v1/diagnoses/{diagnosis}/exclusions"
    strange = client.post(path, json=wanted | {"client_key": str(uuid4()), "name": "Y.colour"})
    assert strange.status_code == 422
    assert "Y.coil_ohm" in strange.json["detail"]


def test_what_the_scan_tools_file_says_of_a_makers_code_is_taken_over(client: FlaskClient) -> None:
    make = f"Brigg {uuid4().hex[:6]}"
    job_id = check_in(client, "", make=make)
    text = "code,description\nP1ABD,Oil pressure switch circuit low\nP0118,The tool's own words\n"
    body = {"client_key": str(uuid4()), "source": "import", "text": text, "conditions": [], "none_stored": False}
    preview = client.post(f"/api/v1/jobs/{job_id}/scans/preview", json={"text": text}).json
    assert [row["words"] for row in preview["rows"]] == ["Oil pressure switch circuit low", "The tool's own words"]
    assert client.post(f"/api/v1/jobs/{job_id}/scans", json=body).status_code == 201
    codes = {one["code"]: one for one in detail(client, job_id)["codes"]}
    assert codes["P1ABD"]["title"] == "Oil pressure switch circuit low"
    assert "circuit high" in codes["P0118"]["title"], "the standard's meaning stays"
    later = check_in(client, "P1ABD", make=make)
    again = body | {"client_key": str(uuid4()), "text": text.replace("Oil pressure switch circuit low", "other words")}
    assert client.post(f"/api/v1/jobs/{later}/scans", json=again).status_code == 201
    [known] = detail(client, later)["codes"][:1]
    assert known["title"] == "Oil pressure switch circuit low", "what the workshop knows is not overwritten"


def test_a_complaint_without_a_code_leads_to_a_measurement(client: FlaskClient) -> None:
    job_id = check_in(client, "", make="Brigg", model="Skerry")
    assert triage(client, job_id)["parts"] == []
    assert say(client, job_id, "complaint", "No start when hot, starts when cold.").status_code == 200
    offered = {one["key"]: one for one in detail(client, job_id)["symptoms"]}
    assert "Fuel pump" in offered["no-start"]["parts"]
    assert offered["no-start"]["circuits"] == []
    assert triage(client, job_id)["parts"][0]["template"] == "hall-three-wire"
    assert say(client, job_id, "symptoms", ["nothing-runs-or-it-never-stops"]).status_code == 200
    first = triage(client, job_id)["parts"]
    assert "nothing runs or it never stops" in " ".join(one["reason"] for one in first)


def test_filling_in_in_the_middle_of_a_job_moves_no_reading(client: FlaskClient) -> None:
    job_id = check_in(client, "P0443", make="Brigg", model="Skerry")
    diagnosis = measure(client, job_id, template="valve-pulsed", code="P0443").json["id"]
    closed = {"controls": {"key": "off", "valve": "off"}, "unplugged": ["X2"]}
    before = client.post(
        f"/api/v1/diagnoses/{diagnosis}/readings",
        json=reading("45", instrument="ohmmeter", red="X2.1/c", black="X2.2/c", setup=closed),
    ).json
    known = get(client, f"/diagnoses/{diagnosis}/known")["known"]
    assert (known[0]["id"], known[0]["field"], known[0]["open"]) == ("Y", "coil_ohm", True)
    changes = [
        {"kind": "part", "id": "Y", "field": "coil_ohm", "value": "40 to 50"}, {"kind": "wire", "id": "W1", "field": "colour", "value": "RD/YE"},
        {"kind": "connector", "id": "X2", "field": "place", "value": "inlet manifold, left"},
    ]  # fmt: skip
    body = {"client_key": str(uuid4()), "changes": changes}
    answer = client.put(f"/api/v1/diagnoses/{diagnosis}/known", json=body)
    assert answer.status_code == 200, answer.json
    after = answer.json
    assert [one["id"] for one in after["readings"]] == [one["id"] for one in before["readings"]]
    assert after["evidence_seq"] > before["evidence_seq"]

    def share(found: Any, unit: str) -> float:
        return sum(one["probability"] for one in found["assessment"]["suspects"] if one["unit"] == unit)

    assert share(after, "Y") < share(before, "Y"), "45 Ω is what the sheet says"
    assert client.put(f"/api/v1/diagnoses/{diagnosis}/known", json=body).status_code == 200, "sent twice"
    lines = [one["text"] for one in get(client, f"/jobs/{job_id}/timeline")["entries"] if one["kind"] == "circuit filled in"]
    assert lines == ["Y coil resistance 40 to 50 Ω; W1 colour red/yellow; X2 place inlet manifold, left"]
    version = get(client, f"/diagnoses/{diagnosis}")["diagnosis"]["circuit_version_id"]
    assert get(client, f"/circuits/{version}")["title"] == "Canister purge valve, typical"
    wrong = client.put(
        f"/api/v1/diagnoses/{diagnosis}/known",
        json={"client_key": str(uuid4()), "changes": [{"kind": "wire", "id": "W1", "field": "colour", "value": "bl"}]},
    )
    assert wrong.status_code == 422
    assert wrong.json["errors"][0]["field"] == "changes.0.value"
    assert "black or blue" in wrong.json["errors"][0]["message"]


def test_readings_show_how_it_is_built_and_one_tap_draws_it_so(client: FlaskClient) -> None:
    job_id = check_in(client, "P0443", make="Brigg", model="Skerry")
    diagnosis = measure(client, job_id, template="solenoid-low-side", code="P0443").json["id"]
    for red, unplugged in (("X2.1", []), ("F1.2", [])):
        entry = reading("12.4", red=red, black="BAT.neg", setup={"controls": {"key": "off"}, "unplugged": unplugged})
        answer = client.post(f"/api/v1/diagnoses/{diagnosis}/readings", json=entry)
        assert answer.status_code == 201, answer.json
    [way] = [one for one in answer.json["assessment"]["ways"] if one["offered"]]
    assert (way["id"], way["title"]) == ("permanent", "The supply is permanent, not switched by the key")
    change = {"kind": "variant", "id": "permanent", "field": "built", "value": "so"}
    taken = client.put(f"/api/v1/diagnoses/{diagnosis}/known", json={"client_key": str(uuid4()), "changes": [change]})
    assert taken.status_code == 200, taken.json
    assert taken.json["assessment"]["ways"] == []
    assert [one["id"] for one in taken.json["readings"]] == [one["id"] for one in answer.json["readings"]]
    assert all(effect["within_expected"] for effect in taken.json["assessment"]["effects"])
    lines = [one["text"] for one in get(client, f"/jobs/{job_id}/timeline")["entries"] if one["kind"] == "circuit filled in"]
    assert lines == ["built otherwise: The supply is permanent, not switched by the key"]
    again = client.put(f"/api/v1/diagnoses/{diagnosis}/known", json={"client_key": str(uuid4()), "changes": [change]})
    assert again.status_code == 422
    assert "has no variant 'permanent'" in again.json["errors"][0]["message"]


def test_unlabelled_wires_are_told_apart_and_measured_in_their_order(client: FlaskClient) -> None:
    first = client.post("/api/v1/wires", json={"wires": 3, "said": "camshaft sensor"}).json
    assert not first["certain"]
    assert first["asked"]["title"] == first["kinds"][first["asked"]["kind"]]
    volts = {"off": ("0", "0", "0"), "on": ("0.00", "12.3", "5.0"), "load": ("0", "12.3", "4.1")}
    readings = [
        {"cavity": n + 1, "kind": kind, "entry": entry} for kind, entries in volts.items() for n, entry in enumerate(entries)
    ]
    found = client.post("/api/v1/wires", json={"wires": 3, "said": "camshaft sensor", "readings": readings}).json
    assert found["certain"]
    assert [one[0]["carries"] for one in found["cavities"]] == ["ground", "supply", "signal"]
    assert found["template"] == "hall-three-wire"
    made = measure(
        client, check_in(client, "", make="Brigg"), template=found["template"], name="camshaft sensor", order=found["order"]
    )
    assert made.status_code == 201, made.json
    version = get(client, f"/diagnoses/{made.json['id']}")["diagnosis"]["circuit_version_id"]
    text = get(client, f"/circuits/{version}")
    assert text["title"] == "Camshaft sensor, typical"


@pytest.mark.parametrize(
    ("body", "field"),
    [({"wires": 7}, "wires"), ({"wires": 3, "readings": [{"cavity": 4, "kind": "on", "entry": "5"}]}, "readings.0.cavity"),
     ({"wires": 3, "readings": [{"cavity": 1, "kind": "warm", "entry": "5"}]}, "readings.0.kind"),
     ({"wires": 3, "readings": [{"cavity": 1, "kind": "on", "entry": "potato"}]}, "")],
)  # fmt: skip
def test_a_reading_at_no_cavity_is_said(client: FlaskClient, body: dict[str, Any], field: str) -> None:
    answer = client.post("/api/v1/wires", json=body)
    assert answer.status_code == 422
    assert field in [one["field"] for one in answer.json["errors"]] or not field


def test_an_order_that_is_none_is_refused(client: FlaskClient) -> None:
    job_id = check_in(client, "", make="Brigg")
    answer = measure(client, job_id, template="hall-three-wire", order=[1, 1, 2])
    assert answer.status_code == 422
    assert answer.json["errors"][0]["field"] == "order"


def test_a_scan_tools_own_text_leads_to_what_is_nearest(client: FlaskClient) -> None:
    found = get(client, "/codes", q="Left front wheel speed sensor supply broken wire")["codes"]
    assert found[0]["code"] == "C0032"
