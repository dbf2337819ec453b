"""Jobs and their circuit diagnoses: check in, list, search, stages."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime
from typing import Literal, get_args
from uuid import UUID

from psycopg import sql
from psycopg.rows import class_row
from psycopg.types.json import Jsonb

from sondar.store.database import Db

Stage = Literal["check-in", "testing", "diagnosis", "repair", "verify", "closed"]
STAGES: tuple[Stage, ...] = get_args(Stage)
"""How far a job has come."""


@dataclass(frozen=True)
class NewJob:
    """A complaint about a vehicle. ``simulated_vehicle`` names the simulated vehicle behind it, empty for real ones."""

    client_key: UUID
    vehicle_id: UUID
    vehicle_model_id: UUID | None = None
    complaint: str = ""
    codes: str = ""
    temperature_c: float = 20.0
    simulated_vehicle: str = ""


@dataclass(frozen=True)
class Job:
    """A job with its vehicle and how far it has come."""

    id: UUID
    number: int
    vehicle_id: UUID
    vehicle_model_id: UUID | None
    make: str
    model: str
    year: int | None
    plate: str
    mileage_km: int | None
    engine: str
    vin: str
    starting: str
    complaint: str
    codes: str
    temperature_c: float
    simulated_vehicle: str
    stage: str
    last_seq: int
    circuits: list[str]
    readings: int
    conclusion: str | None
    conclusion_group: str | None
    outcome: str
    created_at: datetime
    touched_at: datetime
    erased_at: datetime | None
    by: str | None


@dataclass(frozen=True)
class CircuitDiagnosis:
    """One circuit being diagnosed in a job."""

    id: UUID
    job_id: UUID
    seq: int
    circuit_version_id: UUID
    slug: str
    title: str
    reason: str
    triage_prior: dict[str, float]
    created_at: datetime
    readings: int
    conclusion: str | None


_JOB = """
    SELECT j.id, j.number, j.vehicle_id, j.vehicle_model_id, v.make, v.model, v.year, v.plate, v.mileage_km, v.engine, v.vin, v.starting,
           j.complaint, j.codes, j.temperature_c, j.simulated_vehicle, j.stage, j.last_seq,
           ARRAY(SELECT cv.title FROM current_diagnosis c JOIN circuit_version cv ON cv.id = c.circuit_version_id
                 WHERE c.job_id = j.id ORDER BY c.seq) AS circuits,
           (SELECT count(*) FROM reading r WHERE r.job_id = j.id
              AND NOT EXISTS (SELECT 1 FROM voided_reading t WHERE t.reading_id = r.id))::int AS readings,
           last.sentence AS conclusion, last.fault_group AS conclusion_group,
           coalesce((SELECT o.value #>> '{}' FROM answer o WHERE o.job_id = j.id AND o.field = 'outcome'
                     ORDER BY o.seq DESC LIMIT 1), '') AS outcome,
           j.created_at, j.touched_at, j.erased_at, a.name AS by
    FROM job j
    JOIN vehicle v ON v.id = j.vehicle_id
    LEFT JOIN account a ON a.id = j.account_id
    LEFT JOIN LATERAL (SELECT sentence, fault_group FROM conclusion d WHERE d.job_id = j.id ORDER BY seq DESC LIMIT 1) last ON true
"""

_CHASE = """
    SELECT c.id, c.job_id, c.seq, c.circuit_version_id, k.slug, cv.title, c.reason, c.triage_prior, c.created_at,
           (SELECT count(*) FROM reading r WHERE r.diagnosis_id = c.id
              AND NOT EXISTS (SELECT 1 FROM voided_reading t WHERE t.reading_id = r.id))::int AS readings,
           (SELECT sentence FROM conclusion d WHERE d.diagnosis_id = c.id ORDER BY seq DESC LIMIT 1) AS conclusion
    FROM current_diagnosis c
    JOIN circuit_version cv ON cv.id = c.circuit_version_id
    JOIN circuit k ON k.id = cv.circuit_id
