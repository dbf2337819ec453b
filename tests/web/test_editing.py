"""What becomes known of a circuit while it is measured: limits of one's own, what is in a wire, versions, the sheet itself."""

from __future__ import annotations

import io
from typing import Any
from uuid import uuid4

import pypdfium2
import pytest
from flask.testing import FlaskClient
from PIL import Image

from sondar.app import editing
from tests.core.describing.sheets import OIL_CONTROL_VALVE
from tests.web.conftest import Door, reading
from tests.web.test_any_vehicle import get, measure
from tests.web.test_check_in import check_in

AT_THE_PLUG = {"instrument": "voltmeter", "red": "X2.1", "black": "BAT.neg", "setup": {"controls": {"key": "on"}, "unplugged": []}}
SUPPLY = {
    "title": "Supply at the valve",
    "test": AT_THE_PLUG,
    "least": "11.5 V",
    "most": "",
    "source": "manufacturer",
    "note": "Sheet 14",
}


def key() -> dict[str, str]:
    return {"client_key": str(uuid4())}


@pytest.fixture
def valve(client: FlaskClient) -> dict[str, str]:
    """A purge valve that nobody has described, with one reading."""
    job_id = check_in(client, "P0443", make="Brigg", model=f"Skerry {uuid4().hex[:6]}")
    diagnosis = measure(client, job_id, template="valve-pulsed", code="P0443").json["id"]
    assert client.post(f"/api/v1/diagnoses/{diagnosis}/readings", json=reading("10.2", red="X2.1")).status_code == 201
    return {"job": job_id, "id": diagnosis, "url": f"/api/v1/diagnoses/{diagnosis}"}


def test_a_limit_of_ones_own_judges_what_has_been_read(client: FlaskClient, valve: dict[str, str]) -> None:
    body = {**key(), "limit": SUPPLY}
    kept = client.put(f"{valve['url']}/limits", json=body)
    assert kept.status_code == 200, kept.json
    [limit] = kept.json["limits"]
    assert (limit["title"], limit["decision"], limit["source"], limit["note"]) == (
        "Supply at the valve",
        "fail",
        "manufacturer",
        "Sheet 14",
    )
    assert limit["entry"] == {
        "least": "11.5 V", "most": "", "word": "", "typical": "", "copper_at_c": None, "source": "manufacturer",
    }  # fmt: skip
    assert client.put(f"{valve['url']}/limits", json=body).json["limits"] == kept.json["limits"], "sent twice"
    changed = client.put(f"{valve['url']}/limits", json={**key(), "limit": {**SUPPLY, "id": limit["id"], "least": "9.5"}}).json
    assert [one["decision"] for one in changed["limits"]] == ["pass"]
    assert changed["readings"] == kept.json["readings"]
    lines = [one["text"] for one in get(client, f"/jobs/{valve['job']}/timeline")["entries"] if one["kind"] == "circuit filled in"]
    assert sorted(lines) == ["limit added: Supply at the valve, at least 11.5", "limit changed: Supply at the valve, at least 9.5"]
    gone = client.delete(f"{valve['url']}/limits/{limit['id']}", query_string=key())
    assert (gone.status_code, gone.json["limits"]) == (200, [])
    assert client.delete(f"{valve['url']}/limits/{limit['id']}", query_string=key()).status_code == 422


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"least": ""}, "least"),
        ({"least": "plenty"}, "least"),
        ({"test": {**AT_THE_PLUG, "red": "X99.1"}}, "red"),
        ({"id": "none"}, "id"),
    ],
)
def test_a_limit_that_cannot_be_kept_says_so_at_its_field(
    client: FlaskClient, valve: dict[str, str], change: dict[str, Any], field: str
) -> None:
    refused = client.put(f"{valve['url']}/limits", json={**key(), "limit": {**SUPPLY, **change}})
    assert refused.status_code == 422
    assert any(field in one["field"] or field in one["message"] for one in refused.json["errors"]), refused.json
    assert get(client, f"/diagnoses/{valve['id']}")["limits"] == []


