"""Requests and responses about share links."""

from __future__ import annotations

from datetime import date, datetime
from uuid import UUID

from pydantic import BaseModel, Field

from sondar.web.codes.models import CodeView
from sondar.web.common import JobPath, Strict


class ShareIn(Strict):
    """A read-only link to a job."""

    days: int = Field(14, ge=1, le=90)
    personal: bool = Field(False, description="With the plate.")


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


class SharedProof(BaseModel):
    """A test that failed before the repair, and now."""

    test: str
    expected: str
    before: str
    now: str = Field(description="Empty while it has not been repeated.")
    passed: bool | None


class SharedDefect(BaseModel):
    """Something else that was seen."""

    what: str
    urgency: str
    decision: str


class SharedDiagnosis(BaseModel):
    """A circuit as a customer sees it."""

    title: str
    about: str
    readings: list[SharedReading]
    conclusion: str | None
    done: list[str] = Field(description="What was repaired, in words.")
    proved: list[SharedProof]


class SharedJobView(BaseModel):
    """What a share link opens."""

    workshop: str
    number: int
    vehicle: str
    plate: str
    complaint: str
    stage: str
    checked_in: datetime
    expires_at: datetime
    frozen_at: datetime | None = Field(description="It is shown as it was then.")
    words: str = Field(description="What the workshop wrote for its customer; empty if nothing.")
    outcome: str
    outcome_left: str
    may_drive: str
    may_drive_why: str
    made_it_fail: str
    cause_removed: bool | None
    not_done: str
    defects: list[SharedDefect]
    follow_up: date | None
    codes: list[CodeView]
    diagnoses: list[SharedDiagnosis]
