"""A circuit diagnosis as it is stored: everything that judging it needs, read in one transaction."""

from __future__ import annotations

from dataclasses import dataclass, replace
from uuid import UUID

from sondar.app import job_record
from sondar.app.workspace import known_diagnosis, known_version
from sondar.core.diagnosis.after_repair import Repair
from sondar.store import codes, evidence, intake, people
from sondar.store import jobs as job_store
from sondar.store.circuits import CircuitVersion
from sondar.store.database import Db


@dataclass(frozen=True)
class Case:
    """Everything that is stored of a circuit diagnosis, read in one transaction."""

    job: job_store.Job
    diagnosis: job_store.CircuitDiagnosis
    version: CircuitVersion
    stored: list[evidence.StoredReading]
    excluded: dict[str, list[str]]
    answers: dict[str, intake.Answer]
    codes: job_record.CodeFile
    workshop: people.Workshop
    meters: list[people.Meter]
    said: evidence.Statement | None
    repairs: list[evidence.StoredRepair]
    evidence_seq: int
    seized: list[evidence.Seized]

    @property
    def valid(self) -> list[evidence.StoredReading]:
        """Readings that have not been voided."""
        return [item for item in self.stored if item.voided_because is None]

    @property
    def repaired(self) -> list[Repair]:
        """Repairs as the engine takes them."""
        return [
            Repair(tuple(item.units), item.action, sum(r.seq < item.seq for r in self.valid), item.substituted)
            for item in self.repairs
        ]


def load_case(db: Db, diagnosis_id: UUID) -> Case:
    """A circuit diagnosis of this workshop with everything stored of it.

    Raises:
        NotFoundError: there is none.
    """
    job, diagnosis = known_diagnosis(db, diagnosis_id)
    answers = intake.answers_of(db, job.id)
    return Case(
        job, diagnosis, known_version(db, diagnosis.circuit_version_id), evidence.readings_of(db, diagnosis_id),
        evidence.exclusions_of(db, diagnosis_id), answers,
        job_record.code_file(codes.scans_of(db, job.id), codes.clearings_of(db, job.id), answers), people.workshop(db), people.meters(db),
        evidence.last_statement(db, diagnosis_id), evidence.repairs_of(db, diagnosis_id),
        evidence.newest_evidence(db, diagnosis_id), evidence.seized_of(db, diagnosis_id),
    )  # fmt: skip


def with_evidence(db: Db, case: Case) -> Case:
    """The case with the evidence as it stands after something was appended."""
    job, diagnosis = known_diagnosis(db, case.diagnosis.id)
    return replace(
        case, job=job, diagnosis=diagnosis, version=known_version(db, diagnosis.circuit_version_id),
        stored=evidence.readings_of(db, diagnosis.id), excluded=evidence.exclusions_of(db, diagnosis.id),
        repairs=evidence.repairs_of(db, diagnosis.id), evidence_seq=evidence.newest_evidence(db, diagnosis.id),
        seized=evidence.seized_of(db, diagnosis.id),
    )  # fmt: skip
