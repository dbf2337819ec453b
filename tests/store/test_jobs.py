from __future__ import annotations

from uuid import UUID, uuid4

import psycopg
import pytest

from sondar.core.circuit.model import Setup
from sondar.core.diagnosis.tests import Test
from sondar.core.quantities import parse_entry
from sondar.store import circuits, evidence, jobs, people, vehicles
from tests.conftest import AMBIENT_TEXT, circuit_of


@pytest.fixture
def db(dsn: str) -> psycopg.Connection:
    """A connection whose changes are thrown away."""
    connection = psycopg.connect(dsn)
    yield connection  # type: ignore[misc]
    connection.rollback()
    connection.close()


@pytest.fixture
def chase(db: psycopg.Connection) -> jobs.Chase:
    people.create_workshop(db, "Store tests")
    version = circuits.save_circuit(db, circuit_of(AMBIENT_TEXT).document, AMBIENT_TEXT)
    vehicle_id = vehicles.create_vehicle(db, vehicles.NewVehicle("Orvane", "Lisk", 2020, "PA 1", 1000))
    job_id = jobs.create_job(db, jobs.NewJob(uuid4(), vehicle_id, None, "dashes", "P0073", 12.5))
    made = jobs.chase_by_id(db, jobs.open_chase(db, job_id, uuid4(), version.id, "said so", {"W1.open|open": 0.2}))
    assert made is not None
    return made


@pytest.fixture
def job_id(chase: jobs.Chase) -> UUID:
    return chase.job_id


def add(db: psycopg.Connection, chase: jobs.Chase, text: str = "4.9") -> None:
    test = Test("voltmeter", "X31.1", "BAT.neg", Setup((("key", "on"),), frozenset({"X31"}), 12.5))
    assert evidence.append_reading(db, chase, evidence.NewReading.of(uuid4(), test, text, parse_entry(text), "typed", "note"))


def test_a_job_carries_its_vehicle_and_circuit(db: psycopg.Connection, job_id: UUID) -> None:
    job = jobs.job_by_id(db, job_id)
    assert job is not None
    assert (job.make, job.model, job.year, job.plate, job.mileage_km) == ("Orvane", "Lisk", 2020, "PA 1", 1000)
    assert (job.codes, job.temperature_c, job.circuits) == ("P0073", 12.5, ["Ambient-temperature input"])
    assert jobs.job_by_id(db, uuid4()) is None


def test_stages_advance_by_themselves_and_only_people_go_back(db: psycopg.Connection, chase: jobs.Chase) -> None:
    def stage() -> str:
        job = jobs.job_by_id(db, chase.job_id)
        assert job is not None
        return job.stage

    assert stage() == "chase", "a chase has been opened"
    verdict = {"sentence": "Wiring: it broke.", "group": "wiring", "units": ["W1"], "certainty": 0.97, "settled": True}
    key = uuid4()
    assert evidence.append_verdict(db, chase, key, verdict)
    assert not evidence.append_verdict(db, chase, key, verdict)
    assert stage() == "verdict"
    jobs.open_chase(db, chase.job_id, uuid4(), chase.circuit_version_id, "another", {})
    assert stage() == "verdict", "a second chase does not take the job back"
    jobs.set_column(db, chase.job_id, "stage", "chase")
    assert stage() == "chase"


def test_a_chase_keeps_what_it_was_opened_with(db: psycopg.Connection, chase: jobs.Chase) -> None:
    assert (chase.carried, chase.reason, chase.slug) == ({"W1.open|open": 0.2}, "said so", "ambient-temperature")
    key = uuid4()
    again = {jobs.open_chase(db, chase.job_id, key, chase.circuit_version_id, "", {}) for _ in range(2)}
    assert len(again) == 1
    assert [c.seq for c in jobs.chases_of(db, chase.job_id)] == sorted(c.seq for c in jobs.chases_of(db, chase.job_id))


def test_a_reading_comes_back_as_it_was_entered(db: psycopg.Connection, chase: jobs.Chase) -> None:
    add(db, chase, "4,90")
    (kept,) = evidence.readings_of(db, chase.id)
    assert (kept.entry, kept.value_si, kept.state, kept.resolution_si) == ("4,90", 4.9, None, pytest.approx(0.005))
    assert (kept.controls, kept.unplugged, kept.temperature_c, kept.note) == ({"key": "on"}, ["X31"], 12.5, "note")
    assert kept.retracted_because is None


def test_retraction_answers(db: psycopg.Connection, chase: jobs.Chase) -> None:
    add(db, chase)
    reading = evidence.readings_of(db, chase.id)[0]
    assert evidence.retract_reading(db, chase, uuid4(), uuid4(), "x") == "unknown"
    assert evidence.retract_reading(db, chase, reading.id, uuid4(), "first") == "done"
    assert evidence.retract_reading(db, chase, reading.id, uuid4(), "second") == "repeat"
    assert evidence.readings_of(db, chase.id)[0].retracted_because == "first"


def test_the_latest_exclusion_counts(db: psycopg.Connection, chase: jobs.Chase) -> None:
    for excluded in (True, False, True):
        evidence.append_exclusion(db, chase, uuid4(), "point", "X31", excluded)
    evidence.append_exclusion(db, chase, uuid4(), "instrument", "ohmmeter", True)
    evidence.append_exclusion(db, chase, uuid4(), "instrument", "ohmmeter", False)
    assert evidence.exclusions_of(db, chase.id) == {"point": ["X31"], "instrument": []}


def test_the_list_is_newest_first_and_continues(db: psycopg.Connection, job_id: UUID) -> None:
    newest = jobs.list_jobs(db, limit=1)
    assert newest[0].id == job_id
    assert all(job.number < newest[0].number for job in jobs.list_jobs(db, before=newest[0].number))


@pytest.mark.parametrize("column", ["make = ''", "year = 1200", "mileage_km = -1"])
def test_the_database_refuses_what_cannot_be(db: psycopg.Connection, job_id: UUID, column: str) -> None:
    with pytest.raises(psycopg.errors.CheckViolation):
        db.execute(f"UPDATE vehicle SET {column}")
