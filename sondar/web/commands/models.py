"""Requests and responses about live data and commands."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal
from uuid import UUID

from pydantic import BaseModel, Field

from sondar.web.common import Strict


class RunPath(BaseModel):
    """Path of a run."""

    run_id: UUID


class DataItemView(BaseModel):
    """A figure that a module tells."""

    id: str
    title: str
    module: str
    unit: str


class CommandView(BaseModel):
    """Something that a module does on request."""

    id: str
    title: str
    module: str
    control: str = Field(description="The control of the circuits that it moves.")
    positions: list[str] = Field(description="The first is rest.")
    moves: str
    caution: str
    hold: bool = Field(description="It runs only while a finger holds it.")
    requires: str = Field(description="What the module asks for, in words; empty if nothing.")
    locked_by: list[str] = Field(description="Stored codes with which the module keeps to its default reaction and refuses.")


class CoveredView(BaseModel):
    """What a module did on request so far, on this make and model."""

    module: str
    title: str
    state: str
    times: int


class RunView(BaseModel):
    """A run: a command that is given and recorded, or a recording without one."""

    id: UUID
    job_id: UUID
    recording_id: UUID
    command: str
    title: str
    module: str
    hold: bool
    state: Literal["running", "ended", "stopped", "refused", "lost"]
    said: str
    position: str
    found: str
    created_at: datetime
    by: str | None


class RoutineView(BaseModel):
    """Something that a module carries out by itself when it is started."""

    id: str
    title: str
    module: str
    kind: str
    moves: str
    caution: str
    requires: str = Field(description="What the module asks for, in words; empty if nothing.")
    seconds: float
    success: str = Field(description="The result that means success, in words.")


class OfferedView(BaseModel):
    """What a job's vehicle offers; ``reason`` says why nothing can be done, if so."""

    reason: str
    described: bool = Field(description="Somebody has described the live data or commands of this vehicle.")
    data: list[DataItemView] = Field(description="Of OBD service 01 too, as far as the vehicle has said what it offers.")
    commands: list[CommandView]
    routines: list[RoutineView]
    coverage: list[CoveredView]
    running: RunView | None


class StepIn(Strict):
    """A position, and for how long."""

    position: str = Field(min_length=1, max_length=80)
    seconds: float = Field(gt=0.0, le=600.0, allow_inf_nan=False)


class LoggedMeterIn(Strict):
    """The bench meter recorded beside the vehicle, with its probes where a test puts them."""

    diagnosis_id: UUID
    instrument: str = Field(max_length=60)
    red: str = Field(max_length=80)
    black: str = Field(max_length=80)
    controls: dict[str, Annotated[str, Field(max_length=80)]] = Field(default_factory=dict, max_length=40)
    unplugged: list[Annotated[str, Field(max_length=80)]] = Field(default_factory=list, max_length=40)


class RunIn(Strict):
    """What is to be commanded and recorded."""

    client_key: UUID
    command: str = Field("", max_length=80, description="Empty to record only.")
    routine: str = Field("", max_length=80, description="A routine in place of a command.")
    steps: list[StepIn] = Field(default_factory=list, max_length=40)
    channels: list[Annotated[str, Field(max_length=80)]] = Field(default_factory=list, max_length=40)
    meter: LoggedMeterIn | None = Field(None, description="Recorded as one more channel; alone it needs no vehicle interface.")
    seconds: float = Field(
        3.0, ge=0.0, le=600.0, allow_inf_nan=False, description="Recorded after the last step, or altogether without a command."
    )


class GoingQuery(BaseModel):
    """From which piece on."""

    first: int = Field(0, ge=0, le=4000)


class ChangeOut(BaseModel):
    """A position, from a time on."""

    at_s: float
    position: str


class HeadOut(BaseModel):
    """A channel that is recorded."""

    name: str
    unit: str


class GoingView(BaseModel):
    """A run as it stands, with what was recorded since."""

    run: RunView
    channels: list[HeadOut]
    t: list[float]
    rows: list[list[float | None]]
    lane: list[ChangeOut]
    next_piece: int


class HoldIn(Strict):
    """The page is still there."""

    number: int = Field(
        ge=1, le=1 << 53, description="Counts the signs of this page; one that comes after a later one is not heeded."
    )
    held: bool | None = Field(None, description="A finger holds the command; null where nothing is held.")


class WatchedView(BaseModel):
    """A part that answers the command, in a circuit that is being tested."""

    diagnosis_id: UUID
    part: str
    title: str


class WatchedList(BaseModel):
    """Parts that answer the command."""

    parts: list[WatchedView]


class CheckIn(Strict):
    """What was noticed counts as a functional check of this part."""

    client_key: UUID
    diagnosis_id: UUID
    part: str = Field(min_length=1, max_length=80)


class Counted(BaseModel):
    """The reading was recorded."""

    diagnosis_id: UUID
    added: bool


class FoundIn(Strict):
    """What a person noticed that it did."""

    found: str = Field(min_length=1, max_length=200)
