"""Job bundles: out as a zip file, and in."""

from __future__ import annotations

from typing import Any

from flask import Response
from flask_openapi3 import APIBlueprint, Tag
from werkzeug.datastructures import FileStorage

from sondar.app import bundles
from sondar.app.photos import MAX_BYTES
from sondar.app.workspace import known_job
from sondar.core.errors import TooLargeError, invalid
from sondar.web.bundles.models import BundleForm
from sondar.web.common import JobPath, JobView, job_view
from sondar.web.context import workspace
from sondar.web.problems import ProblemDetails

api = APIBlueprint(
    "bundles", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="job bundles")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


@api.get("/jobs/<uuid:job_id>/bundle")
def show_bundle(path: JobPath) -> Any:
    """Everything of a job as a zip file of open formats: JSON, CSV, YAML, pictures, and a manifest with SHA-256."""
    number, packed = bundles.exported(workspace(), path.job_id)
    headers = {"Content-Disposition": f'attachment; filename="job-{number}.zip"'}
    return Response(packed, content_type="application/zip", headers=headers)


@api.post("/bundles", responses={"201": JobView, "409": ProblemDetails, "413": ProblemDetails})
def add_bundle(form: BundleForm) -> Any:
    """A new job from a bundle; every row keeps its order and time."""
    if not isinstance(form.bundle, FileStorage):
        raise invalid("bundle", "send a file, not text")
    raw = form.bundle.read(MAX_BYTES + 1)
    if len(raw) > MAX_BYTES:
        raise TooLargeError("Bundle too large", f"at most {MAX_BYTES // 1024 // 1024} MB")
    work = workspace()
    job_id = bundles.imported(work, raw)
    with work.transaction() as db:
        return job_view(known_job(db, job_id)).model_dump(mode="json"), 201
