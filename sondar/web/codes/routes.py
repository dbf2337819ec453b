"""Codes of a job: typed, imported or read from the vehicle; cleared; described. And the triage they lead to."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.app import codes, module_contact
from sondar.app.codes import WantedList
from sondar.web.codes.models import (
    ClearIn,
    CodeFileIn,
    CodeFileView,
    CodePath,
    DiagnosisIn,
    MeaningIn,
    ModulesView,
    PartFirstView,
    ScanIn,
    TriageAnswer,
    VehicleScanIn,
)
from sondar.web.codes.present import code_file_view, modules_json
from sondar.web.common import DiagnosisSummary, JobPath, as_json, diagnosis_view
from sondar.web.context import workspace
from sondar.web.jobs.models import JobDetailView
from sondar.web.jobs.present import job_detail_json
from sondar.web.problems import ProblemDetails

api = APIBlueprint(
    "codes", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="codes and triage")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


@api.post("/jobs/<uuid:job_id>/scans", responses={"201": JobDetailView, "200": JobDetailView})
def add_scan(path: JobPath, body: ScanIn) -> Any:
    """Keep a list of codes, typed, pasted, or from a CSV or JSON file."""
    wanted = WantedList(body.client_key, body.source, body.text, body.rows, body.conditions, body.none_stored)
    shown, added = codes.keep_list(workspace(), path.job_id, wanted, job_detail_json)
    return as_json(shown, 201 if added else 200)


@api.post("/jobs/<uuid:job_id>/scans/preview", responses={"200": CodeFileView})
def preview_file(path: JobPath, body: CodeFileIn) -> Any:
    """What a file of codes seems to say, line by line, with what was not understood; nothing is kept."""
    return code_file_view(codes.preview(workspace(), path.job_id, body.text)).model_dump(mode="json")


@api.post("/jobs/<uuid:job_id>/scans/vehicle", responses={"201": JobDetailView, "502": ProblemDetails})
def scan_vehicle(path: JobPath, body: VehicleScanIn) -> Any:
    """Read every module of the connected vehicle; those that do not respond are a finding too."""
    return as_json(codes.read_vehicle(workspace(), path.job_id, body.client_key, body.conditions, job_detail_json), 201)


@api.post("/jobs/<uuid:job_id>/clearing", responses={"201": JobDetailView, "409": ProblemDetails, "502": ProblemDetails})
def clear(path: JobPath, body: ClearIn) -> Any:
    """Clear the codes through the interface, or keep that it was done by hand. Never without a list from before."""
    return as_json(codes.clear(workspace(), path.job_id, body.client_key, body.by == "vehicle", job_detail_json), 201)


@api.put("/jobs/<uuid:job_id>/codes/<string:code>/meaning", responses={"200": JobDetailView})
def describe(path: CodePath, body: MeaningIn) -> Any:
    """Describe a manufacturer's code; kept for this make in the whole workshop."""
    return as_json(codes.describe(workspace(), path.job_id, path.code, body.title, body.about, job_detail_json))


@api.get("/jobs/<uuid:job_id>/triage", responses={"200": TriageAnswer})
def triage(path: JobPath) -> Any:
    """One cause or several, which circuit to test first and why, and the check that would split the candidates."""
    found = codes.triage_of(workspace(), path.job_id)
    parts = [
        PartFirstView(part=one.part, template=one.template, code=one.code, codes=list(one.codes), reason=one.reason)
        for one in found.parts
    ]
    return TriageAnswer(available=found.view is not None, reason=found.reason, triage=found.view, parts=parts).model_dump(
        mode="json"
    )


@api.post("/jobs/<uuid:job_id>/diagnoses", responses={"201": DiagnosisSummary})
def open_diagnosis(path: JobPath, body: DiagnosisIn) -> Any:
    """Begin to test a circuit, with what the triage believes as its prior."""
    made = codes.open_diagnosis(workspace(), path.job_id, body.client_key, body.circuit_version_id, body.reason, body.carry)
    return diagnosis_view(made).model_dump(mode="json"), 201


@api.get("/jobs/<uuid:job_id>/modules", responses={"200": ModulesView})
def show_modules(path: JobPath) -> Any:
    """Who hears whom, by the last reading of the codes; what follows for modules that are silent or missed, and what to measure."""
    return as_json(module_contact.of_job(workspace(), path.job_id, modules_json))
