"""Vehicles and jobs."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from psycopg.rows import class_row

from sondar.store.database import Db


@dataclass(frozen=True)
class NewVehicle:
    """What is known of a vehicle at the door."""

    make: str
    model: str = ""
    year: int | None = None
    plate: str = ""
    mileage_km: int | None = None


@dataclass(frozen=True)
class NewJob:
    """A complaint about a vehicle, and the circuit to chase."""

    client_key: UUID
    circuit_version_id: UUID
    complaint: str
    codes: str = ""
    temperature_c: float = 20.0
    stand_in: str = ""


@dataclass(frozen=True)
class Job:
    """A job with its vehicle, circuit and how far it has come."""

    id: UUID
    number: int
    make: str
    model: str
    year: int | None
    plate: str
    mileage_km: int | None
    complaint: str
    codes: str
    temperature_c: float
    stand_in: str
    circuit_version_id: UUID
    circuit_title: str
    readings: int
    verdict: str | None
    verdict_group: str | None
    created_at: datetime
    touched_at: datetime

    @property
    def stage(self) -> str:
        """``taken in``, ``chase`` or ``verdict``."""
        return "verdict" if self.verdict else "chase" if self.readings else "taken in"


_JOB = """
    SELECT j.id, j.number, v.make, v.model, v.year, v.plate, v.mileage_km, j.complaint, j.codes, j.temperature_c, j.stand_in,
           j.circuit_version_id, cv.title AS circuit_title,
           (SELECT count(*) FROM reading r WHERE r.job_id = j.id
              AND NOT EXISTS (SELECT 1 FROM retraction t WHERE t.reading_id = r.id))::int AS readings,
           last.sentence AS verdict, last.fault_group AS verdict_group, j.created_at,
           coalesce((SELECT max(created_at) FROM reading r WHERE r.job_id = j.id), j.created_at) AS touched_at
    FROM job j
    JOIN vehicle v ON v.id = j.vehicle_id
    JOIN circuit_version cv ON cv.id = j.circuit_version_id
    LEFT JOIN LATERAL (SELECT sentence, fault_group FROM verdict d WHERE d.job_id = j.id ORDER BY seq DESC LIMIT 1) last ON true
"""


def create_job(db: Db, vehicle: NewVehicle, job: NewJob) -> UUID:
    """Store vehicle and job; the same client key again returns the job that exists."""
    known = db.execute("SELECT id FROM job WHERE client_key = %s", (job.client_key,)).fetchone()
    if known is not None:
        return UUID(str(known[0]))
    row = db.execute(
        """
        WITH new_vehicle AS (
            INSERT INTO vehicle (make, model, year, plate, mileage_km)
            VALUES (%(make)s, %(model)s, %(year)s, %(plate)s, %(mileage_km)s) RETURNING id
        )
        INSERT INTO job (client_key, vehicle_id, circuit_version_id, complaint, codes, temperature_c, stand_in)
        SELECT %(client_key)s, id, %(circuit_version_id)s, %(complaint)s, %(codes)s, %(temperature_c)s, %(stand_in)s FROM new_vehicle
        RETURNING id
        """,
        {**vehicle.__dict__, **job.__dict__},
    ).fetchone()
    assert row is not None
    return UUID(str(row[0]))


def list_jobs(db: Db, before: int | None = None, limit: int = 50) -> list[Job]:
    """Newest first; ``before`` is the job number to continue below."""
    with db.cursor(row_factory=class_row(Job)) as cursor:
        return cursor.execute(
            _JOB + " WHERE %(before)s::int IS NULL OR j.number < %(before)s ORDER BY j.number DESC LIMIT %(limit)s",
            {"before": before, "limit": limit},
        ).fetchall()


def job_by_id(db: Db, job_id: UUID) -> Job | None:
    """One job."""
    with db.cursor(row_factory=class_row(Job)) as cursor:
        return cursor.execute(_JOB + " WHERE j.id = %s", (job_id,)).fetchone()
