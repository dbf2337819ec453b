"""Requests and responses about what becomes known of a circuit: figures, limits, and what is in a wire."""

from __future__ import annotations

from typing import Literal
from uuid import UUID

from pydantic import BaseModel, Field

from sondar.core.limits.document import Source
from sondar.web.common import Strict, TestIn


class KnownView(BaseModel):
    """One thing of a circuit that may be filled in."""

    kind: Literal["part", "wire", "connector"]
    id: str
    of: str = Field(description="What it belongs to, in words.")
    field: str
    label: str
    unit: str
    value: str
    open: bool = Field(description="Only a range is known, typical for the kind.")


class KnownList(BaseModel):
    """Everything that may be filled in, figures that are only ranges in front."""

    known: list[KnownView]


class FillIn(Strict):
    """One thing that has become known."""

    kind: Literal["part", "wire", "connector", "variant"]
    id: str = Field(min_length=1, max_length=60)
    field: str = Field(min_length=1, max_length=40)
    value: str = Field(max_length=200, description="A figure, a range such as '7 to 8', or words; empty takes it away.")


class FillsIn(Strict):
    """What has become known of a circuit."""

    client_key: UUID
    changes: list[FillIn] = Field(min_length=1, max_length=100)


class LimitIn(Strict):
    """A limit as it is entered for a test."""

    id: str = Field("", max_length=60, description="Of the limit that it takes the place of; empty for a new one.")
    title: str = Field(min_length=1, max_length=120)
    test: TestIn
    least: str = Field("", max_length=30, description="With its unit, such as '70 Ω'; least or most may be empty.")
    most: str = Field("", max_length=30)
    word: str = Field("", max_length=60, description="What a finding must say, in place of figures.")
    typical: str = Field("", max_length=30)
    copper_at_c: float | None = Field(None, ge=-60.0, le=300.0, description="The figures of a winding hold at this temperature.")
    source: Source
    note: str = Field("", max_length=300, description="Where the figure stands: book, page, sheet.")


class LimitSet(Strict):
    """A limit to be kept."""

    client_key: UUID
    limit: LimitIn


class LimitPath(BaseModel):
    """Path of a limit of the circuit of a diagnosis."""

    diagnosis_id: UUID
    limit_id: str


class KeyQuery(Strict):
    """A key that makes a repeat harmless."""

    client_key: UUID


class InsertionIn(Strict):
    """A connector, fuse or joint that is in a wire of the vehicle and not on the drawing."""

    client_key: UUID
    wire: str = Field(min_length=1, max_length=60)
    what: Literal["connector", "fuse", "joint"]
    name: str = Field(
        "", max_length=30, description="Its designation; a connector on the way that is there already gets one more cavity."
    )
    title: str = Field("", max_length=80)
    place: str = Field("", max_length=80)
    cavity: str = Field("", max_length=12, pattern=r"^[A-Za-z0-9_-]*$")
    rating_a: float | None = Field(None, gt=0.0, le=500.0)
