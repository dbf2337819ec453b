"""Testing one circuit: what stands, readings, exclusions, previews, the meter, the conclusion."""

from __future__ import annotations

import json
from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.app import measuring, repairs
from sondar.app.judging import WantedTest
from sondar.app.measuring import WantedReading
from sondar.core.errors import invalid
from sondar.core.present.assessment import ProposalView
from sondar.core.present.foresight import Foreseen
from sondar.core.present.overlays import ExpectedOverlay, WaveformView
from sondar.web.common import DiagnosisPath, TestIn, as_json
from sondar.web.context import workspace
from sondar.web.measure.models import (
    ConclusionIn,
    ExclusionIn,
    MeasuringView,
    MeterReading,
    OverlayQuery,
    ReadingIn,
    ReadingPath,
    RepairIn,
    RepairPlan,
    RepairPlanQuery,
    RepairStepView,
    VoidIn,
)
from sondar.web.measure.present import measuring_json
from sondar.web.problems import ProblemDetails

api = APIBlueprint(
    "measure", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="measuring")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


def _wanted(body: TestIn) -> WantedTest:
    return WantedTest(body.instrument, body.red, body.black, body.setup.controls, body.setup.unplugged)


@api.get("/diagnoses/<uuid:diagnosis_id>", responses={"200": MeasuringView})
def show(path: DiagnosisPath) -> Any:
    """Assessment, readings and next test."""
    return as_json(measuring.show(workspace(), path.diagnosis_id, measuring_json))


@api.post("/diagnoses/<uuid:diagnosis_id>/readings", responses={"201": MeasuringView, "200": MeasuringView, "409": ProblemDetails})
def add_reading(path: DiagnosisPath, body: ReadingIn) -> Any:
    """Append a reading; answer with what stands after it. The same client key again changes nothing."""
    wanted = WantedReading(
        body.client_key, _wanted(body), body.entry, body.source, body.note, body.meter_id, body.sure, body.supersedes
    )
    shown, added = measuring.record(workspace(), path.diagnosis_id, wanted, measuring_json)
    return as_json(shown, 201 if added else 200)


@api.post("/diagnoses/<uuid:diagnosis_id>/readings/<uuid:reading_id>/void", responses={"200": MeasuringView})
def void(path: ReadingPath, body: VoidIn) -> Any:
    """Void a reading, with the reason; it stays in the record and no longer counts."""
    return as_json(measuring.void(workspace(), path.diagnosis_id, path.reading_id, body.client_key, body.reason, measuring_json))


@api.post("/diagnoses/<uuid:diagnosis_id>/repairs", responses={"201": MeasuringView})
def repair(path: DiagnosisPath, body: RepairIn) -> Any:
    """Record a repair; what was measured so far then speaks about the vehicle before it."""
    shown = repairs.repair(
        workspace(), path.diagnosis_id, body.client_key, body.units, body.action, measuring_json, substituted=body.substituted
    )
    return as_json(shown, 201)


@api.get("/diagnoses/<uuid:diagnosis_id>/repair-plan", responses={"200": RepairPlan})
def plan_repair(path: DiagnosisPath, query: RepairPlanQuery) -> Any:
    """What repairing some units consists of: before, the repair, after."""
    units = [unit for unit in query.units.split(",") if unit]
    found = repairs.planned(workspace(), path.diagnosis_id, units)
    return RepairPlan(steps=[RepairStepView(**vars(step)) for step in found]).model_dump(mode="json")


@api.post("/diagnoses/<uuid:diagnosis_id>/exclusions", responses={"200": MeasuringView})
def exclude(path: DiagnosisPath, body: ExclusionIn) -> Any:
    """Exclude a point, a place or an instrument (cannot be reached, not at hand), or include it again; or say what is seized."""
    force = measuring.Force(body.minutes or 0.0, body.price or 0.0) if body.kind == "seized" and body.excluded else None
    return as_json(
        measuring.exclude(
            workspace(), path.diagnosis_id, body.client_key, body.kind, body.name, body.excluded, force, measuring_json
        )
    )


@api.post("/diagnoses/<uuid:diagnosis_id>/preview", responses={"200": ProposalView})
def preview(path: DiagnosisPath, body: TestIn) -> Any:
    """Cost and expected saving of a test of the technician's own choice: expected value, minutes, outcomes."""
    return measuring.preview(workspace(), path.diagnosis_id, _wanted(body)).model_dump(mode="json")


@api.get("/diagnoses/<uuid:diagnosis_id>/foreseen", responses={"200": Foreseen})
def foreseen(path: DiagnosisPath) -> Any:
    """What would follow the likeliest results of the next two readings; a screen goes on by it while the server cannot be reached."""
    return as_json(measuring.foreseen(workspace(), path.diagnosis_id))


@api.post("/diagnoses/<uuid:diagnosis_id>/waveform", responses={"200": WaveformView})
def waveform(path: DiagnosisPath, body: TestIn) -> Any:
    """What an oscilloscope would draw at the test's points, healthy and for the leading suspect."""
    return measuring.waveform(workspace(), path.diagnosis_id, _wanted(body)).model_dump(mode="json")


@api.get("/diagnoses/<uuid:diagnosis_id>/expected-values", responses={"200": ExpectedOverlay})
def expected_values(path: DiagnosisPath, query: OverlayQuery) -> Any:
    """Predicted voltages of every reachable point, healthy or under the most likely fault of one unit."""
    try:
        controls = json.loads(query.controls)
    except (ValueError, RecursionError) as error:
        raise invalid("controls", 'not JSON: give an object such as {"key": "on"}') from error
    if not isinstance(controls, dict) or not all(isinstance(v, str) for v in controls.values()):
        raise invalid("controls", 'give an object of controls and positions, such as {"key": "on"}')
    unplugged = [name for name in query.unplugged.split(",") if name]
    return measuring.overlay(workspace(), path.diagnosis_id, query.unit, controls, unplugged).model_dump(mode="json")


@api.post("/diagnoses/<uuid:diagnosis_id>/meter", responses={"200": MeterReading, "502": ProblemDetails})
def meter(path: DiagnosisPath, body: TestIn) -> Any:
    """What the connected meter shows with its probes where the test puts them; nothing is recorded."""
    entry = measuring.read_connected_meter(workspace(), path.diagnosis_id, _wanted(body))
    return MeterReading(entry=entry).model_dump(mode="json")


@api.post("/diagnoses/<uuid:diagnosis_id>/conclusion", responses={"201": MeasuringView, "409": ProblemDetails})
def conclude(path: DiagnosisPath, body: ConclusionIn) -> Any:
    """Conclude as it stands now, and keep the diagnosis with its certainty."""
    return as_json(measuring.conclude(workspace(), path.diagnosis_id, body.client_key, body.seen_seq, measuring_json), 201)
