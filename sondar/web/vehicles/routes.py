"""Vehicles that have been here, and the vehicle models whose circuits are known."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.app import gathering, models
from sondar.app.computed import by_slug
from sondar.core.errors import NotFoundError, invalid
from sondar.store import circuits as circuit_store
from sondar.store import people
from sondar.store import vehicles as store
from sondar.web.context import workspace
from sondar.web.problems import ProblemDetails
from sondar.web.vehicles.models import (
    GatheredCircuit,
    GatherIn,
    GatherView,
    ModelCircuit,
    ModelDetail,
    ModelList,
    ModelPath,
    ModelText,
    ModelView,
    PlateQuery,
    QuestionView,
    TieView,
    VehicleList,
    VehiclePath,
    VehicleView,
)

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
    return ModelList(
        models=[ModelView(slug=m.slug, make=m.make, model=m.model, title=m.title, example=m.example) for m in found]
    ).model_dump(mode="json")


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
        slug=document.id, make=document.vehicle.make, model=document.vehicle.model, title=document.title, example=False
    ).model_dump(), 201


@api.get("/vehicle-models/<string:slug>", responses={"200": ModelDetail})
def show_model(path: ModelPath) -> Any:
    """A vehicle model with its file, and its circuits as they are now."""
    found, versions = gathering.model_text(workspace(), path.slug)
    return ModelDetail(
        slug=found.slug, make=found.make, model=found.model, title=found.title, example=found.example, text=found.source_text,
        circuits=[ModelCircuit(slug=one.slug, title=one.title, version_id=one.id) for one in versions],
    ).model_dump(mode="json")  # fmt: skip


def _wanted(body: GatherIn) -> gathering.Wanted:
    return gathering.Wanted(
        body.make.strip(), body.model.strip(), tuple(dict.fromkeys(body.circuits)), body.years, body.same, body.codes, body.symptoms
    )


@api.post("/vehicle-models/preview", responses={"200": GatherView})
def preview_vehicle(body: GatherIn) -> Any:
    """What a vehicle of these circuits would be: what they share, what is not clear, how well each is known. Nothing is kept."""
    found = gathering.preview(workspace(), _wanted(body))
    return GatherView(
        questions=[QuestionView(id=q.id, title=q.title, circuits=list(q.circuits), same=q.same, why=q.why) for q in found.found.questions],
        shared=sorted(set(found.found.shared.values()) - {"Wire"}), differs=found.found.differs, problems=list(found.problems),
        circuits=[
            GatheredCircuit(
                slug=one.slug, title=one.title, known=one.known, typical=one.typical, open=one.open,
                codes=[TieView(code=code, meaning=title) for code, title in one.codes],
                likely=[TieView(code=code, meaning=meaning) for code, meaning in one.likely], symptoms=list(one.symptoms),
            )
            for one in found.circuits
        ],
    ).model_dump(mode="json")  # fmt: skip


@api.post("/vehicle-models/gathered", responses={"201": ModelView})
def keep_vehicle(body: GatherIn) -> Any:
    """Keep these circuits as one vehicle; open jobs of its make and model go on with it."""
    kept = gathering.keep(workspace(), _wanted(body))
    return ModelView(slug=kept.slug, make=kept.make, model=kept.model, title=kept.title, example=False).model_dump(mode="json"), 201
