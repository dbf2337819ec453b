from __future__ import annotations

import contextlib
import threading
from concurrent.futures import ThreadPoolExecutor
from uuid import uuid4

import psycopg
import pytest

from sondar.app.judging import reading_of
from sondar.core.circuit.model import Setup
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.base import Test
from sondar.core.quantities import parse_entry
from sondar.store import circuits, evidence, jobs, people, vehicles
from sondar.store.database import act_for, borrowed, migrate, open_pool
from sondar.store.local_server import LocalServer
from tests.conftest import AMBIENT_TEXT, circuit_of


def make_diagnosis(db: psycopg.Connection) -> jobs.CircuitDiagnosis:
    people.create_workshop(db, "Store tests")
    version = circuits.save_circuit(db, circuit_of(AMBIENT_TEXT).document, AMBIENT_TEXT)
    job_id = jobs.create_job(
        db, jobs.NewJob(uuid4(), vehicles.create_vehicle(db, vehicles.NewVehicle("Orvane")), complaint="dashes")
    )
    diagnosis = jobs.diagnosis_by_id(db, jobs.open_diagnosis(db, job_id, uuid4(), version.id, "", {}))
    assert diagnosis is not None
    return diagnosis


def new_reading(key: object = None) -> evidence.NewReading:
    test = Test("voltmeter", "X31.1", "BAT.neg", Setup((("key", "on"),)))
    return evidence.NewReading.of(key or uuid4(), test, "5", parse_entry("5"), "typed")  # type: ignore[arg-type]


def test_migrations_run_from_empty_and_once(postgres: LocalServer) -> None:
    dsn = postgres.start()
    with psycopg.connect(dsn, autocommit=True) as db:
        db.execute("DROP DATABASE IF EXISTS empty_one")
        db.execute("CREATE DATABASE empty_one")
    fresh = dsn.replace("dbname=sondar", "dbname=empty_one")
    assert migrate(fresh) == [
        "0001.jobs",
        "0002.workshops",
        "0003.intake",
        "0004.charts",
        "0005.words",
        "0006.repairs",
        "0007.guards",
        "0008.same-again",
        "0009.search",
        "0010.ready",
        "0011.tells",
        "0012.housekeeping",
        "0013.advice",
        "0014.revisions",
        "0015.follow-up",
        "0016.recordings",
        "0017.commands",
        "0018.sent",
        "0019.follow-up-due",
        "0020.sheet-pictures",
        "0021.known-good",
        "0022.figures-not-found",
        "0023.recording-quota",
        "0024.seized",
        "0025.starting",
        "0026.break-out-leads",
    ]
    assert migrate(fresh) == []
    with psycopg.connect(fresh) as db:
        assert jobs.list_jobs(db) == []


def test_connections_broken_while_idle_are_replaced_before_anybody_waits(dsn: str) -> None:
    size = 6
    with open_pool(dsn, size) as pool, contextlib.ExitStack() as held:
        together = threading.Barrier(size)

        def use() -> int:
            with borrowed(pool) as db:
                together.wait(20)
                return db.info.backend_pid

        threads = held.enter_context(ThreadPoolExecutor(size))
        before = [future.result() for future in [threads.submit(use) for _ in range(size)]]
        assert len(set(before)) == size
        with psycopg.connect(dsn, autocommit=True) as other:
            other.execute("SELECT pg_terminate_backend(pid) FROM unnest(%s::int[]) pid", (before,))
        with borrowed(pool) as db:  # a single one who asks, as the first request after a restart does
            assert db.info.backend_pid not in before
        assert pool.get_stats().get("requests_errors", 0) == 0


@pytest.mark.parametrize("statement", ["UPDATE reading SET value_si = 1", "DELETE FROM reading"])
def test_evidence_cannot_be_rewritten(dsn: str, statement: str) -> None:
    with psycopg.connect(dsn) as db:
        diagnosis = make_diagnosis(db)
        evidence.append_reading(db, diagnosis, new_reading())
        with pytest.raises(psycopg.errors.RaiseException, match="appended, never changed"):
            db.execute(statement)


def test_sequence_numbers_give_the_order_and_keys_prevent_doubles(dsn: str) -> None:
    with psycopg.connect(dsn) as db:
        diagnosis = make_diagnosis(db)
        key = uuid4()
        assert evidence.append_reading(db, diagnosis, new_reading(key)) is True
        assert evidence.append_reading(db, diagnosis, new_reading(key)) is False
        assert evidence.append_reading(db, diagnosis, new_reading()) is True
        found = evidence.readings_of(db, diagnosis.id)
        assert [r.seq for r in found] == sorted(r.seq for r in found)
        assert len(found) == 2


