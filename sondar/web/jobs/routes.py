"""Jobs: take in, find, answer, note, photograph, follow."""

from __future__ import annotations

import io
from functools import lru_cache
from typing import Any
from uuid import UUID, uuid5

from flask import Response
from flask_openapi3 import APIBlueprint, Tag

from sondar.circuit_files import load_vehicle_text, terms
from sondar.core.circuit.network import Circuit
from sondar.core.codes import parse_codes
from sondar.core.terms import question
from sondar.core.triage.model import TriageModel, symptom_menu
from sondar.store import circuits as circuit_store
from sondar.store import codes as code_store
from sondar.store import intake as intake_store
from sondar.store import jobs as store
from sondar.store import people, vehicles
from sondar.store.database import Db
from sondar.web import job_record
from sondar.web.jobs.routes.models import (
    AnswerIn,
    AnswerPath,
    AnswerView,
    CircuitOption,
    EarlierJob,
    JobDetail,
    JobIn,
    JobList,
    JobQuery,
    ModelList,
    ModelText,
    ModelView,
    NoteIn,
    PartOption,
    PhotoForm,
    PhotoPath,
    PhotoQuery,
    PhotoView,
    PlateQuery,
    SymptomOption,
    Timeline,
    TimelineEntryView,
    VehicleList,
    VehiclePath,
    VehicleView,
)
from sondar.web.measure.models import JobPath, JobView, ProblemDetails
from sondar.web.photos import MAX_BYTES, prepare_photo
from sondar.web.problems import ProblemError, field_problem
from sondar.web.services import services
from sondar.web.views import diagnosis_view, job_view, known_job

api = APIBlueprint(
    "jobs", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="jobs")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


@lru_cache(maxsize=1)
def _terms() -> list[list[str]]:
    return terms()


# -- vehicles -------------------------------------------------------------------------------------------


@api.get("/vehicles", responses={"200": VehicleList})
def find_vehicles(query: PlateQuery) -> Any:
    """Vehicles that have been here under this plate."""
    with services().transaction() as db:
        found = vehicles.vehicles_by_plate(db, query.plate)
    return VehicleList(vehicles=[VehicleView.model_validate(v.__dict__) for v in found]).model_dump(mode="json")


@api.get("/vehicles/<uuid:vehicle_id>", responses={"200": VehicleView})
def show_vehicle(path: VehiclePath) -> Any:
    """One vehicle."""
    with services().transaction() as db:
        found = vehicles.vehicle_by_id(db, path.vehicle_id)
    if found is None:
        raise ProblemError(404, "No such vehicle", f"no vehicle {path.vehicle_id}")
    return VehicleView.model_validate(found.__dict__).model_dump(mode="json")


@api.get("/vehicle-models", responses={"200": ModelList})
def list_models() -> Any:
    """Vehicle models whose circuits are known."""
    with services().transaction() as db:
        found = vehicles.newest_models(db)
    return ModelList(models=[ModelView(make=m.make, model=m.model, title=m.title) for m in found]).model_dump(mode="json")


@api.post("/vehicle-models", responses={"201": ModelView})
def load_model(body: ModelText) -> Any:
    """Check a vehicle file against the stored circuits and store it."""
    document = load_vehicle_text(body.text)
    with services().transaction() as db:
        model_id = vehicles.save_model(db, document, body.text)
        if services().triage_model(db, model_id) is None:
            known = {v.slug for v in circuit_store.newest_circuits(db)}
            missing = [slug for slug in document.circuits if slug not in known]
            raise field_problem("text", f"circuits: load these circuit files first: {', '.join(missing)}")
    return ModelView(make=document.vehicle.make, model=document.vehicle.model, title=document.title).model_dump(), 201


# -- list and take in -----------------------------------------------------------------------------------


@api.get("/jobs", responses={"200": JobList})
def list_jobs(query: JobQuery) -> Any:
    """Jobs, newest first, a page at a time; with ``q`` those that match by plate, code, circuit, part or words."""
    asked = question(query.q, _terms())
    with services().transaction() as db:
        if asked is None:
            found = store.list_jobs(db, query.before, query.limit, query.stage)
        else:
            found = store.search_jobs(db, (asked, asked), query.before, query.limit, query.stage)
    more = found[-1].number if len(found) == query.limit else None
    return JobList(jobs=[job_view(job) for job in found], next_before=more).model_dump(mode="json")


