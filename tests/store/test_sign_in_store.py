"""Attempts, sessions, meters and links as the database keeps them, with time passing."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from uuid import UUID, uuid4

import psycopg
import pytest

from sondar.store import jobs, people, vehicles
from sondar.store.database import act_for


@pytest.fixture
def db(dsn: str) -> Iterator[psycopg.Connection]:
    """A workshop of one, rolled back at the end."""
    with psycopg.connect(dsn) as connection:
        people.create_workshop(connection, "Time passes")
        yield connection
        connection.rollback()


@pytest.fixture
def account(db: psycopg.Connection) -> UUID:
    made = people.create_account(db, f"t{uuid4().hex[:8]}", "T", "technician", "hash")
    assert made is not None
    return made


def failed(db: psycopg.Connection, name: str, address: str, minutes_ago: float) -> None:
    db.execute(
        "INSERT INTO sign_in_attempt (sign_in, address, succeeded, at) VALUES (%s, %s, false, clock_timestamp() - make_interval(secs => %s))",
        (name, address, 60 * minutes_ago),
    )


def counted(db: psycopg.Connection, name: str, address: str, minutes: int = 15) -> tuple[int, int, int]:
    found = people.failures(db, name, address, minutes)
    return found.here, found.anywhere, found.address


def test_failures_are_counted_by_name_and_by_address_within_the_window(db: psycopg.Connection) -> None:
    name, address = f"n{uuid4().hex[:6]}", f"10.0.0.{uuid4().int % 250}-{uuid4().hex[:4]}"
    for minutes in (1, 2, 20):
        failed(db, name, address, minutes)
    failed(db, "someone-else", address, 3)
    assert counted(db, name, address) == (2, 2, 3)
    assert counted(db, name.upper(), "elsewhere") == (0, 2, 0), "names in any case, other addresses apart"
    assert counted(db, name, address, 60) == (3, 3, 4)
    assert people.failures(db, name, address, 15).here_s == pytest.approx(60.0, abs=5.0)


def succeeded(db: psycopg.Connection, name: str, address: str, minutes_ago: float) -> None:
    db.execute(
        "INSERT INTO sign_in_attempt (sign_in, address, succeeded, at) VALUES (%s, %s, true, clock_timestamp() - make_interval(secs => %s))",
        (name, address, 60 * minutes_ago),
    )


def test_a_success_forgives_the_name_there_and_takes_its_own_attempt_off_the_address(db: psycopg.Connection) -> None:
    name, address = f"n{uuid4().hex[:6]}", f"a{uuid4().hex[:8]}"
    for minutes in (6, 5):
        failed(db, name, address, minutes)
    succeeded(db, name, address, 3)
    failed(db, name, address, 1)
    assert counted(db, name, address) == (1, 1, 2)
    succeeded(db, name, "another place", 0.5)
    assert counted(db, name, address) == (1, 0, 2), "who signs in elsewhere does not forgive what is tried here"
    succeeded(db, name, "", 0.2)
    assert counted(db, name, address)[0] == 0, "a lead's new password does"


def test_a_device_is_known_for_its_own_account_only(db: psycopg.Connection, account: UUID) -> None:
    own = people.account(db, account)
    assert own is not None
    token = uuid4().hex
    assert not people.is_known_device(db, own.sign_in, token)
    people.know_device(db, account, token)
    assert people.is_known_device(db, own.sign_in.upper(), token)
    assert not people.is_known_device(db, "someone-else", token)
    people.forget_devices(db, account)
    assert not people.is_known_device(db, own.sign_in, token)


def test_a_session_ends_by_time_by_hand_and_with_its_account(db: psycopg.Connection, account: UUID) -> None:
    tokens = [uuid4().hex for _ in range(3)]
    for token in tokens:
        people.open_session(db, account, token, "csrf", "Tablet", "127.0.0.1", 1)
    found = [people.find_session(db, token) for token in tokens]
    assert all(session is not None and session.account_id == account for session in found)
    db.execute("UPDATE session SET expires_at = now() - interval '1 second' WHERE token_sha256 = %s", (people.digest(tokens[0]),))
    assert people.find_session(db, tokens[0]) is None
    second = found[1]
    assert second is not None
    assert people.revoke_session(db, second.session_id, uuid4()) is False, "someone else's session"
    assert people.revoke_session(db, second.session_id, account) is True
    assert people.revoke_session(db, second.session_id, account) is False, "already ended"
    assert people.find_session(db, tokens[1]) is None
    people.change_account(db, account, "T", "technician", False)
    assert people.find_session(db, tokens[2]) is None
    assert people.open_sessions(db, account) == []


def test_only_the_hash_of_a_token_is_kept(db: psycopg.Connection, account: UUID) -> None:
    token = uuid4().hex
    people.open_session(db, account, token, "csrf", "x" * 500, "127.0.0.1", 1)
    row = db.execute("SELECT token_sha256, agent FROM session WHERE account_id = %s", (account,)).fetchone()
    assert row is not None
    assert row[0] == people.digest(token)
    assert token.encode() not in row[0]
    assert len(row[1]) == 200, "a long browser name is cut, not refused"


def test_a_taken_sign_in_name_is_taken_in_any_case(db: psycopg.Connection) -> None:
    name = f"n{uuid4().hex[:8]}"
    assert people.create_account(db, name, "One", "lead", "h") is not None
    assert people.create_account(db, name.upper(), "Two", "lead", "h") is None


def test_a_retired_meter_is_offered_no_more_and_still_known(db: psycopg.Connection) -> None:
    # The owner of the database sees every workshop's meters, and other tests leave some.
    name = f"Loan {uuid4().hex[:6]}"
    people.add_meter(db, {"name": name, "volts_percent": 1.0, "volts_floor": 0.05, "ohms_percent": 2.0, "ohms_floor": 0.5})
    (made,) = [meter for meter in people.meters(db) if meter.name == name]
    assert made.error("volts", 12.0) == pytest.approx(0.17)
    assert made.error("ohms", 100.0) == pytest.approx(2.5)
    assert made.error("lamp", 1.0) == 0.0
    assert people.retire_meter(db, made.id) is True
    assert people.retire_meter(db, made.id) is False
    assert made.id not in {meter.id for meter in people.meters(db)}
    assert people.meter(db, made.id) is not None, "readings taken with it keep its accuracy"


def test_a_share_link_counts_its_openings_and_ends(db: psycopg.Connection, account: UUID) -> None:
    row = db.execute("SELECT current_workshop()").fetchone()
    assert row is not None
    act_for(db, row[0], account)
    job = jobs.create_job(db, jobs.NewJob(uuid4(), vehicles.create_vehicle(db, vehicles.NewVehicle("Brigg"))))
    token = uuid4().hex
    people.add_share(db, job, token, datetime.now(UTC) + timedelta(days=3), "{}")
    for _ in range(2):
        assert people.find_share(db, token) is not None
    (share,) = people.shares(db, job)
    assert share.opened == 2
    assert people.revoke_share(db, job, share.id) is True
    assert people.find_share(db, token) is None
    assert people.find_share(db, "guess") is None


def test_plates_are_found_without_spaces_and_dashes(db: psycopg.Connection) -> None:
    plate = f"QA {uuid4().hex[:4].upper()}-X"
    made = vehicles.create_vehicle(db, vehicles.NewVehicle("Brigg", plate=plate))
    assert [v.id for v in vehicles.vehicles_by_plate(db, plate.lower().replace(" ", "").replace("-", ""))] == [made]
    assert vehicles.vehicles_by_plate(db, "--") == []
