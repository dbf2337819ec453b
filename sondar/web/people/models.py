"""Requests and responses about workshops, people, sessions and settings."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal
from uuid import UUID

from pydantic import BaseModel, Field, field_validator

from sondar.core.circuit.model import Group
from sondar.core.diagnosis.base_rates import GROUP_SHARES
from sondar.web.common import MeterView, Strict

Role = Literal["read-only", "technician", "lead"]
ROLES: dict[Role, str] = {"read-only": "read-only", "technician": "technician", "lead": "workshop lead"}
"""What an account may do, and what that is called."""
SIGN_IN = r"^[A-Za-z0-9._@+-]+$"


class AccountPath(BaseModel):
    """Path of an account."""

    account_id: UUID


class SessionPath(BaseModel):
    """Path of a session."""

    session_id: UUID


class MeterPath(BaseModel):
    """Path of a meter."""

    meter_id: UUID


class SetupState(BaseModel):
    """Whether a first workshop still has to be set up."""

    needed: bool


class FirstWorkshop(Strict):
    """The first workshop and its first workshop lead."""

    code: str = Field(max_length=60, description="Printed by the start command.")
    workshop: str = Field(min_length=1, max_length=80)
    name: str = Field(min_length=1, max_length=80)
    sign_in: str = Field(min_length=2, max_length=80, pattern=SIGN_IN)
    password: str = Field(max_length=200)
    alone: bool = Field(False, description="One person alone works here.")


class SignIn(Strict):
    """Name and password."""

    sign_in: str = Field(min_length=1, max_length=80)
    password: str = Field(min_length=1, max_length=200)


class WorkshopView(BaseModel):
    """A workshop's settings."""

    name: str
    rate_per_hour: float
    currency: str
    decision_threshold: float
    distance_unit: Literal["km", "mi"]
    temperature_unit: Literal["C", "F"]
    tools: list[str]
    alone: bool = Field(description="One person alone: no roles to choose, no rate to set.")
    show_examples: bool = Field(description="The invented makes that come with Sondar are offered.")
    photo_quota_mb: int
    recording_quota_mb: int
    erase_after_months: int | None
    group_shares: dict[Group, float] = Field(
        description="Percent of what comes in, by whose it is; empty for Sondar's own figures."
    )
    version: int


class WorkshopIn(Strict):
    """New settings; ``version`` is the one they were made from."""

    name: str = Field(min_length=1, max_length=80)
    rate_per_hour: float = Field(ge=0, le=10_000)
    currency: str = Field(pattern=r"^[A-Z]{3}$")
    decision_threshold: float = Field(ge=0.6, le=0.999)
    distance_unit: Literal["km", "mi"]
    temperature_unit: Literal["C", "F"]
    tools: list[str] = Field(min_length=1, max_length=60)
    alone: bool
    show_examples: bool
    photo_quota_mb: int = Field(ge=10, le=1_000_000, description="Room for all photographs.")
    recording_quota_mb: int = Field(ge=10, le=1_000_000, description="Room for all recordings.")
    erase_after_months: int | None = Field(
        ge=1, le=240, description="Personal data of closed jobs goes so long after their last entry."
    )
    group_shares: dict[Group, Annotated[float, Field(gt=0, le=100, allow_inf_nan=False)]] = Field(
        description="Percent of what comes in, by whose it is: all groups, or none for Sondar's own figures."
    )
    version: int = Field(ge=1, le=2_000_000_000)

    @field_validator("group_shares")
    @classmethod
    def _all_or_none(cls, value: dict[Group, float]) -> dict[Group, float]:
        if value and set(value) != set(GROUP_SHARES):
            raise ValueError(f"give all of {', '.join(GROUP_SHARES)}, or none")
        return value


class Storage(BaseModel):
    """Room that photographs take."""

    photo_mb: float
    photo_quota_mb: int
    recording_mb: float
    recording_quota_mb: int


class Me(BaseModel):
    """The signed-in person and their workshop; ``signed_in`` False has nothing else."""

    signed_in: bool
    account_id: UUID | None = None
    session_id: UUID | None = None
    name: str = ""
    sign_in: str = ""
    role: Role | None = None
    theme: Literal["system", "light", "dark"] = "system"
    csrf: str = Field("", description="To be sent as X-CSRF-Token with every writing request.")
    workshop: WorkshopView | None = None


class AccountView(BaseModel):
    """Someone of the workshop."""

    id: UUID
    sign_in: str
    name: str
    role: Role
    active: bool
    created_at: datetime


class AccountList(BaseModel):
    """Everyone of the workshop."""

    accounts: list[AccountView]


class AccountIn(Strict):
    """A new account."""

    sign_in: str = Field(min_length=2, max_length=80, pattern=SIGN_IN)
    name: str = Field(min_length=1, max_length=80)
    role: Role
    password: str = Field(max_length=200)


class AccountChange(Strict):
    """New name, role or state."""

    name: str = Field(min_length=1, max_length=80)
    role: Role
    active: bool


class NewPassword(Strict):
    """A password set by a workshop lead."""

    password: str = Field(max_length=200)


class PasswordChange(Strict):
    """The own password."""

    old: str = Field(max_length=200)
    new: str = Field(max_length=200)


class ThemeIn(Strict):
    """The own theme."""

    theme: Literal["system", "light", "dark"]


class SessionView(BaseModel):
    """A session still good."""

    id: UUID
    account_name: str
    agent: str
    address: str
    created_at: datetime
    seen_at: datetime
    this_one: bool


class SessionList(BaseModel):
    """Sessions still good."""

    sessions: list[SessionView]


class MeterIn(Strict):
    """A meter and its accuracy, from its data sheet."""

    name: str = Field(min_length=1, max_length=60)
    volts_percent: float = Field(0.5, ge=0, le=20)
    volts_floor: float = Field(0.02, ge=0, le=2)
    ohms_percent: float = Field(1.0, ge=0, le=20)
    ohms_floor: float = Field(0.2, ge=0, le=20)


class MeterList(BaseModel):
    """Meters in use."""

    meters: list[MeterView]


class AuditQuery(BaseModel):
    """Paging of the audit."""

    before: int | None = Field(None, ge=1, le=9_000_000_000_000_000_000)
    limit: int = Field(100, ge=1, le=200)


class AuditEntryView(BaseModel):
    """Who did what."""

    id: int
    by: str | None
    action: str
    subject: str
    address: str
    at: datetime


class AuditList(BaseModel):
    """A page of the audit, newest first."""

    entries: list[AuditEntryView]
