"""Vehicles that have been here, and the vehicle models whose circuits are known."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.app.computed import by_slug
from sondar.circuit_files import load_vehicle_text
from sondar.core.errors import NotFoundError, invalid
from sondar.store import circuits as circuit_store
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
        found = store.newest_models(db)
    return ModelList(models=[ModelView(make=m.make, model=m.model, title=m.title) for m in found]).model_dump(mode="json")


@api.post("/vehicle-models", responses={"201": ModelView})
def load_model(body: ModelText) -> Any:
    """Check a vehicle file against the stored circuits and store it."""
    document, work = load_vehicle_text(body.text), workspace()
    with work.transaction() as db:
        versions = by_slug(circuit_store.newest_circuits(db))
        missing = [slug for slug in document.circuits if slug not in versions]
        if missing:
            raise invalid("text", f"circuits: load these circuit files first: {', '.join(missing)}")
        model = store.model_by_id(db, store.save_model(db, document, body.text))
        assert model is not None
        work.computed.triage_model(model, versions)  # the circuits must join: an error here stores nothing
    return ModelView(make=document.vehicle.make, model=document.vehicle.model, title=document.title).model_dump(), 201
