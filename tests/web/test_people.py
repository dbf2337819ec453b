"""Signing in, roles, sessions, first set-up, settings."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor
from uuid import uuid4

import psycopg
import pytest
from flask.testing import FlaskClient

from sondar.store import people
from sondar.store.database import migrate
from sondar.store.local_server import LocalServer
from sondar.store.people import Failures
from sondar.web import auth
from sondar.web.application import create_app
from sondar.web.auth import FREE, FREE_ADDRESS, FREE_ANYWHERE, LONGEST_S, delay_s
from tests.web.conftest import PASSWORD, Door


@pytest.fixture
def newcomer(door: Door) -> tuple[str, FlaskClient]:
    """An account of its own, so that its sessions and its locking touch nobody else's."""
    name = f"new-{uuid4().hex[:8]}"
    body = {"sign_in": name, "name": "New", "role": "technician", "password": PASSWORD}
    assert door("quay-lead").post("/api/v1/accounts", json=body).status_code == 201
    return name, door.nobody()


def sign_in(client: FlaskClient, name: str, password: str = PASSWORD) -> int:
    answer = client.post("/api/v1/session", json={"sign_in": name, "password": password})
    if answer.status_code == 200:
        client.environ_base["HTTP_X_CSRF_TOKEN"] = answer.get_json()["csrf"]
    return answer.status_code


def test_a_session_cookie_is_out_of_reach_of_scripts_and_other_sites(newcomer: tuple[str, FlaskClient]) -> None:
    name, client = newcomer
    answer = client.post("/api/v1/session", json={"sign_in": name.upper(), "password": PASSWORD})
    cookie = answer.headers["Set-Cookie"]
    assert "HttpOnly" in cookie
    assert "SameSite=Strict" in cookie
    assert answer.get_json()["workshop"]["name"] == "The quay workshop"


