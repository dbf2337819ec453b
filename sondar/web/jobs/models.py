"""Requests and responses about jobs before the bench: taking in, codes, triage, timeline, sharing."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal
from uuid import UUID

from flask_openapi3 import FileStorage
from pydantic import BaseModel, Field

from sondar.core.triage.views import TriageView
from sondar.web.measure.models import DiagnosisSummary, JobPath, JobView, Strict

Stage = Literal["take in", "diagnosis", "conclusion", "repair", "verify", "closed"]


class VehicleIn(Strict):
    """A vehicle at the door."""

    make: str = Field(min_length=1, max_length=60)
    model: str = Field("", max_length=60)
    year: int | None = Field(None, ge=1950, le=2100)
    plate: str = Field("", max_length=20)
    mileage_km: int | None = Field(None, ge=0, le=5_000_000)
    engine: str = Field("", max_length=60)
    vin: str = Field("", max_length=17)


class VehicleView(VehicleIn):
    """A vehicle that has been here."""

    id: UUID
    jobs: int
    last_seen: datetime | None


class PlateQuery(BaseModel):
    """A plate, spaces and dashes aside."""

    plate: str = Field(min_length=1, max_length=20)


class VehicleList(BaseModel):
    """Vehicles found."""

    vehicles: list[VehicleView]


class VehiclePath(BaseModel):
    """Path of a vehicle."""

    vehicle_id: UUID


class ModelView(BaseModel):
    """A vehicle model whose circuits are known."""

    make: str
    model: str
    title: str


class ModelList(BaseModel):
    """Vehicle models whose circuits are known."""

    models: list[ModelView]


class ModelText(Strict):
    """A vehicle file."""

    text: str = Field(max_length=600_000)


class JobIn(Strict):
    """A new job: for a vehicle that has been here, or for a new one; perhaps with a circuit to diagnosis at once."""

    client_key: UUID
    vehicle_id: UUID | None = None
    vehicle: VehicleIn | None = None
    complaint: str = Field("", max_length=2000)
    codes: str = Field("", max_length=4000, description="Codes as typed; kept as the first list.")
    temperature_c: float = Field(20.0, ge=-50, le=90)
    circuit_version_id: UUID | None = None


class JobQuery(BaseModel):
    """Search and paging of the job list."""

    q: str = Field("", max_length=200, description="Plate, code, circuit, part or words.")
    stage: Stage | None = None
    before: int | None = Field(None, ge=1, le=2_000_000_000, description="Continue below this job number.")
    limit: int = Field(50, ge=1, le=200)


class JobList(BaseModel):
    """A page of jobs; ``next_before`` continues."""

    jobs: list[JobView]
    next_before: int | None


class AnswerView(BaseModel):
    """The latest answer on a field."""

    value: Any
    seq: int
    by: str | None
    at: datetime


class AnswerPath(JobPath):
    """Path of a field."""

    field: str = Field(max_length=40)


class AnswerIn(Strict):
    """An answer, and the entry the writer saw last (0 for none)."""

    client_key: UUID
    value: Any
    seen_seq: int = Field(0, ge=0, le=2_000_000_000)


class CodeView(BaseModel):
    """A code with what is known about it."""

    module: str
    code: str
    failure_type: str | None
    status: int | None
    status_words: list[str]
    title: str
    about: str
    kind: str
    circuits: list[str] = Field(description="Ids of the circuits it belongs to.")
    known_from: Literal["library", "workshop", "none"]
    behaviour: str | None = None
    behaviour_reason: str = ""
    after_s: float | None = None


class ScanView(BaseModel):
    """One reading of the codes."""

    id: UUID
    seq: int
    source: str
    modules: dict[str, bool]
    conditions: list[str]
    at: datetime
    by: str | None
    after_s: float | None = Field(description="Seconds since clearing; none before it.")
    codes: list[CodeView]


class ScanIn(Strict):
    """Codes as typed or pasted, or the text of a CSV or JSON file."""

    client_key: UUID
    source: Literal["typed", "import"] = "typed"
    text: str = Field(max_length=100_000)
    conditions: list[str] = Field(default_factory=list, max_length=10)
    none_stored: bool = Field(False, description="The scan tool was used and no module had a code.")


class VehicleScanIn(Strict):
    """Reads the codes out of the connected vehicle."""

    client_key: UUID
    conditions: list[str] = Field(default_factory=list, max_length=10)


class ClearIn(Strict):
    """Clears the codes; the list from before is kept."""

    client_key: UUID
    by: Literal["vehicle", "hand"] = Field(description="Sondar clears through the vehicle interface, or it was done by hand.")


class MeaningIn(Strict):
    """What the workshop knows about a code of this make."""

    title: str = Field(min_length=1, max_length=200)
    about: str = Field("", max_length=2000)


class CodePath(JobPath):
    """Path of a code."""

    code: str = Field(pattern=r"^[PCBU][0-3][0-9A-F]{3}$")


class CircuitOption(BaseModel):
    """A circuit of this vehicle."""

    slug: str
    version_id: UUID
    title: str
    complaint: str
    codes: list[str]


class SymptomOption(BaseModel):
    """Something that can be noticed, and what can cause it."""

    key: str
    title: str
    circuits: list[str]


class PartOption(BaseModel):
    """A part that may have been worked on."""

    id: str
    title: str


class PhotoView(BaseModel):
    """A photograph."""

    id: UUID
    seq: int
    caption: str
    width: int
    height: int
    at: datetime
    by: str | None


class EarlierJob(BaseModel):
    """Another visit of the same vehicle."""

    id: UUID
    number: int
    complaint: str
    conclusion: str | None
    at: datetime


class JobDetail(BaseModel):
    """Everything of a job but its benches."""

    job: JobView
    answers: dict[str, AnswerView]
    diagnoses: list[DiagnosisSummary]
    scans: list[ScanView]
    cleared_at: datetime | None
    codes: list[CodeView] = Field(description="What stands now: the list before clearing, with how each code behaved since.")
    photos: list[PhotoView]
    warnings: list[str]
    earlier: list[EarlierJob]
    known_vehicle: bool = Field(description="The circuits of this vehicle model are known.")
    interface: bool = Field(description="A vehicle interface is connected.")
    circuits: list[CircuitOption]
    symptoms: list[SymptomOption]
    parts: list[PartOption]


class TriageAnswer(BaseModel):
    """The triage, or why there is none."""

    available: bool
    reason: str
    triage: TriageView | None


class DiagnosisIn(Strict):
    """Opens a bench on a circuit of the vehicle, or on any stored one."""

    client_key: UUID
    circuit_version_id: UUID
    reason: str = Field("", max_length=500)
    carry: bool = Field(True, description="Begin with what the triage believes.")


class NoteIn(Strict):
    """A note."""

    client_key: UUID
    body: str = Field(min_length=1, max_length=4000)


class PhotoForm(BaseModel):
    """A photograph from the device's camera or files."""

    client_key: UUID
    caption: str = Field("", max_length=300)
    picture: FileStorage


