"""Codes of a job: typed, imported or read from the vehicle; cleared; described. And the triage they lead to."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from flask_openapi3 import APIBlueprint, Tag

from sondar.core.codes import FoundCode, parse_code_file, parse_codes
from sondar.devices import scan_tool
from sondar.store import circuits as circuit_store
from sondar.store import codes as store
from sondar.store import intake as intake_store
from sondar.store import jobs as job_store
from sondar.store import people as people_store
from sondar.store.database import Db
from sondar.web import job_record
from sondar.web.jobs.routes import job_detail, model_of
from sondar.web.jobs.routes.models import (
    ClearIn,
    CodePath,
    DiagnosisIn,
    JobDetail,
    MeaningIn,
    ScanIn,
    TriageAnswer,
    VehicleScanIn,
)
from sondar.web.measure.models import DiagnosisSummary, JobPath, ProblemDetails
from sondar.web.problems import ProblemError, field_problem
from sondar.web.services import services
from sondar.web.views import diagnosis_view, known_job

api = APIBlueprint(
    "codes", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="codes and triage")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


def _run(conditions: list[str]) -> list[str]:
    wrong = [c for c in conditions if c not in job_record.RUN_CONDITIONS]
    if wrong:
        raise field_problem("conditions", f"'{wrong[0]}' is not one of {', '.join(job_record.RUN_CONDITIONS)}")
    return conditions


def _list_codes(db: Db, job_id: UUID) -> None:
    """The codes as the job list and the search show them."""
    scans, clearings = store.scans_of(db, job_id), store.clearings_of(db, job_id)
    file = job_record.code_file(scans, clearings, intake_store.answers_of(db, job_id))
    listed = ", ".join(dict.fromkeys(code.code for code in job_record.standing_codes(file)))
    job_store.set_column(db, job_id, "codes", listed[:200])


@api.post("/jobs/<uuid:job_id>/scans", responses={"201": JobDetail, "200": JobDetail})
def add_scan(path: JobPath, body: ScanIn) -> Any:
    """Keep a list of codes, typed, pasted, or from a CSV or JSON file."""
    codes: list[FoundCode] = []
    if not body.none_stored:
        codes = parse_codes(body.text) if body.source == "typed" else parse_code_file(body.text)
    conditions = _run(body.conditions)
    with services().transaction() as db:
        job = known_job(db, path.job_id)
        model = model_of(db, job)
        if model is not None:  # a module is known from the code where only one can store it
            owner = {code: item.module for code, item in model.circuit.document.codes.items()}
            codes = [c if c.module else FoundCode(c.code, c.failure_type, c.status, owner.get(c.code)) for c in codes]
        added = store.add_scan(db, path.job_id, body.client_key, body.source, codes, {}, conditions)
        _list_codes(db, path.job_id)
    with services().transaction() as db:
        return job_detail(db, path.job_id).model_dump(mode="json"), 201 if added else 200


def _interface(db: Db, job: job_store.Job) -> tuple[str, dict[str, int]]:
    model = model_of(db, job)
    address = services().vehicle_address(job.simulated_vehicle)
    if not address or model is None:
        raise ProblemError(502, "Vehicle not read", "no vehicle interface is connected for this vehicle: type or paste the codes")
    return address, model.vehicle.document.addresses


@api.post("/jobs/<uuid:job_id>/scans/vehicle", responses={"201": JobDetail, "502": ProblemDetails})
def scan_vehicle(path: JobPath, body: VehicleScanIn) -> Any:
    """Read every module of the connected vehicle; those that do not answer are a finding too."""
    conditions = _run(body.conditions)
    with services().transaction() as db:
        address, modules = _interface(db, known_job(db, path.job_id))
    scan = scan_tool.read_codes(address, modules)  # takes seconds: no transaction is open meanwhile
    with services().transaction() as db:
        store.add_scan(db, path.job_id, body.client_key, "vehicle", scan.codes, scan.modules, conditions)
        _list_codes(db, path.job_id)
    with services().transaction() as db:
        return job_detail(db, path.job_id).model_dump(mode="json"), 201


@api.post("/jobs/<uuid:job_id>/clearing", responses={"201": JobDetail, "409": ProblemDetails, "502": ProblemDetails})
def clear(path: JobPath, body: ClearIn) -> Any:
    """Clear the codes through the interface, or keep that it was done by hand. Never without a list from before."""
    with services().transaction() as db:
        job = known_job(db, path.job_id)
        scans = store.scans_of(db, path.job_id)
        if not scans:
            raise ProblemError(409, "No list yet", "Read or type the codes first: the list from before clearing is evidence.")
        interface = _interface(db, job) if body.by == "vehicle" else None
    if interface is not None and not scan_tool.clear_codes(*interface):
        raise ProblemError(
            502, "Codes not cleared", "No module confirmed. Check the key and the vehicle's battery, then try again."
        )
    with services().transaction() as db:
        store.add_clearing(db, path.job_id, body.client_key, scans[-1].id, "vehicle" if body.by == "vehicle" else "typed")
    with services().transaction() as db:
        return job_detail(db, path.job_id).model_dump(mode="json"), 201


@api.put("/jobs/<uuid:job_id>/codes/<string:code>/meaning", responses={"200": JobDetail})
def describe(path: CodePath, body: MeaningIn) -> Any:
    """Describe a manufacturer's code; kept for this make in the whole workshop."""
    with services().transaction() as db:
        job = known_job(db, path.job_id)
        store.add_meaning(db, job.make, path.code, body.title.strip() or "not said", body.about)
    with services().transaction() as db:
        return job_detail(db, path.job_id).model_dump(mode="json")


