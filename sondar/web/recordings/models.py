"""Requests and responses about recordings."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal
from uuid import UUID

from flask_openapi3 import FileStorage
from pydantic import BaseModel, Field

from sondar.web.common import Strict

Seconds = Annotated[float, Field(ge=-1e9, le=1e9, allow_inf_nan=False)]


class RecordingPath(BaseModel):
    """Path of a recording."""

    recording_id: UUID


class PiecePath(RecordingPath):
    """Path of a piece of its file."""

    number: int = Field(ge=0, le=4000)


class RecordingIn(Strict):
    """A file that is about to come."""

    client_key: UUID
    name: str = Field(min_length=1, max_length=200, description="Name of the file, or of what was recorded.")
    bytes: int = Field(ge=1, description="Length of the file.")


Figure = Annotated[float, Field(ge=-1e12, le=1e12, allow_inf_nan=False)]


class TypedChannelIn(Strict):
    """What was read off a display without recording it; what was not read is left out."""

    name: str = Field(min_length=1, max_length=120)
    unit: str = Field("", max_length=20)
    rest: Figure | None = None
    least: Figure | None = None
    greatest: Figure | None = None
    command_off: Figure | None = None
    command_on: Figure | None = None


class TypedIn(Strict):
    """Figures read off a display, kept as a recording."""

    client_key: UUID
    name: str = Field(min_length=1, max_length=200)
    channels: list[TypedChannelIn] = Field(min_length=1, max_length=12)
    command: str = Field("", max_length=80, description="What was commanded; empty for nothing.")
    off: str = Field("off", min_length=1, max_length=40)
    on: str = Field("on", min_length=1, max_length=40)


class PieceForm(BaseModel):
    """A piece of a file, 2 MiB long but for the last."""

    piece: FileStorage


class ColumnIn(Strict):
    """One column of a table."""

    at: int = Field(ge=0, le=400)
    name: str = Field(max_length=120)
    unit: str = Field("", max_length=40)
    kind: Literal["time", "number", "words", "left out"] = "number"
    role: Literal["signal", "command", "feedback", "supply", "reference", "counter"] = "signal"
    time_form: Literal["s", "ms", "us", "min", "clock", "date"] = "s"


class MappingIn(Strict):
    """How a table is to be read."""

    encoding: Literal["utf-8", "utf-16", "cp1252"] = "utf-8"
    delimiter: Literal["\t", ";", ",", "|", " "]
    decimal: Literal[".", ","]
    head: int = Field(ge=0, le=400, description="Lines before the first row of figures.")
    columns: list[ColumnIn] = Field(min_length=1, max_length=200)
    rate_hz: float = Field(0.0, ge=0.0, le=1e7, description="Samples a second, where no column is a time.")


class ReadIn(Strict):
    """Reads a file; without a mapping as it seems to be (MDF files need none)."""

    mapping: MappingIn | None = None


class RecordingView(BaseModel):
    """A recording without its samples."""

    id: UUID
    job_id: UUID
    name: str
    source: str
    bytes: int
    arrived: int = Field(description="Bytes of the file that are here.")
    state: Literal["arriving", "reading", "ready", "failed", "left"]
    problem: str
    notes: list[str]
    began_at: datetime | None
    start_s: float
    end_s: float
    samples: int
    created_at: datetime
    by: str | None


class RecordingList(BaseModel):
    """Recordings of a job."""

    recordings: list[RecordingView]
    piece_bytes: int


class Missing(BaseModel):
    """Pieces of a file that are not here yet."""

    pieces: list[int]


class FilePreview(BaseModel):
    """What a file seems to be."""

    form: Literal["table", "MDF 4"]
    mapping: MappingIn | None
    rows: list[list[str]]
    doubts: list[str]
    remembered: bool = Field(description="The mapping is that of the last file from the same source.")


class ChannelView(BaseModel):
    """A channel."""

    number: int
    name: str
    unit: str
    role: str
    samples: int
    least: float
    greatest: float
    sample_s: float
    tie: dict[str, Any] | None = Field(description="What it measures, in which circuit diagnosis.")


class ChangeView(BaseModel):
    """A position, from a time on."""

    at_s: float
    position: str


class LaneView(BaseModel):
    """A command or status word over time."""

    name: str
    changes: list[ChangeView]
    tie: dict[str, Any] | None = Field(description="Which control it is, and its positions.")


class MarkView(BaseModel):
    """A mark."""

    at_s: float
    text: str
    by: str | None


class GoodOne(BaseModel):
    """A recording of another vehicle of the make and model that was in order."""

    id: UUID
    name: str
    said: str


class KnownGoodIn(Strict):
    """Under which conditions a recording is of a vehicle in order."""

    said: str = Field(max_length=200, description="Empty takes it back.")


class OpenedRecording(BaseModel):
    """A recording with everything but its samples."""

    known_good: str = Field(description="Conditions under which it is of a vehicle in order; empty if nobody said so.")
    good_ones: list[GoodOne]

    recording: RecordingView
    channels: list[ChannelView]
    lanes: list[LaneView]
    marks: list[MarkView]


class DrawnQuery(BaseModel):
    """A stretch to draw."""

    start_s: Seconds
    end_s: Seconds
    columns: int = Field(1000, ge=10, le=4000)
    channels: str = Field("", max_length=900, description="Numbers of channels, separated by commas; empty for none.")


class LineView(BaseModel):
    """A stretch of a channel: times, least and greatest figure of each group of samples."""

    channel: int
    t: list[float]
    least: list[float]
    greatest: list[float]


class Drawn(BaseModel):
    """Channels over a stretch."""

    lines: list[LineView]


class FeaturesQuery(BaseModel):
    """A stretch to read off."""

    start_s: Seconds
    end_s: Seconds
    channel: int = Field(ge=0)
    other: int | None = Field(None, ge=0, description="A channel to hold it against.")


class PairsQuery(BaseModel):
    """Two channels to be drawn over each other."""

    start_s: Seconds
    end_s: Seconds
    channel: int = Field(ge=0)
    other: int = Field(ge=0)


class Pairs(BaseModel):
    """Figures of two channels at the same moments; empty if they share none."""

    t: list[float]
    first: list[float]
    second: list[float]


class PositionView(BaseModel):
    """Position of a lane."""

    lane: str
    position: str


class FeatureView(BaseModel):
    """One thing read off a channel, with its 95 % interval."""

    kind: str
    title: str
    shown: str
    channel: str
    other: str
    start_s: float
    end_s: float
    value: float | None
    sd: float | None
    unit: str
    word: str
    positions: list[PositionView]


class PlausibilityQuery(BaseModel):
    """A stretch whose channels are held against each other."""

    start_s: Seconds
    end_s: Seconds
    displacement_l: float | None = Field(None, ge=0.02, le=30.0, description="Of the engine, in litres; else what the job knows.")


class CheckView(BaseModel):
    """What one law says of a recording."""

    id: str
    title: str
    verdict: Literal["agrees", "differs", "not told"]
    words: str
    because: str
    channels: list[str]
    start_s: float
    end_s: float


class PlausibilityView(BaseModel):
    """What physics asks of several channels at once; nothing of it is evidence."""

    displacement_l: float | None = Field(description="What was used.")
    known: bool = Field(description="The job knew it.")
    checks: list[CheckView]


class Features(BaseModel):
    """What a stretch offers."""

    features: list[FeatureView]


class MarkIn(Strict):
    """A mark."""

    client_key: UUID
    at_s: Seconds
    text: str = Field(min_length=1, max_length=500)


class ChannelTieIn(Strict):
    """What a channel measures."""

    name: str = Field(min_length=1, max_length=200)
    diagnosis_id: UUID
    instrument: str = Field(max_length=60)
    red: str = Field(max_length=80)
    black: str = Field(max_length=80)
    controls: dict[str, str] = Field(
        default_factory=dict, max_length=40, description="Where the controls stood meanwhile that no lane is tied to."
    )


class LaneTieIn(Strict):
    """Which control a lane is."""

    name: str = Field(min_length=1, max_length=200)
    control: str = Field(min_length=1, max_length=80)
    positions: dict[str, str] = Field(max_length=60, description="Position of the lane -> position of the control.")


class EvidenceIn(Strict):
    """A feature that counts as a reading: a level, or how a response to a command follows."""

    client_key: UUID
    kind: Literal["level", "dead", "lag", "no movement"] = "level"
    channel: int = Field(ge=0)
    start_s: Seconds
    end_s: Seconds
    controls: dict[str, str] = Field(default_factory=dict, max_length=40, description="Of the set-up, where no lane says them.")
    unplugged: list[str] = Field(default_factory=list, max_length=40)


class Used(BaseModel):
    """The reading was recorded in this circuit diagnosis."""

    diagnosis_id: UUID
    added: bool


class ExportQuery(BaseModel):
    """Form of the file."""

    form: Literal["csv", "mf4"] = "csv"
