"""Manufacturers' procedures at the bench: entered, followed, laid beside Sondar's own order."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from flask_openapi3 import APIBlueprint, Tag
from pydantic import BaseModel, Field

from sondar.circuit_files import load_document
from sondar.core.diagnosis.belief import update
from sondar.core.procedures.procedure import (
    ProcedureComparison,
    ProcedureDocument,
    ProcedureView,
    compare,
    follow_procedure,
    read_procedure,
)
from sondar.store import procedures as store
from sondar.store.database import Db
from sondar.web.measure.models import DiagnosisPath, ProblemDetails, Strict
from sondar.web.measure.routes import Case, load_case
from sondar.web.problems import ProblemError
from sondar.web.services import services

api = APIBlueprint(
    "procedures",
    __name__,
    url_prefix="/api/v1",
    abp_tags=[Tag(name="procedures")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)


class ProcedureText(Strict):
    """A procedure as text."""

    text: str = Field(max_length=200_000)


class ProcedurePath(DiagnosisPath):
    """Path of a procedure at a bench."""

    procedure_id: UUID


class ProcedureSummary(BaseModel):
    """A procedure in a list."""

    id: UUID
    title: str
    created_at: datetime


class ProcedureList(BaseModel):
    """Charts of the circuit on the bench."""

    procedures: list[ProcedureSummary]


def _summary(procedure: store.StoredProcedure) -> ProcedureSummary:
    return ProcedureSummary(id=procedure.id, title=procedure.title, created_at=procedure.created_at)


def _read(text: str, case: Case) -> ProcedureDocument:
    circuit = case.predictor().circuit
    return load_document(text, lambda data: read_procedure(data, circuit))


def _opened(db: Db, path: ProcedurePath) -> tuple[Case, ProcedureDocument]:
    case = load_case(db, path.diagnosis_id)
    found = store.procedure_by_id(db, path.procedure_id)
    if found is None or found.slug != case.diagnosis.slug:
        raise ProblemError(404, "No such procedure", f"this circuit has no procedure {path.procedure_id}")
    return case, _read(found.source_text, case)


@api.get("/diagnoses/<uuid:diagnosis_id>/procedures", responses={"200": ProcedureList})
def list_charts(path: DiagnosisPath) -> Any:
    """Charts entered for the circuit on the bench, newest first."""
    with services().transaction() as db:
        case = load_case(db, path.diagnosis_id)
        found = store.procedures_of(db, case.diagnosis.slug)
    return ProcedureList(procedures=[_summary(c) for c in found]).model_dump(mode="json")


@api.post("/diagnoses/<uuid:diagnosis_id>/procedures", responses={"201": ProcedureSummary})
def add_chart(path: DiagnosisPath, body: ProcedureText) -> Any:
    """Check a procedure against the circuit on the bench and keep it; the same text again is the same procedure."""
    with services().transaction() as db:
        case = load_case(db, path.diagnosis_id)
        procedure = _read(body.text, case)
        kept = store.save_procedure(db, case.diagnosis.slug, procedure.title, body.text)
    return _summary(kept).model_dump(mode="json"), 201


@api.get("/diagnoses/<uuid:diagnosis_id>/procedures/<uuid:procedure_id>", responses={"200": ProcedureView})
def show_chart(path: ProcedurePath) -> Any:
    """How far the readings that stand have come in a procedure."""
    with services().transaction() as db:
        case, procedure = _opened(db, path)
    predictor = case.predictor()
    readings = case.standing(predictor)
    belief = update(predictor, readings, case.prior(predictor))
    view = follow_procedure(procedure, predictor.circuit, belief, readings, case.job.temperature_c)
    return view.model_dump(mode="json")


@api.get("/diagnoses/<uuid:diagnosis_id>/procedures/<uuid:procedure_id>/comparison", responses={"200": ProcedureComparison})
def compare_procedure(path: ProcedurePath) -> Any:
    """The procedure against Sondar's own order, from where the bench stands now."""
    with services().transaction() as db:
        case, procedure = _opened(db, path)
    predictor = case.predictor()
    readings = case.standing(predictor)
    belief = update(predictor, readings, case.prior(predictor))
    return compare(procedure, predictor, belief, case.bench(predictor, readings)).model_dump(mode="json")
