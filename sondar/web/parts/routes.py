"""The quick reference: kinds of parts by name or symptom, and the parts of a job's vehicle with what is due."""

from __future__ import annotations

from typing import Any

from flask import Response
from flask_openapi3 import APIBlueprint, Tag

from sondar.app import part_reference
from sondar.web.common import JobPath, as_json
from sondar.web.context import workspace
from sondar.web.parts.models import PartKindList, PartsQuery, VehiclePartsView
from sondar.web.parts.present import kind_view, vehicle_parts_json, vehicle_parts_pdf
from sondar.web.problems import ProblemDetails

api = APIBlueprint(
    "parts", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="quick reference")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


@api.get("/parts", responses={"200": PartKindList})
def find_parts(query: PartsQuery) -> Any:
    """Kinds of parts by what somebody calls one or by how it shows that it fails, best first; all without a word."""
    return PartKindList(kinds=[kind_view(kind) for kind in part_reference.kinds_for(query.said)]).model_dump(mode="json")


@api.get("/jobs/<uuid:job_id>/parts", responses={"200": VehiclePartsView})
def show_vehicle_parts(path: JobPath) -> Any:
    """Parts of the job's vehicle whose kinds are known, and what is due on it by mileage and age."""
    return as_json(part_reference.vehicle_parts(workspace(), path.job_id, vehicle_parts_json))


@api.get("/jobs/<uuid:job_id>/parts-table")
def print_vehicle_parts(path: JobPath) -> Any:
    """The same as a table to be printed (PDF)."""
    made = part_reference.vehicle_parts(workspace(), path.job_id, vehicle_parts_pdf)
    return Response(made, content_type="application/pdf", headers={"Content-Disposition": 'inline; filename="parts.pdf"'})
