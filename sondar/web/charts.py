"""Makers' charts at the bench: entered, followed, laid beside Sondar's own order."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from flask_openapi3 import APIBlueprint, Tag
from pydantic import BaseModel, Field

from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.charts import ChartComparison, ChartDocument, ChartView, compare, follow_chart, read_chart
from sondar.documents import load_document
from sondar.store import charts as store
from sondar.store.database import Db
from sondar.web.bench import Case, load_case
from sondar.web.models import ChasePath, ProblemDetails, Strict
from sondar.web.problems import ProblemError
from sondar.web.services import services

api = APIBlueprint(
    "charts",
    __name__,
    url_prefix="/api/v1",
    abp_tags=[Tag(name="charts")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)


class ChartText(Strict):
    """A chart as text."""

    text: str = Field(max_length=200_000)


class ChartPath(ChasePath):
    """Path of a chart at a bench."""

    chart_id: UUID


class ChartSummary(BaseModel):
    """A chart in a list."""

    id: UUID
    title: str
    created_at: datetime


class ChartList(BaseModel):
    """Charts of the circuit on the bench."""

    charts: list[ChartSummary]


def _summary(chart: store.StoredChart) -> ChartSummary:
    return ChartSummary(id=chart.id, title=chart.title, created_at=chart.created_at)


def _read(text: str, case: Case) -> ChartDocument:
    circuit = case.predictor().circuit
    return load_document(text, lambda data: read_chart(data, circuit))


def _opened(db: Db, path: ChartPath) -> tuple[Case, ChartDocument]:
    case = load_case(db, path.chase_id)
    found = store.chart_by_id(db, path.chart_id)
    if found is None or found.slug != case.chase.slug:
        raise ProblemError(404, "No such chart", f"this circuit has no chart {path.chart_id}")
    return case, _read(found.source_text, case)


@api.get("/chases/<uuid:chase_id>/charts", responses={"200": ChartList})
def list_charts(path: ChasePath) -> Any:
    """Charts entered for the circuit on the bench, newest first."""
    with services().transaction() as db:
        case = load_case(db, path.chase_id)
        found = store.charts_of(db, case.chase.slug)
    return ChartList(charts=[_summary(c) for c in found]).model_dump(mode="json")


@api.post("/chases/<uuid:chase_id>/charts", responses={"201": ChartSummary})
def add_chart(path: ChasePath, body: ChartText) -> Any:
    """Check a chart against the circuit on the bench and keep it; the same text again is the same chart."""
    with services().transaction() as db:
        case = load_case(db, path.chase_id)
        chart = _read(body.text, case)
        kept = store.save_chart(db, case.chase.slug, chart.title, body.text)
    return _summary(kept).model_dump(mode="json"), 201


@api.get("/chases/<uuid:chase_id>/charts/<uuid:chart_id>", responses={"200": ChartView})
def show_chart(path: ChartPath) -> Any:
    """How far the readings that stand have come in a chart."""
    with services().transaction() as db:
        case, chart = _opened(db, path)
    predictor = case.predictor()
    readings = case.standing(predictor)
    belief = update(predictor, readings, case.prior(predictor))
    view = follow_chart(chart, predictor.circuit, belief, readings, case.job.temperature_c)
    return view.model_dump(mode="json")


@api.get("/chases/<uuid:chase_id>/charts/<uuid:chart_id>/comparison", responses={"200": ChartComparison})
def compare_chart(path: ChartPath) -> Any:
    """The chart against Sondar's own order, from where the bench stands now."""
    with services().transaction() as db:
        case, chart = _opened(db, path)
    predictor = case.predictor()
    readings = case.standing(predictor)
    belief = update(predictor, readings, case.prior(predictor))
    return compare(chart, predictor, belief, case.bench(predictor, readings)).model_dump(mode="json")
