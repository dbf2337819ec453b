"""A backup taken while people work, restored elsewhere, is what was there."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from pathlib import Path
from uuid import UUID, uuid4

import psycopg
import pytest

from sondar.demo import load_library
from sondar.store import evidence, intake, jobs, people, vehicles
from sondar.store.backup import BackupError, back_up, content, restore
from sondar.store.circuits import newest_circuits
from sondar.store.database import act_for, migrate, pending
from sondar.store.local_server import LocalServer
from tests.conftest import own_server
from tests.store.test_store import new_reading
from tests.store.test_upgrades import database, schema


@pytest.fixture(scope="module")
def elsewhere() -> Iterator[LocalServer]:
    """Another server, as on another machine."""
    with own_server() as server:
        yield server


@pytest.fixture
def worked_in(postgres: LocalServer) -> tuple[str, UUID, UUID]:
    """A database with a job, a photograph and a reading; its workshop and the diagnosis."""
    dsn = database(postgres, "worked_in")
    migrate(dsn)
    with psycopg.connect(dsn) as db:
        load_library(db)
        workshop = people.create_workshop(db, "Quay")
        account = people.create_account(db, "quay", "Quay", "lead", "x")
        act_for(db, workshop, account)
        job = jobs.create_job(db, jobs.NewJob(uuid4(), vehicles.create_vehicle(db, vehicles.NewVehicle("Orvane"))))
        diagnosis = jobs.open_diagnosis(db, job, uuid4(), newest_circuits(db)[0].id, "", {})
        picture = {
            "sha256": "0", "media_type": "image/png", "width": 1, "height": 1, "body": bytes(range(256)) * 500, "thumbnail": b"x",
            "caption": "",
        }  # fmt: skip
        intake.add_photo(db, job, uuid4(), picture)
    return dsn, workshop, diagnosis


def test_restored_elsewhere_it_is_the_same(worked_in: tuple[str, UUID, UUID], elsewhere: LocalServer, tmp_path: Path) -> None:
    dsn, *_ = worked_in
    file = tmp_path / "quay.dump"
    back_up(dsn, file)
    assert file.stat().st_mode & 0o077 == 0, "it holds names and password hashes"
    there = elsewhere.start()
    former = restore(there, file)
    assert former is None
    found = content(there)
    assert found == content(dsn)
    assert found["photo"].rows == 1
    assert schema(there) == schema(dsn)
    with psycopg.connect(elsewhere.application_dsn(there)) as db, pytest.raises(psycopg.errors.InsufficientPrivilege):
        db.execute("CREATE TEMPORARY TABLE x (y integer)")
    with psycopg.connect(there) as db:
        owners = db.execute(
            "SELECT DISTINCT pg_get_userbyid(proowner) FROM pg_proc WHERE prosecdef AND pronamespace = 'public'::regnamespace"
        ).fetchall()
    assert owners == [("sondar_definer",)]
    kept = restore(there, file)
    assert kept is not None
    assert kept.startswith("sondar_until_"), "what was there is kept"


def test_taken_under_load_it_holds_all_that_was_acknowledged(
    worked_in: tuple[str, UUID, UUID], elsewhere: LocalServer, tmp_path: Path
) -> None:
    dsn, workshop, diagnosis_id = worked_in
    acknowledged: list[UUID] = []
    begun, ended = threading.Event(), threading.Event()

    def write() -> None:
        with psycopg.connect(dsn) as db:
            while not ended.is_set():
                act_for(db, workshop)
                diagnosis = jobs.diagnosis_by_id(db, diagnosis_id)
                assert diagnosis is not None
                key = uuid4()
                evidence.append_reading(db, diagnosis, new_reading(key))
                db.commit()
                acknowledged.append(key)
                begun.set()

    writing = threading.Thread(target=write)
    writing.start()
    assert begun.wait(10)
    before, file = set(acknowledged), tmp_path / "busy.dump"
    back_up(dsn, file)
    ended.set()
    writing.join()
    there = elsewhere.start()
    restore(there, file)
    with psycopg.connect(there) as db:
        kept = {row[0] for row in db.execute("SELECT client_key FROM reading").fetchall()}
        sequence = [row[0] for row in db.execute("SELECT seq FROM reading ORDER BY seq").fetchall()]
    assert before <= kept <= set(acknowledged)
    assert len(sequence) == len(set(sequence))


def test_what_is_no_backup_changes_nothing(worked_in: tuple[str, UUID, UUID], tmp_path: Path) -> None:
    dsn, *_ = worked_in
    before = content(dsn)
    (tmp_path / "rubbish").write_text("not a backup")
    good = tmp_path / "good"
    back_up(dsn, good)
    (tmp_path / "half").write_bytes(good.read_bytes()[: good.stat().st_size // 2])
    for name in ("rubbish", "half", "missing"):
        with pytest.raises(BackupError):
            restore(dsn, tmp_path / name)
    with pytest.raises(BackupError, match="choose another place"):
        back_up(dsn, tmp_path / "no folder" / "file")
    with psycopg.connect(dsn), pytest.raises(BackupError, match="stop Sondar first"):
        restore(dsn, good)
    assert content(dsn) == before


def test_a_backup_of_an_earlier_version_is_brought_up_to_date(
    postgres: LocalServer, elsewhere: LocalServer, tmp_path: Path
) -> None:
    earlier = database(postgres, "earlier_backup")
    migrate(earlier, until="0007.guards")
    assert pending(earlier)[0] == "0008.same-again"
    back_up(earlier, tmp_path / "earlier")
    there = elsewhere.start()
    restore(there, tmp_path / "earlier")
    assert pending(there) == []
    fresh = database(postgres, "fresh_again")
    migrate(fresh)
    assert schema(there) == schema(fresh)
