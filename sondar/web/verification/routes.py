"""Verification of a job's repairs, and reading the monitors of its vehicle."""

from __future__ import annotations

from typing import Any

from flask import Response
from flask_openapi3 import APIBlueprint, Tag

from sondar.app import verifying
from sondar.web.common import JobPath, as_json
from sondar.web.context import workspace
from sondar.web.problems import ProblemDetails
from sondar.web.verification.models import ReadinessIn, VerificationView
from sondar.web.verification.present import road_test_pdf, verification_json

api = APIBlueprint(
    "verification", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="verification")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails, "502": ProblemDetails},
)  # fmt: skip


@api.get("/jobs/<uuid:job_id>/verification", responses={"200": VerificationView})
def show_verification(path: JobPath) -> Any:
    """Each failed reading beside the old one, each code since clearing, commands again, monitors, and how it all stands."""
    return as_json(verifying.verified(workspace(), path.job_id, verification_json))


@api.post("/jobs/<uuid:job_id>/readiness", responses={"200": VerificationView})
def read_readiness(path: JobPath, body: ReadinessIn) -> Any:
    """Read monitors and freeze frame of the connected vehicle (OBD services 01 and 02), and keep them with the job."""
    return as_json(verifying.read_readiness(workspace(), path.job_id, body.client_key, verification_json))


@api.get("/jobs/<uuid:job_id>/road-test")
def show_road_test(path: JobPath) -> Any:
    """The card for a road test after a repair, as PDF: conditions, what is outstanding, what to watch."""
    made = verifying.road_test(workspace(), path.job_id, road_test_pdf)
    return Response(made, content_type="application/pdf", headers={"Content-Disposition": 'inline; filename="road-test.pdf"'})
