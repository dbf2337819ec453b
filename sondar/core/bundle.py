"""The file of a job bundle: everything of a job in open forms, to be taken to another workshop or kept beside the vehicle.

A zip file with ``manifest.json`` (SHA-256 of every other file), ``job.json`` (this), ``readings.csv``, ``circuits/*.yaml``, ``photos/*`` and
``recordings/*.csv``.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from sondar.core.wording.switching_on import Starting

MOST_ROWS = 20_000


class BundleVehicle(BaseModel):
    """The vehicle, as it was known."""

    model_config = ConfigDict(extra="forbid")

    make: str = Field(min_length=1, max_length=60)
    model: str = Field("", max_length=60)
    year: int | None = Field(None, ge=1950, le=2100)
    plate: str = Field("", max_length=20)
    mileage_km: int | None = Field(None, ge=0, le=5_000_000)
    engine: str = Field("", max_length=60)
    vin: str = Field("", max_length=17)
    starting: Starting = Field("", description="How it is switched on; empty where nobody has said.")


class BundleHead(BaseModel):
    """The job's own fields."""

    model_config = ConfigDict(extra="forbid")

    client_key: str = Field(pattern=r"^[0-9a-f-]{36}$")
    number: int = Field(description="In the workshop that it comes from.")
    complaint: str = Field(max_length=2000)
    codes: str = Field(max_length=200)
    temperature_c: float = Field(ge=-50, le=90)
    stage: str = Field(max_length=40)
    last_seq: int = Field(ge=0, le=1_000_000)
    created_at: str = Field(max_length=40)
    vehicle: BundleVehicle


class Bundle(BaseModel):
    """Everything of a job. Format version 1."""

    model_config = ConfigDict(extra="forbid")

    sondar_bundle: Literal[1] = Field(description="Version of this format.")
    engine: str = Field("", max_length=40, description="Engine that judged it last.")
    workshop: str = Field("", max_length=200, description="Where it comes from.")
    job: BundleHead
    rows: dict[str, Annotated[list[dict[str, Any]], Field(max_length=MOST_ROWS)]] = Field(
        description="Rows by kind, in the order of their sequence numbers; ``by`` is the name of who wrote one."
    )
    circuits: dict[str, str] = Field(description="Id of a circuit version -> its file in the bundle.")
    photos: dict[str, str] = Field(
        default_factory=dict, description="Id of a photograph -> its file; the thumbnail beside it ends in -small.jpg."
    )
    recordings: dict[str, str] = Field(default_factory=dict, description="Id of a recording -> its file.")
