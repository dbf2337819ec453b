"""Requests and responses about jobs: check-in, codes, triage, timeline."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from flask_openapi3 import FileStorage
from pydantic import BaseModel, Field

from sondar.store.jobs import Stage
from sondar.web.codes.models import CodeView, ScanView
from sondar.web.common import DiagnosisSummary, JobPath, JobView, Strict
from sondar.web.vehicles.models import VehicleIn

AnswerValue = str | bool | int | float | list[str] | None
"""What can be answered: text, yes or no, a number, several picks, or nothing."""


class JobIn(Strict):
    """A new job: for a vehicle that has been here, or for a new one; perhaps with a circuit to test at once."""

    client_key: UUID
    vehicle_id: UUID | None = None
    vehicle: VehicleIn | None = None
    complaint: str = Field("", max_length=2000)
    codes: str = Field("", max_length=4000, description="Codes as typed; kept as the first list.")
    temperature_c: float | None = Field(
        None, ge=-50, le=90, description="Of the parts, as measured or asked; none if nobody knows."
    )
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

    value: AnswerValue
    seq: int
    by: str | None
    at: datetime


class AnswerPath(JobPath):
    """Path of a field."""

    field: str = Field(max_length=40)


class AnswerIn(Strict):
    """An answer, and the entry the writer saw last (0 for none)."""

    client_key: UUID
    value: AnswerValue
    seen_seq: int = Field(0, ge=0, le=2_000_000_000)


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
    parts: list[str] = Field(description="Kinds of parts it can come from, on a vehicle whose circuits are not known.")


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


class PutBackView(BaseModel):
    """Something that a reading left on the vehicle."""

    key: str = Field(description="To be listed in the answer ``put_back`` once it is done.")
    title: str
    caution: str
    done: bool


class JobDetailView(BaseModel):
    """Everything of a job but its readings."""

    job: JobView
    answers: dict[str, AnswerView]
    diagnoses: list[DiagnosisSummary]
    scans: list[ScanView]
    cleared_at: datetime | None
    codes: list[CodeView] = Field(description="What stands now: the list before clearing, with how each code behaved since.")
    photos: list[PhotoView]
    warnings: list[str]
    earlier: list[EarlierJob]
    returned: EarlierJob | None = Field(description="The job with which this vehicle may have come back.")
    known_vehicle: bool = Field(description="The circuits of this vehicle model are known.")
    interface: bool = Field(description="A vehicle interface is connected.")
    circuits: list[CircuitOption]
    symptoms: list[SymptomOption]
    parts: list[PartOption]
    put_back: list[PutBackView] = Field(description="What the last readings left apart, switched or on trial.")


class ErasureIn(Strict):
    """Erases personal data of a job's vehicle."""

    words: bool = Field(description="Also what was written freely (complaint, notes), which may name people.")


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
