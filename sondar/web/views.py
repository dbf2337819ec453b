"""Stored things as the API shows them; shared by the blueprints."""

from __future__ import annotations

from uuid import UUID

from sondar.store import jobs as job_store
from sondar.store.database import Db
from sondar.web.models import ChaseSummary, JobView
from sondar.web.problems import ProblemError


def job_view(job: job_store.Job) -> JobView:
    """A stored job for the outside."""
    return JobView.model_validate(job.__dict__)


def chase_view(chase: job_store.Chase) -> ChaseSummary:
    """A stored chase for the outside."""
    return ChaseSummary.model_validate(chase.__dict__)


def known_job(db: Db, job_id: UUID) -> job_store.Job:
    """A job of this workshop.

    Raises:
        ProblemError: 404.
    """
    found = job_store.job_by_id(db, job_id)
    if found is None:
        raise ProblemError(404, "No such job", f"no job {job_id}")
    return found


def known_chase(db: Db, chase_id: UUID) -> tuple[job_store.Job, job_store.Chase]:
    """A chase of this workshop with its job.

    Raises:
        ProblemError: 404.
    """
    chase = job_store.chase_by_id(db, chase_id)
    if chase is None:
        raise ProblemError(404, "No such chase", f"no chase {chase_id}")
    return known_job(db, chase.job_id), chase
