"""Requests and responses about manufacturers' diagnostic procedures."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from pydantic import BaseModel, Field

from sondar.web.common import DiagnosisPath, Strict


class ProcedureText(Strict):
    """A procedure as text."""

    text: str = Field(max_length=200_000)


class ProcedurePath(DiagnosisPath):
    """Path of a procedure in a circuit diagnosis."""

    procedure_id: UUID


class ProcedureSummary(BaseModel):
    """A procedure in a list."""

    id: UUID
    title: str
    created_at: datetime


class ProcedureList(BaseModel):
    """Procedures entered for a circuit."""

    procedures: list[ProcedureSummary]
