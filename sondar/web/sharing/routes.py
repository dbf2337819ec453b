"""Share links: a job read-only for a customer or a colleague, until a date, revocable."""

from __future__ import annotations

import secrets
from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.store import jobs as job_store
from sondar.store import people as store
from sondar.store.database import Db, enter
from sondar.web.jobs.routes import job_detail
from sondar.web.jobs.routes.models import (
    SharedDiagnosis,
    SharedJob,
    SharedReading,
    ShareIn,
    ShareList,
    SharePath,
    ShareView,
    TokenPath,
)
from sondar.web.measure.models import JobPath, ProblemDetails
from sondar.web.measure.routes import bench_view
from sondar.web.problems import ProblemError
from sondar.web.services import services
from sondar.web.views import known_job

api = APIBlueprint(
    "shared", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="sharing")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


def _list(db: Db, path: JobPath, token: str | None = None) -> dict[str, Any]:
    found = [
        ShareView(
            id=s.id, created_at=s.created_at, expires_at=s.expires_at, revoked=s.revoked_at is not None, opened=s.opened, by=s.by
        )
        for s in store.shares(db, path.job_id)
    ]
    return ShareList(shares=found, token=token).model_dump(mode="json")


@api.get("/jobs/<uuid:job_id>/shares", responses={"200": ShareList})
def list_shares(path: JobPath) -> Any:
    """Links of a job; their secrets are not kept and cannot be shown again."""
    with services().transaction() as db:
        known_job(db, path.job_id)
        return _list(db, path)


@api.post("/jobs/<uuid:job_id>/shares", responses={"201": ShareList})
def add_share(path: JobPath, body: ShareIn) -> Any:
    """A link that opens this job read-only until it expires."""
    token = secrets.token_urlsafe(24)
    with services().transaction() as db:
        job = known_job(db, path.job_id)
        store.add_share(db, path.job_id, token, body.days)
        store.record(db, "job shared", f"job {job.number}, {body.days} days")
        return _list(db, path, token), 201


@api.delete("/jobs/<uuid:job_id>/shares/<uuid:share_id>", responses={"200": ShareList})
def revoke_share(path: SharePath) -> Any:
    """Make a link open nothing from now on."""
    with services().transaction() as db:
        job = known_job(db, path.job_id)
        if not store.revoke_share(db, path.job_id, path.share_id):
            raise ProblemError(404, "No such link", "this job has no such link, or it is revoked already")
        store.record(db, "sharing ended", f"job {job.number}")
        return _list(db, path)


@api.get("/shared/<string:token>", responses={"200": SharedJob})
def show_shared(path: TokenPath) -> Any:
    """What a link opens: complaint, codes, readings and conclusions. No names, no notes, no photographs."""
    with services().pool.connection() as db:
        found = store.find_share(db, path.token)
        if found is None:
            raise ProblemError(404, "Link not valid", "This link has expired or was ended. Ask the workshop for a new one.")
        job_id, workshop_id, expires_at = found
        enter(db, workshop_id)
        detail = job_detail(db, job_id)
        diagnoses = [(diagnosis, bench_view(db, diagnosis.id)) for diagnosis in job_store.diagnoses_of(db, job_id)]
        shop = store.workshop(db)
    job = detail.job
    shown = []
    for diagnosis, bench in diagnoses:
        effects = {e.reading: e for e in bench.assessment.effects}
        readings = [
            SharedReading(where=f"{r.red} to {r.black}", entry=r.label, setup=r.setup_text, expected=effects[str(r.id)].expected,
                          within_expected=effects[str(r.id)].within_expected)
            for r in bench.readings if r.voided_because is None and str(r.id) in effects
        ]  # fmt: skip
        shown.append(
            SharedDiagnosis(title=diagnosis.title, about=diagnosis.reason, readings=readings, conclusion=diagnosis.conclusion)
        )
    return SharedJob(
        workshop=shop.name, number=job.number, vehicle=f"{job.make} {job.model} {job.year or ''}".strip(), plate=job.plate,
        complaint=job.complaint, stage=job.stage, taken_in=job.created_at, expires_at=expires_at, codes=detail.codes, diagnoses=shown,
    ).model_dump(mode="json")  # fmt: skip