@api.post("/jobs", responses={"201": JobView, "200": JobView})
def create_job(body: JobIn) -> Any:
    """Take in a vehicle. The same client key again is the same job."""
    codes = parse_codes(body.codes) if body.codes.strip() else []
    with services().transaction() as db:
        known = store.job_of_key(db, body.client_key)
        if known is not None:
            return job_view(known_job(db, known)).model_dump(mode="json"), 200
        if body.circuit_version_id is not None and circuit_store.circuit_version(db, body.circuit_version_id) is None:
            raise field_problem("circuit_version_id", "pick a circuit of the list or load a file")
        vehicle_id, simulated_vehicle = _vehicle_of(db, body)
        vehicle = vehicles.vehicle_by_id(db, vehicle_id)
        assert vehicle is not None
        model_id = vehicles.model_for(db, vehicle.make, vehicle.model, vehicle.year)
        listed = ", ".join(code.code for code in codes)[:200]
        job = store.NewJob(
            body.client_key, vehicle_id, model_id, body.complaint.strip(), listed, body.temperature_c, simulated_vehicle
        )
        job_id = store.create_job(db, job)
        if codes:
            code_store.add_scan(db, job_id, uuid5(body.client_key, "codes"), "typed", codes, {}, [])
        if body.circuit_version_id is not None:
            store.open_diagnosis(db, job_id, uuid5(body.client_key, "diagnosis"), body.circuit_version_id, "chosen at the door", {})
        made = known_job(db, job_id)
    return job_view(made).model_dump(mode="json"), 201


def _vehicle_of(db: Db, body: JobIn) -> tuple[UUID, str]:
    """The vehicle of a new job, and the vehicle interface that it was last connected through."""
    if body.vehicle_id is not None:
        if vehicles.vehicle_by_id(db, body.vehicle_id) is None:
            raise field_problem("vehicle_id", "no such vehicle: look it up by its plate")
        earlier = store.jobs_of_vehicle(db, body.vehicle_id)
        return body.vehicle_id, earlier[0].simulated_vehicle if earlier else ""
    if body.vehicle is None:
        raise field_problem("vehicle", "say which vehicle: its make at least")
    values = body.vehicle.model_dump()
    for name, text in values.items():
        if isinstance(text, str):
            values[name] = job_record.checked(name, text)
    return vehicles.create_vehicle(db, vehicles.NewVehicle(**values)), ""


@api.get("/jobs/<uuid:job_id>", responses={"200": JobDetail})
def show_job(path: JobPath) -> Any:
    """Everything of a job but its benches."""
    with services().transaction() as db:
        shown = job_detail(db, path.job_id)
        tools = people.workshop(db).tools
    for diagnosis in shown.diagnoses[-1:]:
        if not diagnosis.readings:  # a bench that was begun is prepared from where it stands, when it is opened
            services().prepare_first(diagnosis.circuit_version_id, shown.job.temperature_c, tools)
    return shown.model_dump(mode="json")


def model_of(db: Db, job: store.Job) -> TriageModel | None:
    """The circuits of the job's vehicle, joined; None if they are not known."""
    return None if job.vehicle_model_id is None else services().triage_model(db, job.vehicle_model_id)


def job_detail(db: Db, job_id: UUID) -> JobDetail:
    """The job as its page shows it."""
    job = known_job(db, job_id)
    answers = intake_store.answers_of(db, job_id)
    scans, clearings = code_store.scans_of(db, job_id), code_store.clearings_of(db, job_id)
    file = job_record.code_file(scans, clearings, answers)
    model = model_of(db, job)
    versions = {v.slug: v for v in circuit_store.newest_circuits(db)}
    circuits: dict[str, Circuit] = {}
    if model is not None:
        circuits = {slug: services().circuit(versions[slug]) for slug in model.vehicle.circuits}
    meanings = code_store.meanings(db, job.make, [c.code for s in scans for c in s.codes])
    after = {scan.id: seconds for scan, seconds in file.since}
    earlier = [j for j in store.jobs_of_vehicle(db, job.vehicle_id) if j.id != job_id]
    mileage_before = max((m for j in earlier if j.number < job.number and (m := _mileage_at(db, j.id)) is not None), default=None)
    return JobDetail(
        job=job_view(job),
        answers={k: AnswerView(value=a.value, seq=a.seq, by=a.by, at=a.created_at) for k, a in answers.items()},
        diagnoses=[diagnosis_view(c) for c in store.diagnoses_of(db, job_id)],
        scans=[job_record.scan_view(s, after.get(s.id), circuits, meanings) for s in scans],
        cleared_at=file.clearing.created_at if file.clearing else None,
        codes=[
            job_record.code_view(c, circuits, meanings, file.classified.get((c.module or "", c.code)))
            for c in job_record.standing_codes(file)
        ],
        photos=[PhotoView(**{**p.__dict__, "at": p.created_at}) for p in intake_store.photos_of(db, job_id)],
        warnings=job_record.warnings(answers, job.vin, job_record.value_of(answers, "mileage_km", job.mileage_km), mileage_before,
                                   people.workshop(db).distance_unit),
        earlier=[EarlierJob(id=j.id, number=j.number, complaint=j.complaint, conclusion=j.conclusion, at=j.created_at) for j in earlier],
        known_vehicle=model is not None,
        interface=bool(services().vehicle_address(job.simulated_vehicle)) and model is not None,
        circuits=[
            CircuitOption(slug=slug, version_id=versions[slug].id, title=circuit.document.title, complaint=circuit.document.complaint,
                          codes=list(circuit.document.codes))
            for slug, circuit in circuits.items()
        ],
        symptoms=[] if model is None else [
            SymptomOption(key=key, title=title, circuits=found) for key, (title, found) in symptom_menu(model.vehicle).items()
        ],
        parts=[] if model is None else [
            PartOption(id=key, title=part.name(key)) for key, part in sorted(model.circuit.document.parts.items(), key=lambda i: i[1].title)
            if part.module is None
        ],
    )  # fmt: skip


