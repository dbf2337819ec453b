"""The database itself keeps workshops apart: whatever the application asks, it sees and changes only its own rows."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from uuid import UUID, uuid4

import psycopg
import pytest

from sondar.core.codes import FoundCode
from sondar.demo import load_library
from sondar.store import circuits, codes, evidence, intake, jobs, people, procedures, recordings, sheets, vehicles
from sondar.store.database import act_for
from sondar.store.local_server import LocalServer
from tests.conftest import AMBIENT_TEXT, circuit_of
from tests.store.test_store import new_reading

OWNED = (
    "account", "session", "audit", "meter", "vehicle", "job", "reading", "voided_reading", "exclusion", "conclusion", "circuit_diagnosis",
    "answer", "note", "code_scan", "scanned_code", "clearing", "code_meaning", "photo", "share", "diagnostic_procedure", "statement", "device",
    "search_due", "sheet_picture", "known_good",
)  # fmt: skip


@pytest.fixture(scope="module")
def mine_and_theirs(dsn: str) -> tuple[UUID, UUID]:
    """Two workshops; the first has a row in every table."""
    with psycopg.connect(dsn) as db:
        load_library(db)
        other = people.create_workshop(db, "Theirs")
        own = people.create_workshop(db, "Ours")
        account = people.create_account(db, f"row-{uuid4().hex[:8]}", "Row", "lead", "x")
        assert account is not None
        act_for(db, own, account)
        db.execute("INSERT INTO session (account_id, token_sha256, csrf, expires_at) VALUES (%s, %s, 'c', now() + interval '1 day')",
                   (account, uuid4().bytes))  # fmt: skip
        people.know_device(db, account, uuid4().hex)
        people.record(db, "something", "done")
        people.add_meter(
            db, {"name": "Row meter", "volts_percent": 0.5, "volts_floor": 0.02, "ohms_percent": 1.0, "ohms_floor": 0.2}
        )
        text = AMBIENT_TEXT.replace("id: ambient-temperature", "id: row-ambient")
        version = circuits.save_circuit(db, circuit_of(text).document, text)
        vehicle = vehicles.create_vehicle(db, vehicles.NewVehicle("Orvane"))
        job_id = jobs.create_job(db, jobs.NewJob(uuid4(), vehicle, complaint="kelp"))
        diagnosis = jobs.diagnosis_by_id(db, jobs.open_diagnosis(db, job_id, uuid4(), version.id, "", {}))
        assert diagnosis is not None
        evidence.append_reading(db, diagnosis, new_reading())
        evidence.void_reading(db, diagnosis, evidence.readings_of(db, diagnosis.id)[0].id, uuid4(), "misread")
        evidence.append_exclusion(db, diagnosis, uuid4(), "point", "X12", True)
        evidence.append_conclusion(
            db, diagnosis, uuid4(), {"sentence": "s", "group": "wiring", "units": ["W2"], "certainty": 1.0, "settled": True}
        )
        evidence.add_statement(db, diagnosis.id, 1, None, "1", "s", ["W2"], 1.0)
        intake.give_answer(db, job_id, uuid4(), "complaint", "kelp", 0)
        intake.add_note(db, job_id, uuid4(), "kelp")
        intake.add_photo(db, job_id, uuid4(), {"sha256": "0", "media_type": "image/png", "width": 1, "height": 1, "body": b"", "thumbnail": b"",
                                               "caption": ""})  # fmt: skip
        kept = recordings.begin(db, job_id, uuid4(), "log.csv", "typed", 0, "reading")
        recordings.say_known_good(db, kept, "warm")
        page = {"sha256": "0" * 64, "media_type": "image/png", "width": 1, "height": 1, "body": b"", "thumbnail": b""}
        sheets.add_pictures(db, uuid4(), "sheet.png", [page])
        codes.add_scan(db, job_id, uuid4(), "typed", [FoundCode("P0073", None, None, "BCM")], {}, [])
        codes.add_clearing(db, job_id, uuid4(), codes.scans_of(db, job_id)[0].id, "typed")
        codes.add_meaning(db, "Orvane", "P1ABC", "kelp", "")
        people.add_share(db, job_id, uuid4().hex, datetime.now(UTC) + timedelta(days=3), "{}")
        procedures.save_procedure(db, "row-ambient", "kelp", "sondar_procedure: 1")
    return own, other


@pytest.fixture
def app(app_dsn: str) -> Iterator[psycopg.Connection]:
    """A connection with the application's rights, rolled back at the end."""
    with psycopg.connect(app_dsn) as db:
        yield db
        db.rollback()


def count(db: psycopg.Connection, table: str) -> int:
    row = db.execute(f"SELECT count(*) FROM {table}").fetchone()
    assert row is not None
    return int(row[0])


def test_every_table_with_a_workshop_is_watched(dsn: str) -> None:
    with psycopg.connect(dsn) as db:
        rows = db.execute(
            """
            SELECT c.relname FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND a.attname = 'workshop_id'
            WHERE c.relkind = 'r' AND NOT c.relrowsecurity
            """
        ).fetchall()
    assert rows == []


