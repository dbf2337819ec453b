"""Requests and responses that several features share."""

from __future__ import annotations

import io
from datetime import datetime
from typing import Literal
from uuid import UUID

from flask import Response
from pydantic import BaseModel, ConfigDict, Field

from sondar.store import jobs as job_store


class Strict(BaseModel):
    """A request body: unknown fields are errors."""

    model_config = ConfigDict(extra="forbid")


class JobPath(BaseModel):
    """Path of a job."""

    job_id: UUID


class DiagnosisPath(BaseModel):
    """Path of a circuit diagnosis: one circuit of a job."""

    diagnosis_id: UUID


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
    starting: str = Field(description="How it is switched on: key, button, hybrid, or nothing said.")
    complaint: str
    codes: str
    temperature_c: float
    stage: str
    circuits: list[str]
    readings: int
    conclusion: str | None
    conclusion_group: str | None
    outcome: str = Field(description="fixed, partly, not fixed, or nothing said.")
    last_seq: int = Field(description="Sequence number of the newest entry.")
    created_at: datetime
    touched_at: datetime
    erased_at: datetime | None = Field(description="When plate, VIN and photographs were erased.")
    by: str | None


class DiagnosisSummary(BaseModel):
    """A circuit diagnosis in a list."""

    id: UUID
    circuit_version_id: UUID
    slug: str
    title: str
    reason: str
    readings: int
    conclusion: str | None
    created_at: datetime


class PictureQuery(BaseModel):
    """Which size of a picture."""

    size: Literal["full", "thumbnail"] = "full"


def picture_response(picture: bytes, media_type: str) -> Response:
    """A picture, which never changes."""
    cached = {"Cache-Control": "private, max-age=31536000, immutable"}
    return Response(io.BytesIO(picture), content_type=media_type, headers=cached)


class SetupIn(Strict):
    """A set-up to measure in."""

    controls: dict[str, str] = Field(default_factory=dict)
    unplugged: list[str] = Field(default_factory=list, max_length=40)


class TestIn(Strict):
    """A test: instrument, probes, set-up."""

    __test__ = False

    instrument: str
    red: str
    black: str
    setup: SetupIn


class MeterView(BaseModel):
    """A meter of the workshop: percent of reading and floor, in V and Ω."""

    id: UUID
    name: str
    volts_percent: float
    volts_floor: float
    ohms_percent: float
    ohms_floor: float


def as_json(text: bytes, status: int = 200) -> Response:
    """A view that a worker has made, as the answer."""
    return Response(text, status, content_type="application/json")


def job_view(job: job_store.Job) -> JobView:
    """A stored job for the outside."""
    return JobView.model_validate(job.__dict__)


def diagnosis_view(diagnosis: job_store.CircuitDiagnosis) -> DiagnosisSummary:
    """A stored circuit diagnosis for the outside."""
    return DiagnosisSummary.model_validate(diagnosis.__dict__)
