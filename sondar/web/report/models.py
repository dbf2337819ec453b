"""Requests and responses about reports and follow-up."""

from __future__ import annotations

from datetime import date
from typing import Literal

from pydantic import BaseModel, Field

from sondar.web.common import JobView


class ReportQuery(BaseModel):
    """Which report: for whom, and as what."""

    reader: Literal["customer", "colleague"] = "customer"
    form: Literal["pdf", "html"] = "pdf"


class FollowUpQuery(BaseModel):
    """Until which day."""

    until: date | None = Field(None, description="Jobs due by this day; today if left out.")


class FollowUp(BaseModel):
    """A job whose repair is to be asked after."""

    due: date
    job: JobView


class FollowUps(BaseModel):
    """Jobs whose repair is to be asked after, the longest overdue first."""

    jobs: list[FollowUp]