@pytest.mark.parametrize("table", OWNED)
def test_rows_are_seen_by_their_own_workshop_only(app: psycopg.Connection, mine_and_theirs: tuple[UUID, UUID], table: str) -> None:
    own, other = mine_and_theirs
    act_for(app, own)
    assert count(app, table) > 0
    act_for(app, other)
    row = app.execute(f"SELECT count(*) FROM {table} WHERE workshop_id = %s", (own,)).fetchone()
    assert row == (0,)
    act_for(app, None)
    assert count(app, table) == 0, "nobody sees nothing"


def test_the_library_is_everyones_and_own_circuits_are_not(app: psycopg.Connection, mine_and_theirs: tuple[UUID, UUID]) -> None:
    own, other = mine_and_theirs
    act_for(app, own)
    ours = {v.slug for v in circuits.newest_circuits(app)}
    act_for(app, other)
    theirs = {v.slug for v in circuits.newest_circuits(app)}
    assert "row-ambient" in ours
    assert "row-ambient" not in theirs
    assert "radiator-fan-relay" in ours & theirs


def test_nothing_is_written_into_another_workshop(app: psycopg.Connection, mine_and_theirs: tuple[UUID, UUID]) -> None:
    own, other = mine_and_theirs
    act_for(app, other)
    with pytest.raises(psycopg.errors.InsufficientPrivilege):
        app.execute("INSERT INTO vehicle (workshop_id, make) VALUES (%s, 'Brigg')", (own,))
    app.rollback()
    act_for(app, other)
    changed = app.execute("UPDATE job SET complaint = 'mine now' WHERE workshop_id = %s", (own,)).rowcount
    assert changed == 0


@pytest.mark.parametrize("statement", ["DELETE FROM reading", "UPDATE reading SET value_si = 0", "DELETE FROM job", "DROP TABLE note",
                                       "UPDATE account SET workshop_id = gen_random_uuid()", "UPDATE audit SET subject = ''",
                                       "SELECT refuse_change()", "SET ROLE sondar", "ALTER TABLE job DISABLE ROW LEVEL SECURITY",
                                       "SELECT password_hash FROM account", "SELECT * FROM sign_in_attempt", "CREATE TEMP TABLE account (id int)",
                                       "SET ROLE sondar_definer"])  # fmt: skip
def test_the_application_may_not(app: psycopg.Connection, mine_and_theirs: tuple[UUID, UUID], statement: str) -> None:
    act_for(app, mine_and_theirs[0])
    with pytest.raises((psycopg.errors.InsufficientPrivilege, psycopg.errors.FeatureNotSupported)):
        app.execute(statement)


def test_a_search_stays_inside(app: psycopg.Connection, mine_and_theirs: tuple[UUID, UUID]) -> None:
    own, other = mine_and_theirs
    act_for(app, own)
    jobs.refresh_search(app, 10)
    assert len(jobs.search_jobs(app, ("kelp", "kelp"))) == 1
    act_for(app, other)
    assert jobs.search_jobs(app, ("kelp", "kelp")) == []


def test_the_owner_is_not_who_the_application_signs_in_as(postgres: LocalServer, app: psycopg.Connection) -> None:
    row = app.execute("SELECT current_user, rolsuper, rolbypassrls FROM pg_roles WHERE rolname = current_user").fetchone()
    assert row == ("sondar_app", False, False)


def test_what_looks_across_workshops_belongs_to_a_role_that_can_do_nothing_else(dsn: str) -> None:
    with psycopg.connect(dsn) as db:
        found = db.execute(
            "SELECT p.proname, r.rolname, r.rolsuper, r.rolcanlogin, r.rolbypassrls, p.proconfig "
            "FROM pg_proc p JOIN pg_roles r ON r.oid = p.proowner "
            "WHERE p.prosecdef AND p.pronamespace = 'public'::regnamespace"
        ).fetchall()
    assert {row[0] for row in found} >= {
        "find_session",
        "find_account",
        "find_share",
        "any_workshop",
        "search_jobs",
        "sign_in_failures",
    }
    for name, role, superuser, login, bypass, config in found:
        assert (role, superuser, login, bypass) == ("sondar_definer", False, False, False), name
        assert config == ["search_path=pg_catalog, public, pg_temp"], name


def test_a_key_is_a_workshops_own(dsn: str) -> None:
    with psycopg.connect(dsn) as db:
        key, made = uuid4(), []
        for name in ("One", "Other"):
            people.create_workshop(db, name)
            vehicle = vehicles.create_vehicle(db, vehicles.NewVehicle("Orvane"))
            made.append(jobs.create_job(db, jobs.NewJob(key, vehicle)))
        assert len(set(made)) == 2, "each workshop has a job of its own with this key"
        with pytest.raises(psycopg.errors.UniqueViolation):
            jobs.create_job(db, jobs.NewJob(key, vehicle))
        db.rollback()