def _mileage_at(db: Db, job_id: UUID) -> int | None:
    answer = intake_store.answers_of(db, job_id).get("mileage_km")
    return None if answer is None or answer.value is None else int(answer.value)


# -- answers, notes, photographs ------------------------------------------------------------------------


@api.put("/jobs/<uuid:job_id>/answers/<string:field>", responses={"200": JobDetail, "409": ProblemDetails})
def answer(path: AnswerPath, body: AnswerIn) -> Any:
    """Answer a field. If someone answered it after what the writer saw, both answers are shown and nothing is stored."""
    value = job_record.checked(path.field, body.value)
    with services().transaction() as db:
        job = known_job(db, path.job_id)
        conflict = intake_store.give_answer(db, path.job_id, body.client_key, path.field, value, body.seen_seq)
        if conflict is not None:
            standing = AnswerView(value=conflict.value, seq=conflict.seq, by=conflict.by, at=conflict.created_at)
            raise ProblemError(
                409, "Answered by someone else",
                f"{conflict.by or 'Someone'} answered this meanwhile. Yours is not stored: keep theirs, or send yours again.",
                standing=standing.model_dump(mode="json"),
            )  # fmt: skip
        _mirror(db, job, path.field, value)
    with services().transaction() as db:
        return job_detail(db, path.job_id).model_dump(mode="json")


def _mirror(db: Db, job: store.Job, field: str, value: Any) -> None:
    """The answer as the current value where lists and search look for it."""
    if field in job_record.OF_JOB:
        store.set_column(db, job.id, field, value if value is not None else 20.0)
    if field in job_record.OF_VEHICLE:
        vehicles.change_vehicle(db, job.vehicle_id, field, value)
    if field in ("make", "model", "year"):
        vehicle = vehicles.vehicle_by_id(db, job.vehicle_id)
        assert vehicle is not None
        store.set_model(db, job.id, vehicles.model_for(db, vehicle.make, vehicle.model, vehicle.year))


@api.post("/jobs/<uuid:job_id>/notes", responses={"201": Timeline})
def add_note(path: JobPath, body: NoteIn) -> Any:
    """Append a note."""
    with services().transaction() as db:
        known_job(db, path.job_id)
        intake_store.add_note(db, path.job_id, body.client_key, body.body)
        return _timeline(db, path.job_id), 201


@api.post("/jobs/<uuid:job_id>/photos", responses={"201": JobDetail, "413": ProblemDetails})
def add_photo(path: JobPath, form: PhotoForm) -> Any:
    """Append a photograph; where and with what it was taken is stripped from it."""
    raw = form.picture.read(MAX_BYTES + 1)
    prepared = prepare_photo(raw)
    with services().transaction() as db:
        known_job(db, path.job_id)
        intake_store.add_photo(db, path.job_id, form.client_key, {**prepared, "caption": form.caption})
    with services().transaction() as db:
        return job_detail(db, path.job_id).model_dump(mode="json"), 201


@api.get("/jobs/<uuid:job_id>/photos/<uuid:photo_id>")
def show_photo(path: PhotoPath, query: PhotoQuery) -> Any:
    """The picture itself."""
    with services().transaction() as db:
        known_job(db, path.job_id)
        if path.photo_id not in {p.id for p in intake_store.photos_of(db, path.job_id)}:
            raise ProblemError(404, "No such photograph", f"job has no photograph {path.photo_id}")
        found = intake_store.picture(db, path.photo_id, query.size == "thumbnail")
    assert found is not None
    return Response(io.BytesIO(found[0]), content_type=found[1], headers={"Cache-Control": "private, max-age=31536000, immutable"})


# -- timeline, events -----------------------------------------------------------------------------------


def _timeline(db: Db, job_id: UUID) -> dict[str, Any]:
    found = [TimelineEntryView.model_validate(e.__dict__) for e in intake_store.timeline(db, job_id)]
    return Timeline(entries=found).model_dump(mode="json")


@api.get("/jobs/<uuid:job_id>/timeline", responses={"200": Timeline})
def show_timeline(path: JobPath) -> Any:
    """Everything of a job in the order it happened."""
    with services().transaction() as db:
        known_job(db, path.job_id)
        return _timeline(db, path.job_id)


@api.get("/jobs/<uuid:job_id>/events")
def events(path: JobPath) -> Any:
    """Server-sent events: ``entry`` for every entry added to the job, ``resync`` when some may have been missed."""
    with services().transaction() as db:
        known_job(db, path.job_id)
    stream = services().events.stream(path.job_id)
    return Response(stream, content_type="text/event-stream", headers={"Cache-Control": "no-store", "X-Accel-Buffering": "no"})