"""


def next_seq(db: Db, job_id: UUID) -> int | None:
    """Lock the job and take its next sequence number; None if there is no such job."""
    row = db.execute(
        "UPDATE job SET last_seq = last_seq + 1, touched_at = now() WHERE id = %s RETURNING last_seq", (job_id,)
    ).fetchone()
    return None if row is None else int(row[0])


def lock(db: Db, job_id: UUID) -> None:
    """Hold a job until the end of the transaction: nothing is added to it meanwhile."""
    db.execute("SELECT 1 FROM job WHERE id = %s FOR UPDATE", (job_id,))


def create_job(db: Db, job: NewJob) -> UUID:
    """Store a job."""
    row = db.execute(
        """
        INSERT INTO job (client_key, vehicle_id, vehicle_model_id, complaint, codes, temperature_c, simulated_vehicle)
        VALUES (%(client_key)s, %(vehicle_id)s, %(vehicle_model_id)s, %(complaint)s, %(codes)s, %(temperature_c)s, %(simulated_vehicle)s)
        RETURNING id
        """,
        job.__dict__,
    ).fetchone()
    assert row is not None
    return UUID(str(row[0]))


def job_of_key(db: Db, client_key: UUID) -> UUID | None:
    """The job that a client made with this key before."""
    row = db.execute("SELECT id FROM job WHERE client_key = %s", (client_key,)).fetchone()
    return None if row is None else UUID(str(row[0]))


def list_jobs(db: Db, before: int | None = None, limit: int = 50, stage: str | None = None) -> list[Job]:
    """Newest first; ``before`` is the job number to continue below."""
    with db.cursor(row_factory=class_row(Job)) as cursor:
        return cursor.execute(
            _JOB
            + """
            WHERE j.workshop_id = current_workshop() AND (%(before)s::int IS NULL OR j.number < %(before)s)
              AND (%(stage)s::text IS NULL OR j.stage = %(stage)s)
            ORDER BY j.number DESC LIMIT %(limit)s
            """,
            {"before": before, "limit": limit, "stage": stage},
        ).fetchall()


def to_follow_up(db: Db, until: date, limit: int = 100) -> list[tuple[date, Job]]:
    """Jobs whose repair is to be asked after by a day, and of which nobody has said yet how it went; the longest overdue first."""
    days: dict[UUID, date] = dict(
        db.execute(
            "SELECT id, follow_up_due FROM job WHERE workshop_id = current_workshop() AND follow_up_due <= %s "
            "ORDER BY follow_up_due, number LIMIT %s",
            (until, limit),
        ).fetchall()
    )
    with db.cursor(row_factory=class_row(Job)) as cursor:
        found = cursor.execute(_JOB + " WHERE j.workshop_id = current_workshop() AND j.id = ANY(%s)", (list(days),)).fetchall()
    return sorted(((days[job.id], job) for job in found), key=lambda one: (one[0], one[1].number))


def search_jobs(db: Db, query: tuple[str, str], before: int | None = None, limit: int = 50, stage: str | None = None) -> list[Job]:
    """Jobs whose vehicle, codes, words or notes match, newest first.

    Args:
        query: the same question as ``tsquery`` text for plain words (``simple``) and for stemmed ones (``english``).
    """
    with db.cursor(row_factory=class_row(Job)) as cursor:
        return cursor.execute(
            _JOB
            + """
            WHERE j.id = ANY(ARRAY(SELECT id FROM search_jobs(
                to_tsquery('simple', %(simple)s) || to_tsquery('english', %(english)s), %(before)s, %(stage)s, %(limit)s)))
            ORDER BY j.number DESC
            """,
            {"simple": query[0], "english": query[1], "before": before, "limit": limit, "stage": stage},
        ).fetchall()


def workshops_with_search_due(db: Db) -> list[UUID]:
    """Workshops that have jobs whose searched text is to be put together anew."""
    return [row[0] for row in db.execute("SELECT workshops_with_search_due()").fetchall()]


def refresh_search(db: Db, most: int) -> int:
    """Put together what is searched for, of up to so many of this workshop's jobs that are due; how many there were."""
    due = db.execute("SELECT job_id, max(id) FROM search_due GROUP BY job_id ORDER BY min(id) LIMIT %s", (most,)).fetchall()
    for job_id, upto in due:
        db.execute("UPDATE job SET search = job_search_text(id) WHERE id = %s", (job_id,))
        db.execute("DELETE FROM search_due WHERE job_id = %s AND id <= %s", (job_id, upto))
    return len(due)