def test_over_https_the_cookie_is_bound_to_it(newcomer: tuple[str, FlaskClient], monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("SONDAR_SECURE_COOKIES", "1")
    name, client = newcomer
    answer = client.post("/api/v1/session", json={"sign_in": name, "password": PASSWORD})
    assert answer.headers["Set-Cookie"].startswith("__Host-sondar=")
    assert "Secure" in answer.headers["Set-Cookie"]
    assert "max-age" in answer.headers["Strict-Transport-Security"]


def test_wrong_name_and_wrong_password_answer_alike(door: Door, newcomer: tuple[str, FlaskClient]) -> None:
    name, client = newcomer
    wrong = client.post("/api/v1/session", json={"sign_in": name, "password": "not this one"})
    unknown = door.nobody().post("/api/v1/session", json={"sign_in": f"{name}-x", "password": "not this one"})
    assert (wrong.status_code, unknown.status_code) == (401, 401)
    assert wrong.get_json()["detail"] == unknown.get_json()["detail"]


def test_wrong_passwords_are_slowed_down_until_a_lead_helps(door: Door, newcomer: tuple[str, FlaskClient]) -> None:
    name, client = newcomer
    for _ in range(FREE):
        assert sign_in(client, name, "a wrong password") == 401
    answer = client.post("/api/v1/session", json={"sign_in": name, "password": PASSWORD})
    assert answer.status_code == 429, "even the right one waits now, for seconds"
    assert 1 <= int(answer.headers["Retry-After"]) <= 2
    lead = door("quay-lead")
    account = next(a for a in lead.get("/api/v1/accounts").get_json()["accounts"] if a["sign_in"] == name)
    assert lead.put(f"/api/v1/accounts/{account['id']}/password", json={"password": "fresh-water-7"}).status_code == 200
    assert sign_in(client, name, "fresh-water-7") == 200


def test_strangers_do_not_lock_anybody_out(door: Door, newcomer: tuple[str, FlaskClient], dsn: str) -> None:
    """Wrong passwords from elsewhere, many of them: a browser from which the account has signed in gets in all the same."""
    name, own = newcomer
    assert sign_in(own, name) == 200
    with psycopg.connect(dsn) as db:
        for number in range(FREE_ANYWHERE + 6):
            people.record_attempt(db, name, f"192.0.2.{number}", False)
    assert sign_in(door.nobody(), name) == 429, "a browser that nobody knows waits"
    assert sign_in(own, name) == 200


def test_many_at_once_are_not_all_checked(newcomer: tuple[str, FlaskClient], door: Door, monkeypatch: pytest.MonkeyPatch) -> None:
    name, _ = newcomer
    checked = []

    def slow(_hash: str | None, password: str) -> bool:
        checked.append(password)
        time.sleep(0.2)
        return False

    monkeypatch.setattr(auth, "fits", slow)
    with ThreadPoolExecutor(12) as threads:
        answers = list(threads.map(lambda number: sign_in(door.nobody(), name, f"a wrong password {number}"), range(30)))
    assert answers.count(401) == len(checked) == FREE
    assert answers.count(429) == 30 - FREE


@pytest.mark.parametrize(("failed", "known", "least", "most"), [
    (Failures(FREE - 1, 0.0, FREE - 1, 0.0, FREE - 1, 0.0), False, 0, 0), (Failures(FREE, 0.0, FREE, 0.0, FREE, 0.0), True, 2, 2),
    (Failures(FREE + 3, 0.0, 9, 0.0, 9, 0.0), True, 16, 16), (Failures(FREE + 3, 20.0, 9, 20.0, 9, 20.0), True, 0, 0),
    (Failures(FREE + 60, 0.0, 99, 0.0, 99, 0.0), True, LONGEST_S, LONGEST_S), (Failures(0, 0.0, FREE_ANYWHERE + 4, 0.0, 0, 0.0), False, 32, 32),
    (Failures(0, 0.0, FREE_ANYWHERE + 4, 0.0, FREE_ADDRESS + 9, 0.0), True, 0, 0), (Failures(0, 0.0, 0, 0.0, FREE_ADDRESS, 0.5), False, 1.5, 1.5),
])  # fmt: skip
def test_delays_grow_and_end(failed: Failures, known: bool, least: float, most: float) -> None:
    assert least <= delay_s(failed, known_device=known) <= most


def test_signing_in_anew_ends_the_session_of_that_browser(door: Door, newcomer: tuple[str, FlaskClient]) -> None:
    name, client = newcomer
    assert sign_in(client, name) == 200
    before = client.get_cookie("sondar")
    assert before is not None
    assert sign_in(client, name) == 200
    old = door.nobody()
    old.set_cookie("sondar", before.value)
    assert old.get("/api/v1/jobs").status_code == 401
    assert len(client.get("/api/v1/me/sessions").get_json()["sessions"]) == 1


def test_writing_needs_the_sessions_own_token(newcomer: tuple[str, FlaskClient]) -> None:
    name, client = newcomer
    assert sign_in(client, name) == 200
    token = client.environ_base.pop("HTTP_X_CSRF_TOKEN")
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Brigg"}}
    refused = client.post("/api/v1/jobs", json=body)
    assert refused.status_code == 403
    assert "Reload the page" in refused.get_json()["detail"]
    assert client.post("/api/v1/jobs", json=body, headers={"X-CSRF-Token": "guessed"}).status_code == 403
    assert client.post("/api/v1/jobs", json=body, headers={"X-CSRF-Token": token}).status_code == 201


def test_sessions_are_listed_and_ended(door: Door, newcomer: tuple[str, FlaskClient]) -> None:
    name, here = newcomer
    there = door.nobody()
    assert sign_in(here, name) == sign_in(there, name) == 200
    listed = here.get("/api/v1/me/sessions").get_json()["sessions"]
    assert [s["this_one"] for s in listed].count(True) == 1
    other = next(s["id"] for s in listed if not s["this_one"])
    assert here.delete(f"/api/v1/me/sessions/{other}").status_code == 200
    assert there.get("/api/v1/jobs").status_code == 401
    assert here.delete("/api/v1/session").status_code == 200
    assert here.get("/api/v1/jobs").status_code == 401


def test_a_password_change_ends_the_other_sessions(door: Door, newcomer: tuple[str, FlaskClient]) -> None:
    name, here = newcomer
    there = door.nobody()
    assert sign_in(here, name) == sign_in(there, name) == 200
    change = {"old": "not mine", "new": "spring-tide-5"}
    wrong = here.put("/api/v1/me/password", json=change)
    assert wrong.get_json()["errors"][0]["field"] == "old"
    weak = here.put("/api/v1/me/password", json={"old": PASSWORD, "new": "short"})
    assert weak.get_json()["errors"][0]["field"] == "new"
    assert here.put("/api/v1/me/password", json={"old": PASSWORD, "new": "spring-tide-5"}).status_code == 200
    assert there.get("/api/v1/jobs").status_code == 401
    assert here.get("/api/v1/jobs").status_code == 200


def test_a_switched_off_account_is_out_at_once(door: Door, newcomer: tuple[str, FlaskClient]) -> None:
    name, client = newcomer
    assert sign_in(client, name) == 200
    lead = door("quay-lead")
    account = next(a for a in lead.get("/api/v1/accounts").get_json()["accounts"] if a["sign_in"] == name)
    assert (
        lead.put(f"/api/v1/accounts/{account['id']}", json={"name": "N", "role": "technician", "active": False}).status_code == 200
    )
    assert client.get("/api/v1/jobs").status_code == 401
    assert sign_in(client, name) == 401


def test_the_last_lead_stays_one(door: Door) -> None:
    lead = door("mole-lead")
    own = next(a for a in lead.get("/api/v1/accounts").get_json()["accounts"] if a["role"] == "lead")
    answer = lead.put(f"/api/v1/accounts/{own['id']}", json={"name": own["name"], "role": "technician", "active": True})
    assert answer.status_code == 409
    assert "last workshop lead" in answer.get_json()["detail"]


def test_two_leads_who_change_the_settings_at_once_both_learn_of_it(door: Door) -> None:
    lead = door("quay-lead")
    shop = lead.get("/api/v1/session").get_json()["workshop"]
    first = lead.put("/api/v1/workshop", json={**shop, "rate_per_hour": 95})
    assert first.get_json()["rate_per_hour"] == 95
    second = lead.put("/api/v1/workshop", json={**shop, "decision_threshold": 0.9})
    assert second.status_code == 409
    assert second.get_json()["current"]["rate_per_hour"] == 95
    unknown = lead.put("/api/v1/workshop", json={**first.get_json(), "tools": ["dowsing rod"]})
    assert unknown.get_json()["errors"][0]["field"] == "tools"


def test_who_did_what_is_kept(door: Door, newcomer: tuple[str, FlaskClient]) -> None:
    name, client = newcomer
    sign_in(client, name, "a wrong password")
    sign_in(client, name)
    entries = door("quay-lead").get("/api/v1/audit", query_string={"limit": 10}).get_json()["entries"]
    assert [(e["action"], e["subject"]) for e in entries][:3] == [
        ("signed in", name), ("sign-in refused", name), ("account made", f"{name} (technician)"),
    ]  # fmt: skip


def test_the_first_workshop_is_set_up_once_with_the_printed_code(postgres: LocalServer, monkeypatch: pytest.MonkeyPatch) -> None:
    owner = postgres.start()
    with psycopg.connect(owner, autocommit=True) as db:
        db.execute("DROP DATABASE IF EXISTS first_one")
        db.execute("CREATE DATABASE first_one")
    fresh = owner.replace("dbname=sondar", "dbname=first_one")
    migrate(fresh)
    monkeypatch.setenv("SONDAR_SETUP_CODE", "seven-seas")
    app = create_app(postgres.application_dsn(fresh), "", prepare=False, vehicles={})
    try:
        client: FlaskClient = app.test_client()
        assert client.get("/api/v1/setup").get_json() == {"needed": True}
        body = {"code": "guess", "workshop": "Slipway", "name": "O. B.", "sign_in": "ob", "password": "neap-tide-42"}
        assert client.post("/api/v1/setup", json=body).get_json()["errors"][0]["field"] == "code"
        weak = client.post("/api/v1/setup", json={**body, "code": "seven-seas", "password": "aaaaaaaaaaaa"})
        assert weak.get_json()["errors"][0]["field"] == "password"
        made = client.post("/api/v1/setup", json={**body, "code": "seven-seas"})
        assert made.status_code == 201
        assert (made.get_json()["role"], made.get_json()["workshop"]["name"]) == ("lead", "Slipway")
        assert client.get("/api/v1/jobs").status_code == 200, "and is signed in"
        assert client.post("/api/v1/setup", json={**body, "code": "seven-seas"}).status_code == 409
        assert client.get("/api/v1/setup").get_json() == {"needed": False}
    finally:
        app.extensions["sondar"].close()


def test_passwords_are_kept_as_argon2id(dsn: str, workshops: dict[str, str]) -> None:
    with psycopg.connect(dsn) as db:
        found = people.find_account(db, "quay-lead")
    assert found is not None
    assert found[2].startswith("$argon2id$")
