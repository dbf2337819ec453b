"""Requests and responses about outside programs."""

from __future__ import annotations

from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import BaseModel, Field

from sondar.web.common import Strict


class ProgramPath(BaseModel):
    """Path of a program."""

    program_id: UUID


class ProgramIn(Strict):
    """A new program."""

    name: str = Field(min_length=1, max_length=80, description="What it enters stands under this name.")
    role: Literal["read-only", "technician"] = Field(description="What its token may do.")
    days: int = Field(365, ge=1, le=1100, description="How long the token lasts.")


class ProgramView(BaseModel):
    """A program and its token."""

    id: UUID
    name: str
    role: Literal["read-only", "technician"]
    created_at: datetime
    seen_at: datetime | None
    expires_at: datetime | None
    active: bool


class ProgramList(BaseModel):
    """Every program of the workshop."""

    programs: list[ProgramView]


class NewProgram(ProgramList):
    """The same with the token of the new one, which is shown once and not kept."""

    token: str
