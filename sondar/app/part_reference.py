"""The quick reference: what is said of a kind of part, the parts of one vehicle in a table, and what is due on it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, TypeVar
from uuid import UUID

from sondar.app import job_record
from sondar.app.computed import Computed
from sondar.app.jobs import JobRecord, load_record
from sondar.app.workspace import Workspace, known_version
from sondar.code_library import part_kinds
from sondar.core.part_kinds import Due, PartKind, due_intervals, kinds_by_words, kinds_in
from sondar.store import intake
from sondar.store.circuits import CircuitVersion

T = TypeVar("T")
DONE, MILEAGE = "intervals_done", "mileage_km"


@dataclass(frozen=True)
class VehicleParts:
    """The parts of a vehicle whose kinds are known, and what is due.

    Attributes:
        parts: (name on the vehicle, kind). km: mileage now, None if nobody knows. done: intervals that are ticked on this job.
    """

    record: JobRecord
    parts: list[tuple[str, PartKind]]
    km: int | None
    due: list[Due]
    done: list[str]


def kinds_for(said: str) -> list[PartKind]:
    """Kinds of parts for a name or a symptom, best first; all if nothing is said."""
    return kinds_by_words(part_kinds(), said)


@dataclass(frozen=True)
class _Stored:
    record: JobRecord
    versions: list[CircuitVersion]
    answers: list[tuple[UUID, datetime, dict[str, Any]]]


def vehicle_parts(work: Workspace, job_id: UUID, view: Callable[[VehicleParts], T]) -> T:
    """The parts of a job's vehicle, from its own circuits and those that were opened, and what is due.

    Raises:
        NotFoundError: there is no such job.
    """
    with work.transaction() as db:
        record = load_record(db, job_id)
        opened = [known_version(db, one.circuit_version_id) for one in record.diagnoses]
        answers = intake.latest_of_vehicle(db, record.job.vehicle_id, (DONE, MILEAGE))
    versions = {version.slug: version for version in (*record.versions.values(), *opened)}
    return work.compute("parts", _viewed, _Stored(record, list(versions.values()), answers), datetime.now(UTC), view)


def _viewed(computed: Computed, stored: _Stored, now: datetime, view: Callable[[VehicleParts], T]) -> T:
    record = stored.record
    parts = kinds_in(part_kinds(), [computed.circuit(version) for version in stored.versions])
    kinds = list({kind.id: kind for _, kind in parts}.values())
    km = job_record.value_of(record.answers, MILEAGE, record.job.mileage_km)
    year = record.job.year
    done = {
        key: (answers.get(MILEAGE) or (km if job == record.job.id else None), _age(year, at))
        for job, at, answers in stored.answers
        for key in answers.get(DONE) or ()
    }
    ticked: Sequence[str] = job_record.value_of(record.answers, DONE, [])
    return view(
        VehicleParts(
            record, parts, km, due_intervals(kinds, km, _age(year, now), done, record.workshop.distance_unit), sorted(ticked)
        )
    )


def _age(year: int | None, at: datetime) -> int | None:
    """Months since the middle of the year in which a vehicle was built."""
    return None if year is None else max(0, (at.year - year) * 12 + at.month - 6)
