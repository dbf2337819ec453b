"""Vehicles, and the vehicle models whose circuits are known."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from psycopg import sql
from psycopg.rows import class_row

from sondar.core.circuit.vehicle import VehicleDocument, years_of
from sondar.store.database import Db


@dataclass(frozen=True)
class NewVehicle:
    """What is known of a vehicle at check-in."""

    make: str
    model: str = ""
    year: int | None = None
    plate: str = ""
    mileage_km: int | None = None
    engine: str = ""
    vin: str = ""
    starting: str = ""


@dataclass(frozen=True, kw_only=True)
class Vehicle(NewVehicle):
    """A vehicle that has been here, with the mileage seen last and how often it came."""

    id: UUID
    jobs: int
    last_seen: datetime | None


@dataclass(frozen=True)
class VehicleModel:
    """A vehicle model's circuits: one version of its file."""

    id: UUID
    slug: str
    version: int
    make: str
    model: str
    title: str
    source_text: str
    example: bool = False


_VEHICLE = """
    SELECT v.id, v.make, v.model, v.year, v.plate, v.mileage_km, v.engine, v.vin, v.starting,
           (SELECT count(*) FROM job j WHERE j.vehicle_id = v.id)::int AS jobs,
           (SELECT max(created_at) FROM job j WHERE j.vehicle_id = v.id) AS last_seen
    FROM vehicle v
"""
_MODEL = "id, slug, version, make, model, title, source_text, workshop_id IS NULL AS example"


def create_vehicle(db: Db, vehicle: NewVehicle) -> UUID:
    """Store a vehicle seen for the first time."""
    row = db.execute(
        """
        INSERT INTO vehicle (make, model, year, plate, mileage_km, engine, vin, starting)
        VALUES (%(make)s, %(model)s, %(year)s, %(plate)s, %(mileage_km)s, %(engine)s, %(vin)s, %(starting)s) RETURNING id
        """,
        vehicle.__dict__,
    ).fetchone()
    assert row is not None
    return UUID(str(row[0]))


def vehicle_by_id(db: Db, vehicle_id: UUID) -> Vehicle | None:
    """One vehicle."""
    with db.cursor(row_factory=class_row(Vehicle)) as cursor:
        return cursor.execute(_VEHICLE + " WHERE v.id = %s", (vehicle_id,)).fetchone()


def vehicles_by_plate(db: Db, plate: str) -> list[Vehicle]:
    """Vehicles whose plate is this one, spaces and dashes aside; newest first."""
    key = "".join(c for c in plate.upper() if c.isascii() and c.isalnum())
    if not key:
        return []
    with db.cursor(row_factory=class_row(Vehicle)) as cursor:
        return cursor.execute(_VEHICLE + " WHERE v.plate_key = %s ORDER BY last_seen DESC NULLS LAST LIMIT 10", (key,)).fetchall()


def change_vehicle(db: Db, vehicle_id: UUID, field: str, value: str | int | None) -> None:
    """A better-known fact about a vehicle; the job's answers keep who said so and when."""
    assert field in ("make", "model", "year", "plate", "mileage_km", "engine", "vin", "starting")
    db.execute(sql.SQL("UPDATE vehicle SET {} = %s WHERE id = %s").format(sql.Identifier(field)), (value, vehicle_id))


# -- models ---------------------------------------------------------------------------------------------


def save_model(db: Db, document: VehicleDocument, text: str) -> UUID:
    """Store a checked vehicle document; the same text again is the same version, another text the next one."""
    digest = hashlib.sha256(text.encode()).hexdigest()
    years = years_of(document.vehicle.years) or (None, None)
    db.execute(
        """
        INSERT INTO vehicle_model (slug, version, make, model, first_year, last_year, title, source_text, sha256)
        SELECT %(slug)s, coalesce(max(version), 0) + 1, %(make)s, %(model)s, %(first)s, %(last)s, %(title)s, %(text)s, %(digest)s
        FROM vehicle_model WHERE slug = %(slug)s AND workshop_id IS NOT DISTINCT FROM current_workshop()
        ON CONFLICT DO NOTHING
        """,
        {"slug": document.id, "make": document.vehicle.make, "model": document.vehicle.model, "first": years[0], "last": years[1],
         "title": document.title, "text": text, "digest": digest},
    )  # fmt: skip
    row = db.execute(
        "SELECT id FROM vehicle_model WHERE slug = %s AND sha256 = %s AND workshop_id IS NOT DISTINCT FROM current_workshop()",
        (document.id, digest),
    ).fetchone()
    assert row is not None
    return UUID(str(row[0]))


def newest_models(db: Db) -> list[VehicleModel]:
    """The newest version of every model; the workshop's own before the library's of the same name."""
    with db.cursor(row_factory=class_row(VehicleModel)) as cursor:
        return cursor.execute(
            """
            SELECT """
            + _MODEL
            + """ FROM (
                SELECT DISTINCT ON (slug) * FROM vehicle_model ORDER BY slug, (workshop_id IS NULL), version DESC
            ) newest ORDER BY title
            """
        ).fetchall()


def model_for(db: Db, make: str, model: str, year: int | None) -> UUID | None:
    """The newest circuits that fit a vehicle by make, model and year (if known)."""
    row = db.execute(
        """
        SELECT id FROM vehicle_model
        WHERE lower(make) = lower(%(make)s) AND lower(model) = lower(%(model)s)
          AND (%(year)s::int IS NULL OR first_year IS NULL OR %(year)s BETWEEN first_year AND last_year)
        ORDER BY (workshop_id IS NULL), version DESC LIMIT 1
        """,
        {"make": make.strip(), "model": model.strip(), "year": year},
    ).fetchone()
    return None if row is None else UUID(str(row[0]))


def adopt_model(db: Db, model_id: UUID) -> int:
    """Let open jobs on vehicles of its make, model and years work with a model; number of jobs that do now and did not before."""
    return db.execute(
        """
        UPDATE job SET vehicle_model_id = m.id FROM vehicle v, vehicle_model m
        WHERE m.id = %s AND v.id = job.vehicle_id AND lower(v.make) = lower(m.make) AND lower(v.model) = lower(m.model)
          AND (v.year IS NULL OR m.first_year IS NULL OR v.year BETWEEN m.first_year AND m.last_year)
          AND job.stage <> 'closed' AND job.vehicle_model_id IS DISTINCT FROM m.id
        """,
        (model_id,),
    ).rowcount


def model_by_id(db: Db, model_id: UUID) -> VehicleModel | None:
    """One version of a model."""
    with db.cursor(row_factory=class_row(VehicleModel)) as cursor:
        return cursor.execute("SELECT " + _MODEL + " FROM vehicle_model WHERE id = %s", (model_id,)).fetchone()
