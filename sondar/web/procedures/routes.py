"""Manufacturers' diagnostic procedures: entered, followed, laid beside Sondar's own order."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.app import procedures
from sondar.core.procedures.compare import ProcedureComparison
from sondar.core.procedures.follow import ProcedureView
from sondar.store.procedures import StoredProcedure
from sondar.web.common import DiagnosisPath
from sondar.web.context import workspace
from sondar.web.problems import ProblemDetails
from sondar.web.procedures.models import ProcedureList, ProcedurePath, ProcedureSummary, ProcedureText

api = APIBlueprint(
    "procedures", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="procedures")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


def _summary(procedure: StoredProcedure) -> ProcedureSummary:
    return ProcedureSummary(id=procedure.id, title=procedure.title, created_at=procedure.created_at)


@api.get("/diagnoses/<uuid:diagnosis_id>/procedures", responses={"200": ProcedureList})
def list_procedures(path: DiagnosisPath) -> Any:
    """Procedures entered for the circuit, newest first."""
    found = procedures.list_procedures(workspace(), path.diagnosis_id)
    return ProcedureList(procedures=[_summary(item) for item in found]).model_dump(mode="json")


@api.post("/diagnoses/<uuid:diagnosis_id>/procedures", responses={"201": ProcedureSummary})
def add_procedure(path: DiagnosisPath, body: ProcedureText) -> Any:
    """Check a procedure against the circuit and keep it; the same text again is the same procedure."""
    return _summary(procedures.add(workspace(), path.diagnosis_id, body.text)).model_dump(mode="json"), 201


@api.get("/diagnoses/<uuid:diagnosis_id>/procedures/<uuid:procedure_id>", responses={"200": ProcedureView})
def show_procedure(path: ProcedurePath) -> Any:
    """How far the readings have come in a procedure."""
    return procedures.follow(workspace(), path.diagnosis_id, path.procedure_id).model_dump(mode="json")


@api.get("/diagnoses/<uuid:diagnosis_id>/procedures/<uuid:procedure_id>/comparison", responses={"200": ProcedureComparison})
def compare_procedure(path: ProcedurePath) -> Any:
    """The procedure against Sondar's own order, from where the technician stands now."""
    return procedures.comparison(workspace(), path.diagnosis_id, path.procedure_id).model_dump(mode="json")
