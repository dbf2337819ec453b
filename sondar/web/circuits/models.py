"""Requests and responses about circuits."""

from __future__ import annotations

from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import BaseModel, Field

from sondar.core.circuit.drawing import Drawing
from sondar.core.describing.sheet import Sheet
from sondar.core.limits.card import LimitView
from sondar.core.present.tests import InstrumentView
from sondar.web.common import Strict
from sondar.web.problems import FieldProblemModel


class CircuitPath(BaseModel):
    """Path of a circuit version."""

    version_id: UUID


class CircuitText(Strict):
    """A circuit file."""

    text: str = Field(max_length=600_000)


class CircuitSummary(BaseModel):
    """A circuit version in a list."""

    version_id: UUID
    slug: str
    version: int
    title: str
    make: str
    model: str
    example: bool = Field(description="Comes with Sondar and is of an invented make.")
    about: str
    complaint: str
    synonyms: list[str] = Field(description="Other names that people search for.")
    parts: int
    points: int
    faults: int
    notes: list[FieldProblemModel] = Field(
        default_factory=list, description="Former names that the file uses; it was loaded all the same."
    )


class CircuitList(BaseModel):
    """Newest version of every circuit."""

    circuits: list[CircuitSummary]


class CavityModel(BaseModel):
    """One cavity of a connector's face."""

    number: str
    colour: str = Field(description="Colour and cross-section of the wire in it.")
    behind: str = Field(description="What it leads to on the other side.")


class ConnectorModel(BaseModel):
    """A connector as the screen needs it, with its face."""

    id: str
    title: str
    place: str
    inline: bool
    access_min: float
    back_probe: bool
    rows: int
    cavities: list[CavityModel]


class ControlModel(BaseModel):
    """A control and its positions."""

    id: str
    title: str
    values: list[str]
    how: str


class PointModel(BaseModel):
    """A probe point."""

    ref: str
    title: str
    place: str
    when: Literal["any", "unplugged"]
    connector: str | None


class TargetModel(BaseModel):
    """Something that an instrument without probes can look at."""

    ref: str
    title: str
    instrument: str


class ServiceNoteModel(BaseModel):
    """What is done about a part."""

    part: str
    do: str
    difficulty: str
    teach_in: str
    note: str


class CodeModel(BaseModel):
    """A code that the circuit's modules can store."""

    code: str
    title: str
    module: str
    about: str


class CircuitDetail(CircuitSummary):
    """A circuit with its drawing."""

    cautions: list[str]
    codes: list[CodeModel]
    limits: list[LimitView]
    service: list[ServiceNoteModel]

    source_text: str
    sheet: Sheet | None = Field(description="The wiring sheet that it was described from, if it was.")
    drawing: Drawing
    connectors: list[ConnectorModel]
    controls: list[ControlModel]
    points: list[PointModel]  # type: ignore[assignment]
    targets: list[TargetModel]
    instruments: list[InstrumentView]
    black_reference: str


class VersionView(BaseModel):
    """A version of a circuit, and what is different from the one before it."""

    version_id: UUID
    version: int
    at: datetime
    changed: list[str]


class VersionList(BaseModel):
    """Every version of a circuit, the newest first."""

    versions: list[VersionView]