def test_a_plug_that_was_found_in_a_wire_can_be_measured_at(client: FlaskClient, valve: dict[str, str]) -> None:
    before = get(client, f"/diagnoses/{valve['id']}")
    body = {**key(), "wire": "W1", "what": "connector", "name": "X90", "title": "Boot connector", "cavity": "3"}
    put = client.post(f"{valve['url']}/insertions", json=body)
    assert put.status_code == 201, put.json
    assert put.json["readings"] == before["readings"]
    circuit = get(client, f"/circuits/{put.json['diagnosis']['circuit_version_id']}")
    assert "X90.3" in {point["ref"] for point in circuit["points"]}
    assert next(one["title"] for one in circuit["connectors"] if one["id"] == "X90") == "Boot connector"
    read = client.post(f"{valve['url']}/readings", json=reading("12.3", red="X90.3"))
    assert read.status_code == 201, read.json
    suspects = {unit["unit"] for unit in read.json["assessment"]["suspects"]}
    assert suspects & {"X90", "W1-2"}, "full voltage in front of the plug: it is the plug or what is behind it"
    assert client.post(f"{valve['url']}/insertions", json=body).status_code == 201, "sent twice"
    taken = client.post(f"{valve['url']}/insertions", json={**body, **key()})
    assert (taken.status_code, taken.json["errors"][0]["field"]) == (422, "cavity")
    versions = get(client, f"/circuits/{put.json['diagnosis']['circuit_version_id']}/versions")["versions"]
    assert [one["version"] for one in versions] == [2, 1]
    assert "connector X90 added (Boot connector)" in versions[0]["changed"]
    assert versions[1]["changed"] == []


def test_two_people_who_fill_in_at_once_lose_nothing(
    client: FlaskClient, valve: dict[str, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """While the limit is worked out, a colleague fills in a colour: the limit is put on top of it."""
    original, met = editing._edit, []

    def meanwhile(*arguments: Any) -> Any:
        if not met:
            met.append(True)
            changes = [{"kind": "wire", "id": "W1", "field": "colour", "value": "pink"}]
            assert client.put(f"{valve['url']}/known", json={**key(), "changes": changes}).status_code == 200
        return original(*arguments)

    monkeypatch.setattr(editing, "_edit", meanwhile)
    kept = client.put(f"{valve['url']}/limits", json={**key(), "limit": SUPPLY})
    assert kept.status_code == 200, kept.json
    known = get(client, f"/diagnoses/{valve['id']}/known")["known"]
    assert next(one["value"] for one in known if (one["id"], one["field"]) == ("W1", "colour")) == "pink"
    assert [one["title"] for one in kept.json["limits"]] == ["Supply at the valve"]


def pdf(pages: int) -> bytes:
    document = pypdfium2.PdfDocument.new()
    for _ in range(pages):
        document.new_page(595, 842)
    held = io.BytesIO()
    document.save(held)
    return held.getvalue()


def send(client: FlaskClient, raw: bytes, name: str, client_key: str = "") -> Any:
    form = {"client_key": client_key or str(uuid4()), "picture": (io.BytesIO(raw), name)}
    return client.post("/api/v1/sheets/pictures", data=form, content_type="multipart/form-data")


def test_the_sheet_itself_is_kept_with_the_circuit(client: FlaskClient, door: Door) -> None:
    again = str(uuid4())
    sent = send(client, pdf(2), "sheet.pdf", again)
    assert sent.status_code == 201, sent.json
    pages = sent.json["pictures"]
    assert len(pages) == 2
    assert send(client, pdf(2), "sheet.pdf", again).json["pictures"] == pages, "sent twice"
    page = client.get(f"/api/v1/sheets/pictures/{pages[0]}")
    assert page.content_type == "image/png"
    assert max(Image.open(io.BytesIO(page.data)).size) == 2400
    small = client.get(f"/api/v1/sheets/pictures/{pages[0]}?size=thumbnail")
    assert max(Image.open(io.BytesIO(small.data)).size) == 320
    kept = client.post(
        "/api/v1/sheets", json={"sheet": {**OIL_CONTROL_VALVE, "model": "Quay with its sheet", "pictures": pages}}
    ).json
    assert get(client, f"/circuits/{kept['version_id']}")["sheet"]["pictures"] == pages
    assert door("mole-lead").get(f"/api/v1/sheets/pictures/{pages[0]}").status_code == 404, "another workshop's"
    assert client.get(f"/api/v1/sheets/pictures/{uuid4()}").status_code == 404


NO_SHEETS = {
    "text": (b"no picture", "not a readable"),
    "broken": (b"%PDF-1.7 broken", "cannot be opened"),
    "long": (pdf(7), "7 pages: at most 6"),
    "large": (b"%PDF-" + b"0" * 13_000_000, "too large"),
}


@pytest.mark.parametrize("name", NO_SHEETS)
def test_what_is_no_sheet_is_refused(client: FlaskClient, name: str) -> None:
    raw, said = NO_SHEETS[name]
    refused = send(client, raw, "sheet.pdf")
    assert refused.status_code in (413, 422)
    assert said in str(refused.json)