# -- triage and diagnoses ----------------------------------------------------------------------------------


@api.get("/jobs/<uuid:job_id>/triage", responses={"200": TriageAnswer})
def triage(path: JobPath) -> Any:
    """One cause or several, what to diagnosis first and why, and the check that would split the candidates."""
    with services().transaction() as db:
        job = known_job(db, path.job_id)
        model = model_of(db, job)
        answers = intake_store.answers_of(db, path.job_id)
        file = job_record.code_file(store.scans_of(db, path.job_id), store.clearings_of(db, path.job_id), answers)
        tools = people_store.workshop(db).tools
        versions = {v.slug: v.id for v in circuit_store.newest_circuits(db)}
    if model is None:
        reason = f"The circuits of {job.make} {job.model} are not known here. Choose a circuit, or load its files."
        return TriageAnswer(available=False, reason=reason, triage=None).model_dump(mode="json")
    found = job_record.evidence(model, file, answers)
    if found.is_empty:
        return TriageAnswer(available=False, reason="Read the codes, or say what is noticed.", triage=None).model_dump(mode="json")
    answer = model.triage(found)
    if answer.diagnoses:  # while the answer is read, the bench it points to gets ready
        services().prepare_first(versions[answer.diagnoses[0].open_circuit], job.temperature_c, tools)
    return TriageAnswer(available=True, reason="", triage=answer).model_dump(mode="json")


@api.post("/jobs/<uuid:job_id>/diagnoses", responses={"201": DiagnosisSummary})
def open_diagnosis(path: JobPath, body: DiagnosisIn) -> Any:
    """Open a bench on a circuit, carrying what the triage believes along."""
    with services().transaction() as db:
        job = known_job(db, path.job_id)
        version = circuit_store.circuit_version(db, body.circuit_version_id)
        if version is None:
            raise field_problem("circuit_version_id", "pick a circuit of this vehicle, or load a file")
        triage_prior: dict[str, float] = {}
        model = model_of(db, job)
        if body.carry and model is not None and version.slug in model.vehicle.circuits:
            answers = intake_store.answers_of(db, path.job_id)
            file = job_record.code_file(store.scans_of(db, path.job_id), store.clearings_of(db, path.job_id), answers)
            found = job_record.evidence(model, file, answers)
            if not found.is_empty:
                triage_prior = {k: v for k, v in triage_prior(model, model.posterior(found), version.slug).items() if v > 1e-7}
        diagnosis_id = job_store.open_diagnosis(db, path.job_id, body.client_key, version.id, body.reason, triage_prior)
        made = job_store.diagnosis_by_id(db, diagnosis_id)
    assert made is not None
    return diagnosis_view(made).model_dump(mode="json"), 201
