"""Vehicles that have been here, and the vehicle models whose circuits are known."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.app import models
from sondar.app.computed import by_slug
from sondar.core.errors import NotFoundError, invalid
from sondar.store import circuits as circuit_store
from sondar.store import people
from sondar.store import vehicles as store
from sondar.web.context import workspace
from sondar.web.problems import ProblemDetails
from sondar.web.vehicles.models import ModelList, ModelText, ModelView, PlateQuery, VehicleList, VehiclePath, VehicleView

api = APIBlueprint(
    "vehicles", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="vehicles")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


@api.get("/vehicles", responses={"200": VehicleList})
def find_vehicles(query: PlateQuery) -> Any:
    """Vehicles that have been here under this plate."""
    with workspace().transaction() as db:
        found = store.vehicles_by_plate(db, query.plate)
    return VehicleList(vehicles=[VehicleView.model_validate(v.__dict__) for v in found]).model_dump(mode="json")


@api.get("/vehicles/<uuid:vehicle_id>", responses={"200": VehicleView})
def show_vehicle(path: VehiclePath) -> Any:
    """One vehicle."""
    with workspace().transaction() as db:
        found = store.vehicle_by_id(db, path.vehicle_id)
    if found is None:
        raise NotFoundError("No such vehicle", f"no vehicle {path.vehicle_id}")
    return VehicleView.model_validate(found.__dict__).model_dump(mode="json")


@api.get("/vehicle-models", responses={"200": ModelList})
def list_models() -> Any:
    """Vehicle models whose circuits are known."""
    with workspace().transaction() as db:
        shown = people.workshop(db).show_examples
        found = [model for model in store.newest_models(db) if shown or not model.example]
    return ModelList(models=[ModelView(make=m.make, model=m.model, title=m.title, example=m.example) for m in found]).model_dump(
        mode="json"
    )


@api.post("/vehicle-models", responses={"201": ModelView})
def load_model(body: ModelText) -> Any:
    """Check a vehicle file against the stored circuits and store it."""
    work = workspace()
    document = work.compute("vehicles", models.checked, body.text)
    with work.transaction() as db:
        versions = by_slug(circuit_store.newest_circuits(db, document.circuits))
    missing = [slug for slug in document.circuits if slug not in versions]
    if missing:
        raise invalid("text", f"circuits: load these circuit files first: {', '.join(missing)}")
    work.compute("vehicles", models.joined, document, versions)  # an error here stores nothing
    with work.transaction() as db:
        store.save_model(db, document, body.text)
    return ModelView(
        make=document.vehicle.make, model=document.vehicle.model, title=document.title, example=False
    ).model_dump(), 201
