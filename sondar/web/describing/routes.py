"""Describing a circuit: what follows from a sheet, pin tables, keeping it, and going on with it in a running job."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any
from uuid import UUID

from flask_openapi3 import APIBlueprint, Tag
from werkzeug.datastructures import FileStorage

from sondar.app import describing
from sondar.app.computed import Computed
from sondar.app.photos import MAX_BYTES
from sondar.core.describing.sheet import Sheet
from sondar.core.errors import invalid
from sondar.store.circuits import CircuitVersion
from sondar.web.circuits import present
from sondar.web.circuits.models import CircuitDetail, CircuitSummary
from sondar.web.common import DiagnosisPath, PictureQuery, as_json, picture_response
from sondar.web.context import workspace
from sondar.web.describing.models import (
    ColumnView,
    HealthyRow,
    MoveIn,
    NoteView,
    OpenRow,
    PicturePath,
    PinRowView,
    SheetIn,
    SheetPictureForm,
    SheetPictures,
    SheetPreview,
    TableIn,
    TableView,
)
from sondar.web.measure.models import MeasuringView
from sondar.web.measure.present import measuring_json
from sondar.web.problems import FieldProblemModel, ProblemDetails

NOT_KEPT = CircuitVersion(UUID(int=0), "", 0, "", "", "", datetime(2000, 1, 1, tzinfo=UTC))

api = APIBlueprint(
    "describing", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="describing circuits")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


@api.post("/sheets/preview", responses={"200": SheetPreview})
def preview_sheet(body: SheetIn) -> Any:
    """What follows from a sheet: the drawing, what a healthy vehicle shows, what is still open; or what is not clear yet."""
    return as_json(workspace().compute("describing", _previewed, body.sheet))


def _previewed(computed: Computed, sheet: Sheet) -> bytes:
    found = describing.described(computed, sheet)
    circuit = None
    if found.document is not None:
        version = describing.previewed_version(found, sheet, NOT_KEPT)
        circuit = CircuitDetail.model_validate_json(present.detailed(Computed(), version))
    return SheetPreview(
        problems=[FieldProblemModel(**problem.as_dict()) for problem in found.problems], circuit=circuit,
        setups=[title for title, _, _ in describing.SHOWN_IN],
        healthy=[HealthyRow(cavity=row.cavity, carries=row.carries, shows=list(row.shows)) for row in found.healthy],
        open=[OpenRow(what=row.what, why=row.why) for row in found.open],
    ).model_dump_json().encode()  # fmt: skip


@api.post("/sheets/table", responses={"200": TableView})
def read_table(body: TableIn) -> Any:
    """A pin table (CSV) or a WireViz file as it was understood, before anything is made of it."""
    found = workspace().compute("describing", describing.understood_table, body.text, body.form, body.fields)
    return TableView(
        form=found.form, connectors=found.connectors, columns=[ColumnView(heading=name, field=field) for name, field in found.columns],
        rows=[PinRowView(connector=r.connector, cavity=r.cavity, wire=r.wire, colour=r.colour, mm2=r.mm2, end=r.end) for r in found.rows],
        notes=[NoteView(line=line, text=text) for line, text in found.notes],
    ).model_dump(mode="json")  # fmt: skip


@api.post("/sheets", responses={"201": CircuitSummary})
def keep_sheet(body: SheetIn) -> Any:
    """Keep the circuit that follows from a sheet; the same part of the same vehicle again is its next version."""
    work = workspace()
    version = describing.keep(work, body.sheet)
    return as_json(work.compute(version.id, present.stored, version), 201)


@api.post("/sheets/pictures", responses={"201": SheetPictures, "413": ProblemDetails})
def add_pictures(form: SheetPictureForm) -> Any:
    """Keep a photograph of a wiring sheet, or the pages of its PDF; a sheet names them under ``pictures``."""
    if not isinstance(form.picture, FileStorage):
        raise invalid("picture", "send a file, not text")
    raw = form.picture.read(MAX_BYTES + 1)
    kept = describing.add_pictures(workspace(), form.client_key, form.picture.filename or "", raw)
    return SheetPictures(pictures=kept).model_dump(mode="json"), 201


@api.get("/sheets/pictures/<uuid:picture_id>")
def show_picture(path: PicturePath, query: PictureQuery) -> Any:
    """A page of a wiring sheet."""
    return picture_response(*describing.picture(workspace(), path.picture_id, query.size == "thumbnail"))


@api.put("/diagnoses/<uuid:diagnosis_id>/circuit", responses={"200": MeasuringView, "409": ProblemDetails})
def move_diagnosis(path: DiagnosisPath, body: MoveIn) -> Any:
    """Let a diagnosis go on with another circuit or version; every reading stays, or nothing is changed."""
    return as_json(describing.move(workspace(), path.diagnosis_id, body.client_key, body.version_id, measuring_json))
