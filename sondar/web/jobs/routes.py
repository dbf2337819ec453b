"""Jobs: check in, find, answer, note, photograph, follow."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from flask import Response
from flask_openapi3 import APIBlueprint, Tag
from werkzeug.datastructures import FileStorage

from sondar.app import jobs
from sondar.app.answer_fields import OF_LEAD
from sondar.app.jobs import CheckIn
from sondar.app.photos import MAX_BYTES
from sondar.app.workspace import known_job
from sondar.circuit_files import terms
from sondar.core.errors import ConflictError, invalid
from sondar.core.terms import search_query
from sondar.store import jobs as store
from sondar.store.intake import Answer
from sondar.web.common import JobPath, JobView, PictureQuery, as_json, job_view, picture_response
from sondar.web.context import signed_in, workspace
from sondar.web.jobs.models import (
    AnswerIn,
    AnswerPath,
    ErasureIn,
    JobDetailView,
    JobIn,
    JobList,
    JobQuery,
    NoteIn,
    PhotoForm,
    PhotoPath,
    Timeline,
)
from sondar.web.jobs.present import answer_view, job_detail_json, timeline_view
from sondar.web.problems import HttpError, ProblemDetails

STREAM_FOR, STREAM_ABOUT = "X-Sondar-Stream-For", "X-Sondar-Stream-About"
"""Headers by which the door learns whose stream it is and what about; they go no further."""

api = APIBlueprint(
    "jobs", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="jobs")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


@lru_cache(maxsize=1)
def _terms() -> list[list[str]]:
    return terms()


@api.get("/jobs", responses={"200": JobList})
def list_jobs(query: JobQuery) -> Any:
    """Jobs, newest first, a page at a time; with ``q`` those that match by plate, code, circuit, part or words."""
    asked = search_query(query.q, _terms())
    with workspace().transaction() as db:
        if asked is None:
            found = store.list_jobs(db, query.before, query.limit, query.stage)
        else:
            found = store.search_jobs(db, (asked, asked), query.before, query.limit, query.stage)
    more = found[-1].number if len(found) == query.limit else None
    return JobList(jobs=[job_view(job) for job in found], next_before=more).model_dump(mode="json")


@api.post("/jobs", responses={"201": JobView, "200": JobView})
def check_in(body: JobIn) -> Any:
    """Check a vehicle in. The same client key again is the same job."""
    vehicle = None if body.vehicle is None else body.vehicle.model_dump()
    wanted = CheckIn(
        body.client_key, body.vehicle_id, vehicle, body.complaint, body.codes, body.temperature_c, body.circuit_version_id
    )
    job, made = jobs.check_in(workspace(), wanted)
    return job_view(job).model_dump(mode="json"), 201 if made else 200


@api.get("/jobs/<uuid:job_id>", responses={"200": JobDetailView})
def show_job(path: JobPath) -> Any:
    """Everything of a job but its readings."""
    return as_json(jobs.show(workspace(), path.job_id, job_detail_json))


@api.put("/jobs/<uuid:job_id>/answers/<string:field>", responses={"200": JobDetailView, "409": ProblemDetails})
def answer(path: AnswerPath, body: AnswerIn) -> Any:
    """Answer a field. If someone answered it after what the writer saw, both answers are shown and nothing is stored."""
    if path.field in OF_LEAD and signed_in().role != "lead":
        raise HttpError(403, "Not allowed", f"Not allowed: '{path.field}' is for a workshop lead to say.")
    try:
        shown = jobs.answer(workspace(), path.job_id, body.client_key, path.field, body.value, body.seen_seq, job_detail_json)
    except ConflictError as error:
        theirs = error.facts.get("current")
        if isinstance(theirs, Answer):
            error.facts["current"] = answer_view(theirs).model_dump(mode="json")
        raise
    return as_json(shown)


@api.post("/jobs/<uuid:job_id>/notes", responses={"201": Timeline})
def add_note(path: JobPath, body: NoteIn) -> Any:
    """Append a note."""
    return timeline_view(jobs.add_note(workspace(), path.job_id, body.client_key, body.body)).model_dump(mode="json"), 201


@api.post("/jobs/<uuid:job_id>/photos", responses={"201": JobDetailView, "413": ProblemDetails})
def add_photo(path: JobPath, form: PhotoForm) -> Any:
    """Append a photograph; where and with what it was taken is stripped from it."""
    if not isinstance(form.picture, FileStorage):
        raise invalid("picture", "send a file, not text")
    raw = form.picture.read(MAX_BYTES + 1)
    return as_json(jobs.add_photo(workspace(), path.job_id, form.client_key, form.caption, raw, job_detail_json), 201)


@api.get("/jobs/<uuid:job_id>/photos/<uuid:photo_id>")
def show_photo(path: PhotoPath, query: PictureQuery) -> Any:
    """The picture itself."""
    return picture_response(*jobs.photo(workspace(), path.job_id, path.photo_id, query.size == "thumbnail"))


@api.post("/jobs/<uuid:job_id>/erasure", responses={"200": JobDetailView})
def erase_personal(path: JobPath, body: ErasureIn) -> Any:
    """Erase plate, VIN and photographs from all jobs of this vehicle, and end their links; readings and conclusions stay."""
    return as_json(jobs.erase_personal(workspace(), path.job_id, body.words, job_detail_json))


@api.get("/jobs/<uuid:job_id>/timeline", responses={"200": Timeline})
def show_timeline(path: JobPath) -> Any:
    """Everything of a job in the order it happened."""
    return timeline_view(jobs.timeline(workspace(), path.job_id)).model_dump(mode="json")


@api.get("/jobs/<uuid:job_id>/events", responses={"204": None})
def events(path: JobPath) -> Any:
    """Server-sent events: ``entry`` for every entry added to the job, ``resync`` when some may have been missed.

    Here only whether this person may listen: the door in front (``sondar.serving``) holds the stream, and answers 200 with it.
    """
    with workspace().transaction() as db:
        known_job(db, path.job_id)
    return Response(status=204, headers={STREAM_FOR: str(signed_in().account_id), STREAM_ABOUT: str(path.job_id)})


@api.get("/events", responses={"204": None})
def all_events() -> Any:
    """Server-sent events as of one job, for every job of the workshop: one stream serves all tabs of a browser."""
    person = signed_in()
    return Response(status=204, headers={STREAM_FOR: str(person.account_id), STREAM_ABOUT: str(person.workshop_id)})
