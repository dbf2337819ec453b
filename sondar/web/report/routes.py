"""Reports of a job, the day of its follow-up, and the jobs that are due."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from flask import Response, request
from flask_openapi3 import APIBlueprint, Tag

from sondar.app import reporting
from sondar.app.reporting import Report
from sondar.core.errors import NotFoundError
from sondar.store import jobs as store
from sondar.web.common import JobPath, job_view
from sondar.web.context import workspace
from sondar.web.problems import ProblemDetails
from sondar.web.report.models import FollowUp, FollowUpQuery, FollowUps, ReportQuery
from sondar.web.report.present import VIEWS, calendar

api = APIBlueprint(
    "report", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="reports and follow-up")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


@api.get("/jobs/<uuid:job_id>/report")
def show_report(path: JobPath, query: ReportQuery) -> Any:
    """The report of a job: for its customer or for a colleague, as PDF or as a page."""
    made = reporting.of_job(workspace(), path.job_id, VIEWS[query.reader, query.form])
    if query.form == "html":
        return Response(made, content_type="text/html; charset=utf-8")
    name = f"job-report-{query.reader}.pdf"
    return Response(made, content_type="application/pdf", headers={"Content-Disposition": f'inline; filename="{name}"'})


@api.get("/jobs/<uuid:job_id>/follow-up")
def show_calendar(path: JobPath) -> Any:
    """The day on which the repair is to be asked after, as an iCalendar file; 404 if no day was agreed."""
    made = reporting.of_job(workspace(), path.job_id, _itself)
    if made.follow_up is None:
        raise NotFoundError("No follow-up", "no day was agreed on for this job")
    headers = {"Content-Disposition": f'attachment; filename="job-{made.number}.ics"'}
    return Response(calendar(made, request.host), content_type="text/calendar; charset=utf-8", headers=headers)


def _itself(found: Report) -> Report:
    return found


@api.get("/follow-ups", responses={"200": FollowUps})
def list_follow_ups(query: FollowUpQuery) -> Any:
    """Jobs whose repair is to be asked after, and of which nobody has said yet how it went."""
    until = query.until or datetime.now(UTC).date()
    with workspace().transaction() as db:
        found = store.to_follow_up(db, until)
    return FollowUps(jobs=[FollowUp(due=day, job=job_view(job)) for day, job in found]).model_dump(mode="json")
