"""Share links: a job read-only for a customer or a colleague, until a date, revocable."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import TypeVar
from uuid import UUID

from sondar.app.case import Case, load_case
from sondar.app.computed import Computed
from sondar.app.jobs import JobDetail, JobRecord, about, detail_of, load_record
from sondar.app.judging import Measuring, judge_case
from sondar.app.workspace import Workspace, known_job
from sondar.core.errors import NotFoundError
from sondar.store import people as store
from sondar.store.database import borrowed

T = TypeVar("T")


@dataclass(frozen=True)
class SharedJob:
    """What a link opens."""

    workshop: str
    detail: JobDetail
    diagnoses: list[Measuring]
    expires_at: datetime


def list_links(work: Workspace, job_id: UUID) -> list[store.Share]:
    """Links of a job; their secrets are not kept and cannot be shown again."""
    with work.transaction() as db:
        known_job(db, job_id)
        return store.shares(db, job_id)


def add_link(work: Workspace, job_id: UUID, days: int) -> tuple[list[store.Share], str]:
    """A link that opens this job read-only until it expires; its secret is told once."""
    token = secrets.token_urlsafe(24)
    with work.transaction() as db:
        job = known_job(db, job_id)
        store.add_share(db, job_id, token, days)
        store.record(db, "job shared", f"job {job.number}, {days} days")
        return store.shares(db, job_id), token


def revoke_link(work: Workspace, job_id: UUID, share_id: UUID) -> list[store.Share]:
    """Make a link open nothing from now on.

    Raises:
        NotFoundError: no such link, or revoked already.
    """
    with work.transaction() as db:
        job = known_job(db, job_id)
        if not store.revoke_share(db, job_id, share_id):
            raise NotFoundError("No such link", "this job has no such link, or it is revoked already")
        store.record(db, "sharing ended", f"job {job.number}")
        return store.shares(db, job_id)


def open_link(work: Workspace, token: str, view: Callable[[SharedJob], T]) -> T:
    """What a link opens, for someone who has no account: seen as the workshop that made it.

    Raises:
        NotFoundError: the link is not valid.
    """
    with borrowed(work.pool) as db:
        found = store.find_share(db, token)
    if found is None:
        raise NotFoundError("Link not valid", "This link has expired or was ended. Ask the workshop for a new one.")
    job_id, workshop_id, expires_at = found
    inside = replace(work, workshop_id=workshop_id, account_id=None)
    with inside.transaction() as db:
        record = load_record(db, job_id)
        cases = [load_case(db, diagnosis.id) for diagnosis in record.diagnoses]
    return inside.compute(about(record), _opened, record, cases, expires_at, view)


def _opened(
    computed: Computed, record: JobRecord, cases: Sequence[Case], expires_at: datetime, view: Callable[[SharedJob], T]
) -> T:
    detail, judged = detail_of(computed, record, False), [judge_case(computed, case, False) for case in cases]
    return view(SharedJob(record.workshop.name, detail, judged, expires_at))