def test_a_second_start_finds_the_running_server_and_its_data(postgres: LocalServer) -> None:
    first = postgres.start()
    with psycopg.connect(first) as db:
        db.execute("CREATE TABLE IF NOT EXISTS kept (x int)")
    postgres.stop()
    second = postgres.start()
    assert first == second, "the remembered port is used again"
    with psycopg.connect(second) as db:
        assert db.execute("SELECT count(*) FROM kept").fetchone() == (0,)


def test_jobs_of_an_earlier_version_stay_readable(postgres: LocalServer, ambient_predictor: Predictor) -> None:
    """A database as version 0.3 left it, with a job in its words, opened by this version."""
    dsn = postgres.start()
    with psycopg.connect(dsn, autocommit=True) as db:
        db.execute("DROP DATABASE IF EXISTS earlier")
        db.execute("CREATE DATABASE earlier")
    earlier = dsn.replace("dbname=sondar", "dbname=earlier")
    migrate(earlier, until="0004.charts")
    text = AMBIENT_TEXT.replace("synonyms:", "also:")
    with psycopg.connect(earlier) as db:
        workshop = db.execute("INSERT INTO workshop (name, tools) VALUES ('Old', '{voltmeter,look}') RETURNING id").fetchone()
        assert workshop is not None
        act_for(db, workshop[0])
        version = circuits.save_circuit(db, circuit_of(AMBIENT_TEXT).document, text)
        vehicle = db.execute("INSERT INTO vehicle (make) VALUES ('Orvane') RETURNING id").fetchone()[0]  # type: ignore[index]
        job = db.execute(
            "INSERT INTO job (client_key, vehicle_id, complaint, stage) VALUES (gen_random_uuid(), %s, 'dashes', 'chase') RETURNING id",
            (vehicle,),
        )
        job_id = job.fetchone()[0]  # type: ignore[index]
        chase = db.execute(
            "INSERT INTO chase (job_id, seq, client_key, circuit_version_id) VALUES (%s, 1, gen_random_uuid(), %s) RETURNING id",
            (job_id, version.id),
        ).fetchone()
        assert chase is not None
        db.execute(
            """
            INSERT INTO reading (job_id, chase_id, seq, client_key, instrument, red, black, controls, unplugged, temperature_c, entry,
                                 state, source)
            VALUES (%s, %s, 2, gen_random_uuid(), 'look', 'X31', 'BAT.neg', '{}', '{}', 20, 'sound', 'sound', 'typed')
            """,
            (job_id, chase[0]),
        )
    assert migrate(earlier) == [
        "0005.words",
        "0006.repairs",
        "0007.guards",
        "0008.same-again",
        "0009.search",
        "0010.ready",
        "0011.tells",
        "0012.housekeeping",
        "0013.advice",
        "0014.revisions",
        "0015.follow-up",
        "0016.recordings",
        "0017.commands",
        "0018.sent",
        "0019.follow-up-due",
        "0020.sheet-pictures",
        "0021.known-good",
        "0022.figures-not-found",
        "0023.recording-quota",
        "0024.seized",
        "0025.starting",
        "0026.break-out-leads",
    ]
    with psycopg.connect(earlier) as db:
        act_for(db, workshop[0])
        found = jobs.job_by_id(db, job_id)
        assert found is not None
        assert found.stage == "testing"
        (kept,) = evidence.readings_of(db, chase[0])
        assert (kept.instrument, kept.entry) == ("look", "sound"), "evidence keeps the words it was written in"
        assert reading_of(ambient_predictor, kept).test.instrument == "visual-inspection", "and is read by those of today"
        assert list(people.workshop(db).tools) == [
            "voltmeter",
            "visual-inspection",
            "thermometer",
            "new-fuse",
            "break-out-leads",
        ], "and has what every workshop has"


def test_what_is_searched_for_is_found_by_its_index(dsn: str) -> None:
    """A policy with a condition would stand in front of the search and have every job of the workshop read."""
    with psycopg.connect(dsn) as db:
        act_for(db, uuid4())
        db.execute("SET LOCAL ROLE sondar_definer")
        db.execute("SET LOCAL enable_seqscan = off")
        asked = "EXPLAIN SELECT id FROM job WHERE search @@ to_tsquery('simple', 'zeppelin')"
        plan = "\n".join(row[0] for row in db.execute(asked).fetchall())
    assert "Index Cond" in plan
    assert "@@" in plan.split("Index Cond")[1].split("\n")[0], plan
