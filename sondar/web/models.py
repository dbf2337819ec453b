"""Requests and responses of the API."""

from __future__ import annotations

from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import BaseModel, ConfigDict, Field

from sondar.core.diagnosis.views import Assessment
from sondar.core.drawing import Drawing


class Strict(BaseModel):
    """A request body: unknown fields are errors."""

    model_config = ConfigDict(extra="forbid")


class FieldProblem(BaseModel):
    """One thing wrong with one field."""

    field: str
    message: str
    line: int | None = None


class ProblemDetails(BaseModel):
    """RFC 9457 problem details, with the offending fields."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    errors: list[FieldProblem] = Field(default_factory=list)


class CircuitPath(BaseModel):
    """Path of a circuit version."""

    version_id: UUID


class JobPath(BaseModel):
    """Path of a job."""

    job_id: UUID


class ReadingPath(JobPath):
    """Path of a reading."""

    reading_id: UUID


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
    about: str
    complaint: str
    parts: int
    points: int
    faults: int


class CircuitList(BaseModel):
    """Newest version of every circuit."""

    circuits: list[CircuitSummary]


class ConnectorModel(BaseModel):
    """A connector as the bench needs it."""

    id: str
    title: str
    place: str
    inline: bool


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


class InstrumentModel(BaseModel):
    """An instrument."""

    id: str
    title: str
    kind: str
    unit: str
    words: list[str]


class CircuitDetail(CircuitSummary):
    """A circuit with its drawing."""

    source_text: str
    drawing: Drawing
    connectors: list[ConnectorModel]
    controls: list[ControlModel]
    points: list[PointModel]  # type: ignore[assignment]
    instruments: list[InstrumentModel]
    black_reference: str


class VehicleIn(Strict):
    """A vehicle at the door."""

    make: str = Field(min_length=1, max_length=60)
    model: str = Field("", max_length=60)
    year: int | None = Field(None, ge=1950, le=2100)
    plate: str = Field("", max_length=20)
    mileage_km: int | None = Field(None, ge=0, le=5_000_000)


class JobIn(Strict):
    """A new job."""

    client_key: UUID
    vehicle: VehicleIn
    circuit_version_id: UUID
    complaint: str = Field(min_length=1, max_length=2000)
    codes: str = Field("", max_length=200)
    temperature_c: float = Field(20.0, ge=-50, le=90)


class JobView(BaseModel):
    """A job in a list."""

    id: UUID
    number: int
    make: str
    model: str
    year: int | None
    plate: str
    mileage_km: int | None
    complaint: str
    codes: str
    temperature_c: float
    circuit_version_id: UUID
    circuit_title: str
    readings: int
    stage: str
    verdict: str | None
    verdict_group: str | None
    created_at: datetime
    touched_at: datetime


class JobQuery(BaseModel):
    """Paging of the job list."""

    before: int | None = Field(None, ge=1, le=2_000_000_000, description="Continue below this job number.")
    limit: int = Field(50, ge=1, le=200)


class JobList(BaseModel):
    """A page of jobs; ``next_before`` continues."""

    jobs: list[JobView]
    next_before: int | None


class SetupIn(Strict):
    """A set-up to measure in."""

    controls: dict[str, str] = Field(default_factory=dict)
    unplugged: list[str] = Field(default_factory=list, max_length=40)


class TestIn(Strict):
    """A test: instrument, leads, set-up."""

    __test__ = False

    instrument: str
    red: str
    black: str
    setup: SetupIn


class ReadingIn(TestIn):
    """A reading as typed or taken from a meter."""

    client_key: UUID
    entry: str = Field(min_length=1, max_length=40)
    source: Literal["typed", "meter"] = "typed"
    note: str = Field("", max_length=2000)


class RetractionIn(Strict):
    """Takes a reading back."""

    client_key: UUID
    reason: str = Field(min_length=1, max_length=500)


class ExclusionIn(Strict):
    """Rules a point or an instrument out, or back in."""

    client_key: UUID
    kind: Literal["point", "instrument"]
    name: str = Field(min_length=1, max_length=80)
    excluded: bool


class VerdictIn(Strict):
    """Calls the verdict as it stands."""

    client_key: UUID


class ReadingOut(BaseModel):
    """A reading as stored."""

    id: UUID
    seq: int
    instrument: str
    instrument_title: str
    red: str
    black: str
    setup_text: str
    entry: str
    label: str
    source: str
    note: str
    created_at: datetime
    retracted_because: str | None


class Exclusions(BaseModel):
    """What is ruled out now."""

    point: list[str]
    instrument: list[str]


class BenchView(BaseModel):
    """Everything the bench shows that changes."""

    job: JobView
    readings: list[ReadingOut]
    exclusions: Exclusions
    assessment: Assessment
    meter: bool = Field(description="A meter is connected that can be read.")


class MeterReading(BaseModel):
    """What the meter shows, as entry text."""

    entry: str


class Health(BaseModel):
    """The service and its database answer."""

    status: str
    version: str
