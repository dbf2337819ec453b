"""Filling in the circuit of a diagnosis while it is measured; the diagnosis goes on with the new version, and every reading stays."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.app import editing
from sondar.circuit_edits.filling import Fill
from sondar.circuit_edits.inserting import Insertion
from sondar.circuit_edits.limits import NewLimit
from sondar.web.common import DiagnosisPath, as_json
from sondar.web.context import workspace
from sondar.web.editing.models import FillsIn, InsertionIn, KeyQuery, KnownList, KnownView, LimitPath, LimitSet
from sondar.web.measure.models import MeasuringView
from sondar.web.measure.present import measuring_json
from sondar.web.problems import ProblemDetails

api = APIBlueprint(
    "editing", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="filling in circuits")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


@api.get("/diagnoses/<uuid:diagnosis_id>/known", responses={"200": KnownList})
def show_known(path: DiagnosisPath) -> Any:
    """What is known of the circuit, and what could be filled in: figures, names, places, colours."""
    found = editing.known(workspace(), path.diagnosis_id)
    return KnownList(known=[KnownView(**asdict(one)) for one in found]).model_dump(mode="json")


@api.put("/diagnoses/<uuid:diagnosis_id>/known", responses={"200": MeasuringView})
def fill_in(path: DiagnosisPath, body: FillsIn) -> Any:
    """Fill in figures, names, places, colours, numbers of pins."""
    fills = [Fill(one.kind, one.id, one.field, one.value) for one in body.changes]
    return as_json(editing.fill_in(workspace(), path.diagnosis_id, body.client_key, fills, measuring_json))


@api.put("/diagnoses/<uuid:diagnosis_id>/limits", responses={"200": MeasuringView})
def set_limit(path: DiagnosisPath, body: LimitSet) -> Any:
    """Add a limit of one's own for a test, or change one."""
    one = body.limit
    wanted = NewLimit(
        one.title.strip(), one.test.instrument, one.test.red, one.test.black, one.source, one.id, one.least, one.most, one.word,
        one.typical, one.copper_at_c, one.note, one.test.setup.controls, tuple(one.test.setup.unplugged),
    )  # fmt: skip
    return as_json(editing.set_limit(workspace(), path.diagnosis_id, body.client_key, wanted, measuring_json))


@api.delete("/diagnoses/<uuid:diagnosis_id>/limits/<string:limit_id>", responses={"200": MeasuringView})
def drop_limit(path: LimitPath, query: KeyQuery) -> Any:
    """Take a limit out of the circuit; the version before keeps it."""
    return as_json(editing.drop_limit(workspace(), path.diagnosis_id, query.client_key, path.limit_id, measuring_json))


@api.post("/diagnoses/<uuid:diagnosis_id>/insertions", responses={"201": MeasuringView})
def insert(path: DiagnosisPath, body: InsertionIn) -> Any:
    """Put a connector, a fuse or a joint that the drawing does not have into one of its wires."""
    wanted = Insertion(body.wire, body.what, body.name.strip(), body.title.strip(), body.place.strip(), body.cavity, body.rating_a)
    return as_json(editing.insert(workspace(), path.diagnosis_id, body.client_key, wanted, measuring_json), 201)
