"""Requests that no page makes: each gets a clear refusal, and none is a failure of ours."""

from __future__ import annotations

import gzip
import json
from io import BytesIO
from typing import Any
from uuid import uuid4

import psycopg
import pytest
from flask.testing import FlaskClient
from psycopg_pool import PoolTimeout

from sondar.app.workspace import Workspace
from sondar.store.database import borrowed
from sondar.web.services import Services
from tests.web.conftest import Door, reading


@pytest.mark.parametrize("path", ["/" + "a" * 6000, "/assets/" + "a" * 3000, "/%00", "/..%2f..%2fetc/passwd", "/" + "a/" * 2000])
def test_a_page_of_any_name_is_the_first_page(client: FlaskClient, path: str) -> None:
    answer = client.get(path)
    assert answer.status_code == 200
    assert b"<title>Sondar" in answer.data


@pytest.mark.parametrize("path", ["/api/v1/" + "a" * 6000, "/api/" + "%00" * 30])
def test_no_such_address(client: FlaskClient, path: str) -> None:
    assert client.get(path).status_code == 404


@pytest.mark.parametrize(
    "body", ["[" * 100_000, '{"a":' * 50_000 + "1" + "}" * 50_000, '{"vehicle":{"year":' + "9" * 5000 + "}}", "\xff", ""]
)
def test_json_that_is_none_or_too_deep(client: FlaskClient, body: str) -> None:
    answer = client.post("/api/v1/jobs", data=body.encode("latin-1"), content_type="application/json")
    assert answer.status_code in (400, 422)
    assert answer.get_json()["detail"]


def test_text_where_a_file_belongs(client: FlaskClient, job: dict[str, Any]) -> None:
    for form in ({"client_key": str(uuid4()), "picture": "abc"}, {"client_key": str(uuid4())}):
        answer = client.post(f"/api/v1/jobs/{job['id']}/photos", data=form, content_type="multipart/form-data")
        assert answer.status_code == 422
        assert "picture" in answer.get_json()["detail"]
    bomb = {"client_key": str(uuid4()), "picture": (BytesIO(b"\x89PNG\r\n\x1a\n" + bytes(100)), "x.png")}
    assert client.post(f"/api/v1/jobs/{job['id']}/photos", data=bomb, content_type="multipart/form-data").status_code == 422


def test_busy_is_not_unreachable(door: Door, client: FlaskClient, monkeypatch: pytest.MonkeyPatch) -> None:
    held: Services = door.app.extensions["sondar"]

    def none_free(*_: Any, **__: Any) -> Any:
        raise PoolTimeout("couldn't get a connection after 5.00 sec")

    monkeypatch.setattr(held.pool, "getconn", none_free)
    busy = client.get("/api/v1/jobs")
    assert (busy.status_code, busy.get_json()["title"]) == (503, "Busy")
    assert busy.headers["Retry-After"] == "2"

    def gone(*_: Any, **__: Any) -> Any:
        raise psycopg.OperationalError("connection refused")

    monkeypatch.setattr("sondar.store.database.psycopg.connect", gone)
    away = client.get("/api/v1/jobs")
    assert (away.status_code, away.get_json()["title"]) == (503, "Database not reachable")


def test_a_request_holds_one_connection_and_none_while_it_is_computed_for(door: Door) -> None:
    held: Services = door.app.extensions["sondar"]
    work: Workspace = held.workspace(None, None)
    with work.transaction():
        with pytest.raises(RuntimeError, match="give it back"), work.transaction():
            pass
        with pytest.raises(RuntimeError, match="give it back"), borrowed(held.pool):
            pass
        with pytest.raises(RuntimeError, match="give it back"):
            work.compute("x", lambda _computed: None)
    with work.transaction() as db:
        assert db.execute("SELECT 1").fetchone() == (1,), "given back"


def test_long_answers_and_files_are_compressed_for_those_who_take_it(client: FlaskClient, job: dict[str, Any]) -> None:
    url = f"/api/v1/diagnoses/{job['diagnosis']}"
    plain = client.get(url)
    packed = client.get(url, headers={"Accept-Encoding": "gzip"})
    assert packed.headers["Content-Encoding"] == "gzip"
    assert len(packed.data) < len(plain.data) / 3
    assert json.loads(gzip.decompress(packed.data))["readings"] == plain.get_json()["readings"]
    assert "Content-Encoding" not in client.get("/api/v1/health", headers={"Accept-Encoding": "gzip"}).headers, "too short for it"
    page = client.get("/").data.decode()
    script = page.split('src="')[1].split('"')[0]
    asset = client.get(script, headers={"Accept-Encoding": "gzip"})
    assert asset.headers["Content-Encoding"] == "gzip"
    assert "immutable" in asset.headers["Cache-Control"]
    assert gzip.decompress(asset.data) == client.get(script).data


def test_ready_says_what_is_missing(door: Door, client: FlaskClient, monkeypatch: pytest.MonkeyPatch) -> None:
    assert client.get("/api/v1/ready").get_json() == {"database": True, "workers": True}
    held: Services = door.app.extensions["sondar"]

    def read_only(*_: Any, **__: Any) -> Any:
        raise psycopg.errors.ReadOnlySqlTransaction("cannot execute UPDATE in a read-only transaction")

    monkeypatch.setattr(held.pool, "getconn", read_only)
    assert client.get("/api/v1/jobs").get_json()["title"] == "Nothing can be written", "and no failure of ours"
    answer = door.nobody().get("/api/v1/ready")
    assert answer.status_code == 503
    assert answer.get_json() == {"database": False, "workers": True}


def test_a_reading_is_an_entry_and_not_a_book(client: FlaskClient, job: dict[str, Any]) -> None:
    url = f"/api/v1/diagnoses/{job['diagnosis']}/readings"
    for entry in ("1" * 5000, "4.9" + " " * 5000, "1e999", "NaN"):
        assert client.post(url, json=reading(entry)).status_code in (409, 422), entry[:20]
