"""Circuits: list, check and load a file, show one with its drawing."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.app.workspace import known_version
from sondar.store import circuits as store
from sondar.store import people
from sondar.web.circuits import present
from sondar.web.circuits.models import CircuitDetail, CircuitList, CircuitPath, CircuitSummary, CircuitText, VersionList
from sondar.web.common import as_json
from sondar.web.context import workspace
from sondar.web.problems import ProblemDetails

api = APIBlueprint(
    "circuits",
    __name__,
    url_prefix="/api/v1",
    abp_tags=[Tag(name="circuits")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "422": ProblemDetails},
)


@api.get("/circuits", responses={"200": CircuitList})
def list_circuits() -> Any:
    """Newest version of every circuit."""
    work = workspace()
    with work.transaction() as db:
        shown = people.workshop(db).show_examples
        found = [version for version in store.newest_circuits(db) if shown or not version.example]
    return as_json(work.compute("circuits", present.listed, found))


@api.post("/circuits", responses={"201": CircuitSummary})
def load_circuit(body: CircuitText) -> Any:
    """Check a circuit file and store it as a new version; the same text again is the same version."""
    work = workspace()
    document = work.compute("circuits", present.checked, body.text)
    with work.transaction() as db:
        version = store.save_circuit(db, document, body.text)
    return as_json(work.compute("circuits", present.stored, version), 201)


@api.get("/circuits/<uuid:version_id>", responses={"200": CircuitDetail, "404": ProblemDetails})
def show_circuit(path: CircuitPath) -> Any:
    """One version with its drawing, points, connectors and controls."""
    work = workspace()
    with work.transaction() as db:
        version = known_version(db, path.version_id)
    return as_json(work.compute(version.id, present.detailed, version))


@api.get("/circuits/<uuid:version_id>/versions", responses={"200": VersionList, "404": ProblemDetails})
def list_versions(path: CircuitPath) -> Any:
    """Every version of this circuit, the newest first, with what changed from one to the next."""
    work = workspace()
    with work.transaction() as db:
        known_version(db, path.version_id)
        found = store.versions_of(db, path.version_id)
    return as_json(work.compute("circuits", present.compared, found))
