from __future__ import annotations

from uuid import UUID, uuid4

import psycopg
import pytest

from sondar.core.circuit.model import Setup
from sondar.core.instruments.base import Test
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
def diagnosis(db: psycopg.Connection) -> jobs.CircuitDiagnosis:
    people.create_workshop(db, "Store tests")
    version = circuits.save_circuit(db, circuit_of(AMBIENT_TEXT).document, AMBIENT_TEXT)
    vehicle_id = vehicles.create_vehicle(db, vehicles.NewVehicle("Orvane", "Lisk", 2020, "PA 1", 1000))
    job_id = jobs.create_job(db, jobs.NewJob(uuid4(), vehicle_id, None, "dashes", "P0073", 12.5))
    made = jobs.diagnosis_by_id(db, jobs.open_diagnosis(db, job_id, uuid4(), version.id, "said so", {"W1.open|open": 0.2}))
    assert made is not None
    return made


@pytest.fixture
def job_id(diagnosis: jobs.CircuitDiagnosis) -> UUID:
    return diagnosis.job_id


def add(db: psycopg.Connection, diagnosis: jobs.CircuitDiagnosis, text: str = "4.9") -> None:
    test = Test("voltmeter", "X31.1", "BAT.neg", Setup((("key", "on"),), frozenset({"X31"}), 12.5))
    assert evidence.append_reading(db, diagnosis, evidence.NewReading.of(uuid4(), test, text, parse_entry(text), "typed", "note"))


def test_a_job_carries_its_vehicle_and_circuit(db: psycopg.Connection, job_id: UUID) -> None:
    job = jobs.job_by_id(db, job_id)
    assert job is not None
    assert (job.make, job.model, job.year, job.plate, job.mileage_km) == ("Orvane", "Lisk", 2020, "PA 1", 1000)
    assert (job.codes, job.temperature_c, job.circuits) == ("P0073", 12.5, ["Ambient-temperature input"])
    assert jobs.job_by_id(db, uuid4()) is None


def test_stages_advance_by_themselves_and_only_people_go_back(db: psycopg.Connection, diagnosis: jobs.CircuitDiagnosis) -> None:
    def stage() -> str:
        job = jobs.job_by_id(db, diagnosis.job_id)
        assert job is not None
        return job.stage

    assert stage() == "testing", "a circuit diagnosis has been opened"
    conclusion = {"sentence": "Wiring: it broke.", "group": "wiring", "units": ["W1"], "certainty": 0.97, "settled": True}
    key = uuid4()
    assert evidence.append_conclusion(db, diagnosis, key, conclusion)
    assert not evidence.append_conclusion(db, diagnosis, key, conclusion)
    assert stage() == "diagnosis"
    jobs.open_diagnosis(db, diagnosis.job_id, uuid4(), diagnosis.circuit_version_id, "another", {})
    assert stage() == "diagnosis", "a second diagnosis does not take the job back"
    jobs.set_column(db, diagnosis.job_id, "stage", "diagnosis")
    assert stage() == "diagnosis"


def test_a_diagnosis_keeps_what_it_was_opened_with(db: psycopg.Connection, diagnosis: jobs.CircuitDiagnosis) -> None:
    assert (diagnosis.triage_prior, diagnosis.reason, diagnosis.slug) == ({"W1.open|open": 0.2}, "said so", "ambient-temperature")
    key = uuid4()
    again = {jobs.open_diagnosis(db, diagnosis.job_id, key, diagnosis.circuit_version_id, "", {}) for _ in range(2)}
    assert len(again) == 1
    assert [c.seq for c in jobs.diagnoses_of(db, diagnosis.job_id)] == sorted(
        c.seq for c in jobs.diagnoses_of(db, diagnosis.job_id)
    )


def test_a_reading_comes_back_as_it_was_entered(db: psycopg.Connection, diagnosis: jobs.CircuitDiagnosis) -> None:
    add(db, diagnosis, "4,90")
    (kept,) = evidence.readings_of(db, diagnosis.id)
    assert (kept.entry, kept.value_si, kept.state, kept.resolution_si) == ("4,90", 4.9, None, pytest.approx(0.005))
    assert (kept.controls, kept.unplugged, kept.temperature_c, kept.note) == ({"key": "on"}, ["X31"], 12.5, "note")
    assert kept.voided_because is None


def test_retraction_answers(db: psycopg.Connection, diagnosis: jobs.CircuitDiagnosis) -> None:
    add(db, diagnosis)
    reading = evidence.readings_of(db, diagnosis.id)[0]
    assert evidence.void_reading(db, diagnosis, uuid4(), uuid4(), "x") == "unknown"
    assert evidence.void_reading(db, diagnosis, reading.id, uuid4(), "first") == "done"
    assert evidence.void_reading(db, diagnosis, reading.id, uuid4(), "second") == "repeat"
    assert evidence.readings_of(db, diagnosis.id)[0].voided_because == "first"


def test_the_latest_exclusion_counts(db: psycopg.Connection, diagnosis: jobs.CircuitDiagnosis) -> None:
    for excluded in (True, False, True):
        evidence.append_exclusion(db, diagnosis, uuid4(), "point", "X31", excluded)
    evidence.append_exclusion(db, diagnosis, uuid4(), "instrument", "ohmmeter", True)
    evidence.append_exclusion(db, diagnosis, uuid4(), "instrument", "ohmmeter", False)
    assert evidence.exclusions_of(db, diagnosis.id) == {"point": ["X31"], "instrument": [], "figure": []}


def test_the_list_is_newest_first_and_continues(db: psycopg.Connection, job_id: UUID) -> None:
    newest = jobs.list_jobs(db, limit=1)
    assert newest[0].id == job_id
    assert all(job.number < newest[0].number for job in jobs.list_jobs(db, before=newest[0].number))


@pytest.mark.parametrize("column", ["make = ''", "year = 1200", "mileage_km = -1"])
def test_the_database_refuses_what_cannot_be(db: psycopg.Connection, job_id: UUID, column: str) -> None:
    with pytest.raises(psycopg.errors.CheckViolation):
        db.execute(f"UPDATE vehicle SET {column}")
