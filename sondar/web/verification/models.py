"""Requests and responses about verification."""

from __future__ import annotations

from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import BaseModel, Field

from sondar.web.common import Strict, TestIn


class StandingView(BaseModel):
    """How the repair stands as a whole."""

    outcome: Literal["fixed", "partly", "not fixed", "open"]
    sentence: str
    left: list[str] = Field(description="What is still to be done or seen.")


class ReadingProofView(BaseModel):
    """A test that failed before the repair."""

    diagnosis_id: UUID
    circuit: str
    test: TestIn
    label: str
    expected: str
    before: str
    now: str = Field(description="Empty while it has not been repeated.")
    passed: bool | None
    said: str = Field(description="How far it still is from its range; empty inside.")


class CodeProofView(BaseModel):
    """A code that was stored before the repair, or is new since."""

    code: str
    module: str
    before: list[str] = Field(description="Its status then, in words.")
    state: Literal["passed", "not there", "not completed", "failed again", "not read", "not cleared"]
    said: str


class CommandAgainView(BaseModel):
    """A command that was given before the repair, and after it."""

    command: str
    title: str
    before: str
    before_recording: UUID
    after: str
    after_recording: UUID | None


class MonitorsView(BaseModel):
    """Readiness as it was read last."""

    complete: list[str]
    outstanding: list[str]
    since_repair: bool


class FrameLine(BaseModel):
    """A figure that the vehicle kept when a code was set."""

    code: str
    title: str
    value: str


class MonitorResultView(BaseModel):
    """What a monitor measured, and between which limits (OBD service 06)."""

    title: str
    value: str
    limits: str
    verdict: Literal["passed", "near its limit", "failed", "not run"]


class VerificationView(BaseModel):
    """Everything that is to be verified after a repair."""

    standing: StandingView
    repaired_at: datetime | None
    readings: list[ReadingProofView]
    codes: list[CodeProofView]
    cleared: bool = Field(description="Codes have been cleared since the repair.")
    conditions: list[str] = Field(description="Under which the complaint occurs, as they are run.")
    run: list[str] = Field(description="What has been run since clearing.")
    commands: list[CommandAgainView]
    monitors: MonitorsView | None
    frame: list[FrameLine]
    results: list[MonitorResultView] = Field(description="Of the monitors' tests, those nearest to a limit first.")
    clearing_warning: str
    watch: list[str] = Field(description="Live data to look at on a road test.")
    cautions: list[str]
    interface: bool


class ReadinessIn(Strict):
    """Reads monitors and freeze frame of the connected vehicle."""

    client_key: UUID
