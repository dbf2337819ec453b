"""Circuits: list, check and load a file, show one with its drawing."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.app.workspace import known_version
from sondar.circuit_files import former_names_in, load_circuit_text
from sondar.core.circuit.document.fields import behind
from sondar.core.circuit.drawing import draw
from sondar.core.circuit.network import Circuit
from sondar.core.instruments import INSTRUMENTS, looking_at
from sondar.core.limits.card import limits_card
from sondar.core.present.tests import instrument_view
from sondar.store import circuits as store
from sondar.web.circuits.models import (
    CavityModel,
    CircuitDetail,
    CircuitList,
    CircuitPath,
    CircuitSummary,
    CircuitText,
    CodeModel,
    ConnectorModel,
    ControlModel,
    PointModel,
    ServiceNoteModel,
    TargetModel,
)
from sondar.web.context import workspace
from sondar.web.problems import FieldProblemModel, ProblemDetails

api = APIBlueprint(
    "circuits",
    __name__,
    url_prefix="/api/v1",
    abp_tags=[Tag(name="circuits")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "422": ProblemDetails},
)


def _summary(version: store.CircuitVersion, circuit: Circuit) -> dict[str, Any]:
    return {
        "version_id": version.id, "slug": version.slug, "version": version.version, "title": version.title, "make": version.make,
        "about": circuit.document.about.strip(), "complaint": circuit.document.complaint, "synonyms": circuit.document.synonyms,
        "parts": len(circuit.document.parts), "points": len(circuit.points), "faults": len(circuit.faults),
    }  # fmt: skip


def _connector(circuit: Circuit, name: str) -> ConnectorModel:
    spec = circuit.document.connectors[name]
    ends = {end: wire for wire in circuit.document.wires.values() for end in (wire.from_, wire.to)}
    cavities = []
    for cavity, target in spec.cavities.items():
        wire, far = ends.get(f"{name}.{cavity}"), ends.get(f"{name}.{cavity}/c")
        if spec.inline:
            beyond = f"on to {far.to if far.from_ == f'{name}.{cavity}/c' else far.from_}" if far else ""
        else:
            owners = dict.fromkeys(ref.split(".")[0] for ref in behind(target))
            beyond = ", ".join(circuit.parts[owner].title or owner for owner in owners)
        colour = f"{wire.colour} {wire.gauge_mm2:g} mm²".strip() if wire else ""
        cavities.append(CavityModel(number=cavity, colour=colour, behind=beyond))
    rows = spec.rows or (1 if len(cavities) <= 4 else 2)
    return ConnectorModel(
        id=name, title=spec.title, place=spec.place, inline=spec.inline, access_min=spec.access_min, back_probe=spec.back_probe,
        rows=rows, cavities=cavities,
    )  # fmt: skip


@api.get("/circuits", responses={"200": CircuitList})
def list_circuits() -> Any:
    """Newest version of every circuit."""
    work = workspace()
    with work.transaction() as db:
        found = store.newest_circuits(db)
    summaries = [CircuitSummary(**_summary(v, work.computed.circuit(v))) for v in found]
    return CircuitList(circuits=summaries).model_dump(mode="json")


@api.post("/circuits", responses={"201": CircuitSummary})
def load_circuit(body: CircuitText) -> Any:
    """Check a circuit file and store it as a new version; the same text again is the same version."""
    document = load_circuit_text(body.text)
    circuit = Circuit(document)
    with workspace().transaction() as db:
        version = store.save_circuit(db, document, body.text)
    notes = [FieldProblemModel(**note.as_dict()) for note in former_names_in(body.text)]
    return CircuitSummary(**_summary(version, circuit), notes=notes).model_dump(mode="json"), 201


@api.get("/circuits/<uuid:version_id>", responses={"200": CircuitDetail, "404": ProblemDetails})
def show_circuit(path: CircuitPath) -> Any:
    """One version with its drawing, points, connectors and controls."""
    work = workspace()
    with work.transaction() as db:
        version = known_version(db, path.version_id)
    circuit = work.computed.circuit(version)
    document = circuit.document
    detail = {
        **_summary(version, circuit),
        "source_text": version.source_text,
        "drawing": draw(circuit),
        "cautions": document.cautions,
        "codes": [CodeModel(code=name, title=c.title, module=c.module, about=c.about) for name, c in document.codes.items()],
        "limits": limits_card(circuit, []),
        "service": [ServiceNoteModel(**note.model_dump()) for note in document.service],
        "connectors": [_connector(circuit, name) for name in document.connectors],
        "controls": [
            ControlModel(id=name, title=document.controls[name].title if name in document.controls else "Key", values=list(values),
                         how=document.controls[name].how if name in document.controls else "")
            for name, values in circuit.controls.items()
        ],
        "points": [PointModel(ref=p.ref, title=p.title, place=p.place, when=p.when, connector=p.connector) for p in circuit.points.values()],
        "targets": [
            TargetModel(ref=ref, title=point.title, instrument=device.id)
            for ref, point in circuit.targets.items() for device in looking_at(circuit, ref)
        ],
        "instruments": [instrument_view(device) for device in INSTRUMENTS.values()],
        "black_reference": circuit.black_reference,
    }  # fmt: skip
    return CircuitDetail(**detail).model_dump(mode="json")
