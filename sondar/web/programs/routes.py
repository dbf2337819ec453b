"""Tokens of outside programs: made and ended by a workshop lead."""

from __future__ import annotations

import secrets
from typing import Any

from flask import request
from flask_openapi3 import APIBlueprint, Tag

from sondar.core.errors import NotFoundError
from sondar.store import people
from sondar.store import programs as store
from sondar.store.database import Db
from sondar.web.auth import PROGRAM_TOKEN
from sondar.web.context import workspace
from sondar.web.problems import ProblemDetails
from sondar.web.programs.models import NewProgram, ProgramIn, ProgramList, ProgramPath, ProgramView

api = APIBlueprint(
    "programs", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="programs")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


def _listed(db: Db) -> list[ProgramView]:
    return [ProgramView.model_validate(program.__dict__) for program in store.programs(db)]


@api.get("/programs", responses={"200": ProgramList})
def list_programs() -> Any:
    """Every outside program with a token."""
    with workspace().transaction() as db:
        return ProgramList(programs=_listed(db)).model_dump(mode="json")


@api.post("/programs", responses={"201": NewProgram})
def add_program(body: ProgramIn) -> Any:
    """A token for an outside program, to be sent as ``Authorization: Bearer …``; it is shown once."""
    token = PROGRAM_TOKEN + secrets.token_urlsafe(32)
    with workspace().transaction() as db:
        store.add_program(db, body.name, body.role, token, body.days)
        people.record(db, "program added", f"{body.name} ({body.role}, {body.days} days)", request.remote_addr or "")
        return NewProgram(programs=_listed(db), token=token).model_dump(mode="json"), 201


@api.delete("/programs/<uuid:program_id>", responses={"200": ProgramList})
def end_program(path: ProgramPath) -> Any:
    """Make a program's token open nothing; what it has entered stays."""
    with workspace().transaction() as db:
        if not store.end_program(db, path.program_id):
            raise NotFoundError("No such program", f"no program {path.program_id} whose token still opens anything")
        people.record(db, "program ended", str(path.program_id), request.remote_addr or "")
        return ProgramList(programs=_listed(db)).model_dump(mode="json")
