"""Requests and responses of the API."""

from __future__ import annotations

from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import BaseModel, ConfigDict, Field

from sondar.core.circuit.drawing import Drawing
from sondar.core.diagnosis.views import Assessment
from sondar.core.limits.card import LimitView


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


class DiagnosisPath(BaseModel):
    """Path of a diagnosis: one circuit of a job on the bench."""

    diagnosis_id: UUID


class ReadingPath(DiagnosisPath):
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
    also: list[str] = Field(description="Other names that people search for.")
    parts: int
    points: int
    faults: int


class CircuitList(BaseModel):
    """Newest version of every circuit."""

    circuits: list[CircuitSummary]


class CavityModel(BaseModel):
    """One cavity of a connector's face."""

    number: str
    colour: str = Field(description="Colour and cross-section of the wire in it.")
    behind: str = Field(description="What it leads to on the other side.")


class ConnectorModel(BaseModel):
    """A connector as the bench needs it, with its face."""

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


class InstrumentModel(BaseModel):
    """An instrument."""

    id: str
    title: str
    kind: str
    unit: str
    words: list[str]
    only_words: bool
    leads: bool = Field(description="It has two leads that touch points; else it looks at one of its targets.")


class TargetModel(BaseModel):
    """Something that an instrument without leads can look at."""

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
    drawing: Drawing
    connectors: list[ConnectorModel]
    controls: list[ControlModel]
    points: list[PointModel]  # type: ignore[assignment]
    targets: list[TargetModel]
    instruments: list[InstrumentModel]
    black_reference: str


class JobView(BaseModel):
    """A job in a list."""

    id: UUID
    number: int
    vehicle_id: UUID
    make: str
    model: str
    year: int | None
    plate: str
    mileage_km: int | None
    engine: str
    vin: str
    complaint: str
    codes: str
    temperature_c: float
    stage: str
    circuits: list[str]
    readings: int
    conclusion: str | None
    conclusion_group: str | None
    created_at: datetime
    touched_at: datetime
    by: str | None


class DiagnosisSummary(BaseModel):
    """A diagnosis in a list."""

    id: UUID
    circuit_version_id: UUID
    slug: str
    title: str
    reason: str
    readings: int
    conclusion: str | None
    created_at: datetime


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
    meter_id: UUID | None = Field(None, description="Which of the workshop's meters; its accuracy is used.")
    sure: bool = Field(False, description="The order of magnitude was asked about and is meant.")
    supersedes: UUID | None = Field(None, description="Reading that this one corrects: it is taken back in the same step.")


class VoidIn(Strict):
    """Takes a reading back."""

    client_key: UUID
    reason: str = Field(min_length=1, max_length=500)


class ExclusionIn(Strict):
    """Rules a point or an instrument out, or back in."""

    client_key: UUID
    kind: Literal["point", "instrument"]
    name: str = Field(min_length=1, max_length=80)
    excluded: bool


class ConclusionIn(Strict):
    """Calls the conclusion as it stands."""

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
    controls: dict[str, str]
    unplugged: list[str]
    entry: str
    label: str
    source: str
    note: str
    created_at: datetime
    voided_because: str | None
    by: str | None
    present: float = Field(description="Chance that the fault was there while reading.")


class Exclusions(BaseModel):
    """What is ruled out now."""

    point: list[str]
    instrument: list[str]


class MeterView(BaseModel):
    """A meter of the workshop: percent of reading and floor, in V and Ω."""

    id: UUID
    name: str
    volts_percent: float
    volts_floor: float
    ohms_percent: float
    ohms_floor: float


class MeasuringView(BaseModel):
    """Everything the bench shows that changes."""

    job: JobView
    diagnosis: DiagnosisSummary
    readings: list[ReadingOut]
    exclusions: Exclusions
    assessment: Assessment
    meter: bool = Field(description="A meter is connected that can be read.")
    meters: list[MeterView] = Field(description="The workshop's meters to choose from.")
    limits: list[LimitView] = Field(description="Every limit of the circuit, marked by the readings that stand.")
    prior_reasons: list[str] = Field(description="What was known before the first reading, and counts here.")


class OverlayQuery(BaseModel):
    """Whose predicted values, in which set-up."""

    unit: str = Field("none", max_length=80, description="Unit at fault, or none for a healthy circuit.")
    controls: str = Field("{}", max_length=2000, description="Controls that differ from rest, as JSON.")
    unplugged: str = Field("", max_length=400, description="Connectors apart, separated by commas.")


class ExpectedOverlay(BaseModel):
    """Predicted voltages against the black reference."""

    title: str
    values: dict[str, str] = Field(description="Point -> label.")


class TraceView(BaseModel):
    """What an oscilloscope would draw: corners as (milliseconds, volts)."""

    hertz: float = Field(description="0 if nothing pulses here.")
    healthy: list[tuple[float, float]]
    suspect: list[tuple[float, float]]
    suspect_title: str


class MeterReading(BaseModel):
    """What the meter shows, as entry text."""

    entry: str


class Health(BaseModel):
    """The service and its database answer."""

    status: str
    version: str
