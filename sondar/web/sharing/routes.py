"""Share links: a job read-only for a customer or a colleague, until a date, revocable."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.app import sharing
from sondar.store.people import Share
from sondar.web.common import JobPath, as_json
from sondar.web.context import workspace
from sondar.web.problems import ProblemDetails
from sondar.web.sharing.models import SharedJobView, ShareIn, ShareList, SharePath, ShareView, TokenPath
from sondar.web.sharing.present import shared_json

api = APIBlueprint(
    "sharing", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="sharing")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


def _list(found: list[Share], token: str | None = None) -> dict[str, Any]:
    views = [
        ShareView(
            id=s.id, created_at=s.created_at, expires_at=s.expires_at, revoked=s.revoked_at is not None, opened=s.opened, by=s.by
        )
        for s in found
    ]
    return ShareList(shares=views, token=token).model_dump(mode="json")


@api.get("/jobs/<uuid:job_id>/shares", responses={"200": ShareList})
def list_shares(path: JobPath) -> Any:
    """Links of a job; their secrets are not kept and cannot be shown again."""
    return _list(sharing.list_links(workspace(), path.job_id))


@api.post("/jobs/<uuid:job_id>/shares", responses={"201": ShareList})
def add_share(path: JobPath, body: ShareIn) -> Any:
    """A link that shows this job as it is now, until it expires."""
    return _list(*sharing.add_link(workspace(), path.job_id, body.days, body.personal, shared_json)), 201


@api.delete("/jobs/<uuid:job_id>/shares/<uuid:share_id>", responses={"200": ShareList})
def revoke_share(path: SharePath) -> Any:
    """Make a link open nothing from now on."""
    return _list(sharing.revoke_link(workspace(), path.job_id, path.share_id))


@api.get("/shared/<string:token>", responses={"200": SharedJobView})
def show_shared(path: TokenPath) -> Any:
    """What a link opens: complaint, codes, readings and diagnoses. No names, no notes, no photographs."""
    return as_json(sharing.open_link(workspace(), path.token, shared_json))
