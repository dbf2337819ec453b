"""The estimate of a job, as it stands and as a file, and its acceptance."""

from __future__ import annotations

from typing import Any

from flask import Response
from flask_openapi3 import APIBlueprint, Tag

from sondar.app import estimates
from sondar.app.estimates import Estimate
from sondar.core.estimate import Line, as_csv
from sondar.web.common import JobPath, as_json
from sondar.web.context import workspace
from sondar.web.estimate.models import AcceptanceIn, AcceptedView, EstimateLineView, EstimateQuery, EstimateView
from sondar.web.problems import ProblemDetails

api = APIBlueprint(
    "estimate", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="estimate")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "409": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


@api.get("/jobs/<uuid:job_id>/estimate", responses={"200": EstimateView})
def show_estimate(path: JobPath, query: EstimateQuery) -> Any:
    """The estimate, or its lines as CSV for an invoice program."""
    if query.form == "csv":
        text = estimates.of_job(workspace(), path.job_id, estimate_csv)
        headers = {"Content-Disposition": 'attachment; filename="estimate.csv"'}
        return Response(text, content_type="text/csv; charset=utf-8", headers=headers)
    return as_json(estimates.of_job(workspace(), path.job_id, estimate_json))


@api.post("/jobs/<uuid:job_id>/estimate/acceptance", responses={"201": EstimateView})
def accept_estimate(path: JobPath, body: AcceptanceIn) -> Any:
    """Keep that somebody accepted what the estimate comes to, with name and time."""
    return as_json(estimates.accept(workspace(), path.job_id, body.client_key, body.name, body.gross, estimate_json), 201)


def estimate_csv(found: Estimate) -> str:
    """For an invoice program."""
    head = [("job", str(found.number)), ("plate", found.plate), ("vehicle", found.vehicle)]
    return as_csv(found.lines, found.totals, found.currency, head)


def _line(line: Line) -> EstimateLineView:
    return EstimateLineView(
        what=line.what, kind=line.kind, amount=f"{line.amount:f}", unit_price=f"{line.unit_price:.2f}", price=f"{line.price:.2f}"
    )


def estimate_json(found: Estimate) -> bytes:
    """As it is sent; made in a worker."""
    sums, accepted = found.totals, found.accepted
    view = EstimateView(
        currency=found.currency, lines=[_line(line) for line in found.lines], proposed=[_line(line) for line in found.proposed],
        discount_percent=f"{found.discount_percent.normalize():f}", tax_percent=f"{found.tax_percent.normalize():f}", labour=f"{sums.labour:.2f}",
        parts=f"{sums.parts:.2f}", other=f"{sums.other:.2f}", discount=f"{sums.discount:.2f}", net=f"{sums.net:.2f}", tax=f"{sums.tax:.2f}",
        gross=f"{sums.gross:.2f}",
        accepted=None if accepted is None else AcceptedView(
            name=accepted.name, gross=f"{accepted.gross:.2f}", at=accepted.at, same=accepted.same
        ),
    )  # fmt: skip
    return view.model_dump_json().encode()
