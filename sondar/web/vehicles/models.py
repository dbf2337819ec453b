"""Requests and responses about vehicles and the models whose circuits are known."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from pydantic import BaseModel, Field

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