def job_by_id(db: Db, job_id: UUID) -> Job | None:
    """One job."""
    with db.cursor(row_factory=class_row(Job)) as cursor:
        return cursor.execute(_JOB + " WHERE j.id = %s", (job_id,)).fetchone()


def jobs_of_vehicle(db: Db, vehicle_id: UUID) -> list[Job]:
    """All jobs of one vehicle, newest first."""
    with db.cursor(row_factory=class_row(Job)) as cursor:
        return cursor.execute(_JOB + " WHERE j.vehicle_id = %s ORDER BY j.number DESC LIMIT 50", (vehicle_id,)).fetchall()


def set_column(db: Db, job_id: UUID, column: str, value: str | float) -> None:
    """The current value of something that the answers keep the history of."""
    assert column in ("complaint", "codes", "temperature_c", "stage", "simulated_vehicle")
    db.execute(sql.SQL("UPDATE job SET {} = %s WHERE id = %s").format(sql.Identifier(column)), (value, job_id))


def set_model(db: Db, job_id: UUID, model_id: UUID | None) -> None:
    """Which vehicle model's circuits the job works with."""
    db.execute("UPDATE job SET vehicle_model_id = %s WHERE id = %s", (model_id, job_id))


def advance(db: Db, job_id: UUID, stage: str) -> None:
    """Move on to a stage if the job is not that far yet; going back is only done by a person."""
    earlier = STAGES[: STAGES.index(stage)]
    db.execute("UPDATE job SET stage = %s WHERE id = %s AND stage = ANY(%s)", (stage, job_id, list(earlier)))


# -- diagnoses ---------------------------------------------------------------------------------------------


def open_diagnosis(
    db: Db, job_id: UUID, client_key: UUID, circuit_version_id: UUID, reason: str, triage_prior: Mapping[str, float]
) -> UUID:
    """Begin to diagnose a circuit; the same client key again is the same diagnosis."""
    seq = next_seq(db, job_id)
    db.execute(
        """
        INSERT INTO circuit_diagnosis (job_id, seq, client_key, circuit_version_id, reason, triage_prior) VALUES (%s, %s, %s, %s, %s, %s)
        ON CONFLICT (job_id, client_key) DO NOTHING
        """,
        (job_id, seq, client_key, circuit_version_id, reason, Jsonb(dict(triage_prior))),
    )
    row = db.execute("SELECT id FROM circuit_diagnosis WHERE job_id = %s AND client_key = %s", (job_id, client_key)).fetchone()
    assert row is not None
    advance(db, job_id, "testing")
    return UUID(str(row[0]))


def diagnoses_of(db: Db, job_id: UUID) -> list[CircuitDiagnosis]:
    """Diagnoses of a job in the order they were begun."""
    with db.cursor(row_factory=class_row(CircuitDiagnosis)) as cursor:
        return cursor.execute(_CHASE + " WHERE c.job_id = %s ORDER BY c.seq", (job_id,)).fetchall()


def diagnosis_by_id(db: Db, diagnosis_id: UUID) -> CircuitDiagnosis | None:
    """One diagnosis."""
    with db.cursor(row_factory=class_row(CircuitDiagnosis)) as cursor:
        return cursor.execute(_CHASE + " WHERE c.id = %s", (diagnosis_id,)).fetchone()
