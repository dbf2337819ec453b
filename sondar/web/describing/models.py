"""Requests and responses about describing circuits."""

from __future__ import annotations

from typing import Literal
from uuid import UUID

from flask_openapi3 import FileStorage
from pydantic import BaseModel, Field

from sondar.core.describing.sheet import Sheet
from sondar.web.circuits.models import CircuitDetail
from sondar.web.common import Strict
from sondar.web.problems import FieldProblemModel


class SheetIn(Strict):
    """A wiring sheet as it is typed."""

    sheet: Sheet


class HealthyRow(BaseModel):
    """What a healthy vehicle shows at one cavity, in each of the set-ups of the table."""

    cavity: str
    carries: str
    shows: list[str]


class OpenRow(BaseModel):
    """Something the sheet does not say, and what knowing it is good for."""

    what: str
    why: str


class SheetPreview(BaseModel):
    """What follows from a sheet."""

    problems: list[FieldProblemModel] = Field(description="What must be put right before it is a circuit.")
    circuit: CircuitDetail | None = Field(description="The circuit as it would be kept; left out while there are problems.")
    setups: list[str] = Field(description="Set-ups of the healthy readings.")
    healthy: list[HealthyRow]
    open: list[OpenRow]


class TableIn(Strict):
    """A pin table."""

    text: str = Field(max_length=300_000)
    form: Literal["csv", "wireviz"]
    fields: list[str] = Field(
        default_factory=list, max_length=60, description="What each column is, where its heading does not say it."
    )


class PinRowView(BaseModel):
    """One cavity of a pin table."""

    connector: str
    cavity: str
    wire: str
    colour: str
    mm2: float | None
    end: str


class ColumnView(BaseModel):
    """A column of a table: its heading, and what it is taken for."""

    heading: str
    field: str


class NoteView(BaseModel):
    """Something in a table that was not used or is doubtful."""

    line: int
    text: str


class TableView(BaseModel):
    """A pin table as it was understood."""

    form: str
    connectors: list[str] = Field(description="Those with the most cavities first.")
    columns: list[ColumnView]
    rows: list[PinRowView]
    notes: list[NoteView]


class MoveIn(Strict):
    """A circuit that a diagnosis goes on with."""

    client_key: UUID
    version_id: UUID


class SheetPictureForm(BaseModel):
    """A photograph of a wiring sheet, or its PDF."""

    client_key: UUID
    picture: FileStorage


class SheetPictures(BaseModel):
    """Pages that were kept, in their order."""

    pictures: list[UUID]


class PicturePath(BaseModel):
    """Path of a page of a wiring sheet."""

    picture_id: UUID