class PhotoPath(JobPath):
    """Path of a photograph."""

    photo_id: UUID


class PhotoQuery(BaseModel):
    """Which size."""

    size: Literal["full", "thumbnail"] = "full"


class TimelineEntryView(BaseModel):
    """One thing that happened."""

    seq: int
    kind: str
    text: str
    detail: str
    ref: UUID | None
    at: datetime
    by: str | None


class Timeline(BaseModel):
    """Everything of a job in order."""

    entries: list[TimelineEntryView]


class ShareIn(Strict):
    """A read-only link to a job."""

    days: int = Field(14, ge=1, le=90)


class ShareView(BaseModel):
    """A link."""

    id: UUID
    created_at: datetime
    expires_at: datetime
    revoked: bool
    opened: int
    by: str | None


class ShareList(BaseModel):
    """Links of a job; ``token`` only once, for the link just made."""

    shares: list[ShareView]
    token: str | None = None


class SharePath(JobPath):
    """Path of a link."""

    share_id: UUID


class TokenPath(BaseModel):
    """The secret of a link."""

    token: str = Field(max_length=100)


class SharedReading(BaseModel):
    """A reading as a customer sees it."""

    where: str
    entry: str
    setup: str
    expected: str
    within_expected: bool


class SharedDiagnosis(BaseModel):
    """A circuit as a customer sees it."""

    title: str
    about: str
    readings: list[SharedReading]
    conclusion: str | None


class SharedJob(BaseModel):
    """What a share link opens."""

    workshop: str
    number: int
    vehicle: str
    plate: str
    complaint: str
    stage: str
    taken_in: datetime
    expires_at: datetime
    codes: list[CodeView]
    diagnoses: list[SharedDiagnosis]
