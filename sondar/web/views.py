"""Stored things as the API shows them; shared by the blueprints."""

from __future__ import annotations

from uuid import UUID

from sondar.store import jobs as job_store
from sondar.store.database import Db
from sondar.web.measure.models import DiagnosisSummary, JobView
from sondar.web.problems import ProblemError


def job_view(job: job_store.Job) -> JobView:
    """A stored job for the outside."""
    return JobView.model_validate(job.__dict__)


def diagnosis_view(diagnosis: job_store.CircuitDiagnosis) -> DiagnosisSummary:
    """A stored diagnosis for the outside."""
    return DiagnosisSummary.model_validate(diagnosis.__dict__)


def known_job(db: Db, job_id: UUID) -> job_store.Job:
    """A job of this workshop.

    Raises:
        ProblemError: 404.
    """
    found = job_store.job_by_id(db, job_id)
    if found is None:
        raise ProblemError(404, "No such job", f"no job {job_id}")
    return found


def known_diagnosis(db: Db, diagnosis_id: UUID) -> tuple[job_store.Job, job_store.CircuitDiagnosis]:
    """A diagnosis of this workshop with its job.

    Raises:
        ProblemError: 404.
    """
    diagnosis = job_store.diagnosis_by_id(db, diagnosis_id)
    if diagnosis is None:
        raise ProblemError(404, "No such diagnosis", f"no diagnosis {diagnosis_id}")
    return known_job(db, diagnosis.job_id), diagnosis
