"""Jobs: list, take in, show."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.store import circuits as circuit_store
from sondar.store import jobs as store
from sondar.web.models import JobIn, JobList, JobPath, JobQuery, JobView, ProblemDetails
from sondar.web.problems import ProblemError
from sondar.web.services import services

api = APIBlueprint("jobs", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="jobs")], abp_responses={"422": ProblemDetails})


def job_view(job: store.Job) -> JobView:
    """A stored job for the outside."""
    return JobView.model_validate({**job.__dict__, "stage": job.stage})


@api.get("/jobs", responses={"200": JobList})
def list_jobs(query: JobQuery) -> Any:
    """Jobs, newest first, a page at a time."""
    with services().transaction() as db:
        found = store.list_jobs(db, query.before, query.limit)
    more = found[-1].number if len(found) == query.limit else None
    return JobList(jobs=[job_view(job) for job in found], next_before=more).model_dump(mode="json")


@api.post("/jobs", responses={"201": JobView})
def create_job(body: JobIn) -> Any:
    """Take in a vehicle and its complaint, and pick the circuit to chase."""
    with services().transaction() as db:
        if circuit_store.circuit_version(db, body.circuit_version_id) is None:
            raise ProblemError(422, "No such circuit", "circuit_version_id names no stored circuit", [
                {"field": "circuit_version_id", "message": "pick a circuit of the list or load a file", "line": None}])  # fmt: skip
        vehicle = store.NewVehicle(**body.vehicle.model_dump())
        job = store.NewJob(
            body.client_key, body.circuit_version_id, body.complaint.strip() or "not said", body.codes, body.temperature_c
        )
        job_id = store.create_job(db, vehicle, job)
        made = store.job_by_id(db, job_id)
    assert made is not None
    return job_view(made).model_dump(mode="json"), 201


@api.get("/jobs/<uuid:job_id>", responses={"200": JobView, "404": ProblemDetails})
def show_job(path: JobPath) -> Any:
    """One job."""
    with services().transaction() as db:
        found = store.job_by_id(db, path.job_id)
    if found is None:
        raise ProblemError(404, "No such job", f"no job {path.job_id}")
    return job_view(found).model_dump(mode="json")
