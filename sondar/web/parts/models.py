"""Requests and responses about kinds of parts and the parts of a vehicle."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

from sondar.core.part_kinds import Interval
from sondar.web.common import Strict


class PartsQuery(Strict):
    """A name of a part, or a symptom."""

    said: str = Field("", max_length=120)


class PartKindView(BaseModel):
    """What is said of a kind of part."""

    id: str
    title: str
    words: list[str]
    does: str
    sits: str
    fails: str
    symptoms: list[str]
    do: str
    cleaned_with: str
    never: str
    effort: str
    minutes: int
    learn: str
    intervals: list[Interval]
    caution: str
    templates: list[str] = Field(description="Typical circuits that it stands in.")


class PartKindList(BaseModel):
    """Kinds of parts, the best first."""

    kinds: list[PartKindView]


class DueView(BaseModel):
    """An interval of a vehicle that has ended or is about to."""

    key: str = Field(description="What is kept under the answer ``intervals_done``.")
    kind: str
    do: str
    state: Literal["due", "coming"]
    said: str


class VehiclePartView(BaseModel):
    """A part of a vehicle and its kind."""

    name: str
    kind: str
    title: str


class VehiclePartsView(BaseModel):
    """The parts of a vehicle whose kinds are known, and what is due on it."""

    parts: list[VehiclePartView]
    km: int | None
    due: list[DueView]
    done: list[str]
