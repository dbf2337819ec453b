"""Requests and responses about vehicles and the models whose circuits are known."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated
from uuid import UUID

from pydantic import BaseModel, Field, StringConstraints

from sondar.core.wording.switching_on import Starting
from sondar.web.common import Strict


class VehicleIn(Strict):
    """A vehicle at check-in."""

    make: str = Field(min_length=1, max_length=60)
    model: str = Field("", max_length=60)
    year: int | None = Field(None, ge=1950, le=2100)
    plate: str = Field("", max_length=20)
    mileage_km: int | None = Field(None, ge=0, le=5_000_000)
    engine: str = Field("", max_length=60)
    vin: str = Field("", max_length=17)
    starting: Starting = Field("", description="How it is switched on; empty where nobody has said.")


class VehicleView(VehicleIn):
    """A vehicle that has been here."""

    id: UUID
    jobs: int
    last_seen: datetime | None


class PlateQuery(BaseModel):
    """A plate, spaces and dashes aside."""

    plate: str = Field(min_length=1, max_length=20)


class VehicleList(BaseModel):
    """Vehicles found."""

    vehicles: list[VehicleView]


class VehiclePath(BaseModel):
    """Path of a vehicle."""

    vehicle_id: UUID


class ModelView(BaseModel):
    """A vehicle model whose circuits are known."""

    slug: str
    make: str
    model: str
    title: str
    example: bool = Field(description="Comes with Sondar and is of an invented make.")


class ModelList(BaseModel):
    """Vehicle models whose circuits are known."""

    models: list[ModelView]


class ModelText(Strict):
    """A vehicle file."""

    text: str = Field(max_length=600_000)


class ModelPath(BaseModel):
    """Path of a vehicle model."""

    slug: str


class ModelCircuit(BaseModel):
    """A circuit of a vehicle model."""

    slug: str
    title: str
    version_id: UUID


class ModelDetail(ModelView):
    """A vehicle model with its file and its circuits as they are now."""

    text: str
    circuits: list[ModelCircuit]


Slug = Annotated[str, StringConstraints(min_length=1, max_length=160)]
CodeText = Annotated[str, StringConstraints(pattern=r"^[PCBU][0-9A-F]{4}$")]
SymptomText = Annotated[str, StringConstraints(min_length=2, max_length=80, strip_whitespace=True)]


class GatherIn(Strict):
    """Circuits that are to be one vehicle."""

    make: str = Field(min_length=1, max_length=60)
    model: str = Field(min_length=1, max_length=60)
    years: str = Field("", max_length=20, pattern=r"^(\d{4}([-–]\d{4})?)?$")
    circuits: list[Slug] = Field(min_length=1, max_length=60)
    same: dict[Slug, bool] = Field(
        default_factory=dict, max_length=400, description="Name -> whether it is one thing wherever it stands."
    )
    codes: dict[Slug, Annotated[list[CodeText], Field(max_length=40)]] = Field(
        default_factory=dict, max_length=60, description="Circuit -> codes tied to it."
    )
    symptoms: dict[Slug, Annotated[list[SymptomText], Field(max_length=20)]] = Field(
        default_factory=dict, max_length=60, description="Circuit -> symptoms."
    )


class QuestionView(BaseModel):
    """A name that stands in several circuits: the same thing, or two?"""

    id: str
    title: str
    circuits: list[str]
    same: bool
    why: str


class TieView(BaseModel):
    """A code that is tied to a circuit, or may be."""

    code: str
    meaning: str


class GatheredCircuit(BaseModel):
    """A circuit of the vehicle, and how well it is known."""

    slug: str
    title: str
    known: int = Field(description="Figures that somebody said of this vehicle.")
    typical: int = Field(description="Figures that are typical for the kind.")
    open: int = Field(description="Ways in which it may be built that only readings tell.")
    codes: list[TieView]
    likely: list[TieView]
    symptoms: list[str]


class GatherView(BaseModel):
    """A vehicle as it would be kept."""

    questions: list[QuestionView]
    shared: list[str] = Field(description="What stands in more than one circuit.")
    differs: list[str]
    problems: list[str]
    circuits: list[GatheredCircuit]
