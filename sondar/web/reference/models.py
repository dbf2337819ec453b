"""Requests and responses about generic codes and typical circuits."""

from __future__ import annotations

from typing import Literal
from uuid import UUID

from pydantic import BaseModel, Field

from sondar.web.common import Strict


class CodeQuery(Strict):
    """Search of codes."""

    q: str = Field(min_length=1, max_length=200, description="A number as people say it, or words.")


class GenericCodePath(Strict):
    """Path of a code's page."""

    code: str = Field(pattern=r"^[PCBU][0-3][0-9A-F]{3}$")


class CodeFound(BaseModel):
    """A code as it was understood."""

    code: str
    failure_type: str | None
    failure_words: str
    as_said: bool = Field(description="False if something was filled in: to be confirmed.")
    held: bool
    meaning: str
    kind: str
    why_not: str


class CodesFound(BaseModel):
    """Codes by number or by words."""

    codes: list[CodeFound]


class OtherCode(BaseModel):
    """A code that belongs beside another."""

    code: str
    meaning: str


class CodePage(BaseModel):
    """All that is known of a generic code."""

    code: str
    held: bool
    why_not: str
    danger: str
    meaning: str
    kind: str
    sets: str
    not_said: str
    electrically: str
    looks: list[str]
    companions: list[OtherCode]
    mistaken_for: list[OtherCode]
    circuit: str = Field(description="Title of the typical circuit; empty if there is none.")


class TemplateQuery(Strict):
    """Which typical circuits."""

    said: str = Field("", max_length=200, description="The part as somebody calls it.")
    code: str = Field("", max_length=8)
    wires: int | None = Field(None, ge=1, le=12, description="Wires at the plug, if they have been counted.")


class FigureView(BaseModel):
    """A figure of a kind of part that a sheet may give: ``place`` is part.field."""

    place: str
    label: str
    unit: str
    value: str


class TemplateView(BaseModel):
    """A typical circuit."""

    id: str
    title: str
    wires: int
    carries: list[str]
    figures: list[FigureView] = Field(description="What a sheet may say of its parts.")
    fed: bool = Field(description="It is supplied from a fuse, not by its module.")
    relay: bool
    coded_lines: int = Field(description="Lines of a coded switch; 0 if it is none.")


class TemplateList(BaseModel):
    """Typical circuits, the likeliest first."""

    templates: list[TemplateView]
    part: str = Field(description="The part that the code is about; empty without one.")


class TypicalIn(Strict):
    """Begin to test a typical circuit."""

    client_key: UUID
    template: str = Field(min_length=1, max_length=60)
    name: str = Field("", max_length=60, description="What the part is called on this vehicle.")
    code: str = Field("", max_length=8, description="The code that led to it.")
    order: list[int] = Field(
        default_factory=list,
        max_length=12,
        description="For each cavity of the plug, which of the template it is; its own order if left out.",
    )


class WireReadingIn(Strict):
    """A voltage at a cavity of the plug, harness side, against battery minus."""

    cavity: int = Field(ge=1, le=6)
    kind: Literal["off", "on", "load", "up", "joined"]
    entry: str = Field(min_length=1, max_length=40, description="As typed; 'unstable' for a meter that floats.")


class WiresIn(Strict):
    """An unlabelled plug and what has been read at it."""

    wires: int = Field(ge=2, le=6)
    readings: list[WireReadingIn] = Field(default_factory=list, max_length=48)
    code: str = Field("", max_length=8)
    said: str = Field("", max_length=60)


class CarriesView(BaseModel):
    """What a cavity may carry."""

    carries: str
    probability: float


class AskedView(BaseModel):
    """The reading that would tell most next."""

    cavity: int
    kind: str
    title: str


class WiresView(BaseModel):
    """What the cavities carry, as far as it is known."""

    cavities: list[list[CarriesView]]
    certainty: float
    certain: bool
    template: str
    title: str
    order: list[int]
    asked: AskedView | None
    kinds: dict[str, str] = Field(description="Ways of looking at a cavity, by id.")
