"""Share links: a job read-only for a customer or a colleague, until a date, revocable."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import TypeVar
from uuid import UUID

from sondar.app.case import Case, load_case
from sondar.app.computed import Computed
from sondar.app.jobs import JobDetail, JobRecord, about, detail_of, load_record
from sondar.app.judging import Measuring, judge_case
from sondar.app.reporting import Report, report
from sondar.app.workspace import Workspace, known_job
from sondar.core.errors import NotFoundError
from sondar.store import people as store
from sondar.store.database import Db, borrowed

T = TypeVar("T")


@dataclass(frozen=True)
class SharedJob:
    """What a link opens.

    Attributes:
        personal: with the plate. frozen_at: it is shown as it was then; None for links that show the job as it stands.
    """

    workshop: str
    detail: JobDetail
    diagnoses: list[Measuring]
    report: Report
    expires_at: datetime
    personal: bool
    frozen_at: datetime | None


def list_links(work: Workspace, job_id: UUID) -> list[store.Share]:
    """Links of a job; their secrets are not kept and cannot be shown again."""
    with work.transaction() as db:
        known_job(db, job_id)
        return store.shares(db, job_id)


def add_link(
    work: Workspace, job_id: UUID, days: int, personal: bool, view: Callable[[SharedJob], bytes]
) -> tuple[list[store.Share], str]:
    """A link that shows this job as it is now, until it expires; its secret is told once.

    Args:
        personal: with the plate.
    """
    token, now = secrets.token_urlsafe(24), datetime.now(UTC)
    ends = now + timedelta(days=days)
    with work.transaction() as db:
        record, cases = _loaded(db, job_id)
    frozen = work.compute(about(record), _opened, record, cases, ends, personal, now, view)
    with work.transaction() as db:
        job = known_job(db, job_id)
        store.add_share(db, job_id, token, ends, frozen.decode())
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


def open_link(work: Workspace, token: str, view: Callable[[SharedJob], bytes]) -> bytes:
    """What a link shows, for someone who has no account: as it was sent, or the job as it stands for links from before that was kept.

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
        frozen = store.frozen_share(db, token)
        if frozen is not None:
            return frozen.encode()
        record, cases = _loaded(db, job_id)
    return inside.compute(about(record), _opened, record, cases, expires_at, True, None, view)


def _loaded(db: Db, job_id: UUID) -> tuple[JobRecord, list[Case]]:
    record = load_record(db, job_id)
    return record, [load_case(db, diagnosis.id) for diagnosis in record.diagnoses]


def _opened(
    computed: Computed, record: JobRecord, cases: Sequence[Case], expires_at: datetime, personal: bool, frozen_at: datetime | None,
    view: Callable[[SharedJob], T],
) -> T:  # fmt: skip
    detail, judged = detail_of(computed, record, False), [judge_case(computed, case, False) for case in cases]
    made = report(detail, judged, frozen_at or datetime.now(UTC))
    return view(SharedJob(record.workshop.name, detail, judged, made, expires_at, personal, frozen_at))
