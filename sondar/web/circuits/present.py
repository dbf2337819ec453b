"""Circuits as the screen gets them, made in a worker."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from pydantic import ValidationError

from sondar.app.computed import Computed
from sondar.circuit_edits.comparing import versions_compared
from sondar.circuit_files import doubts_in, former_names_in, load_circuit_text
from sondar.core.circuit.document.fields import CircuitDocument, behind
from sondar.core.circuit.drawing import draw
from sondar.core.circuit.network import Circuit
from sondar.core.describing.sheet import Sheet
from sondar.core.instruments import INSTRUMENTS, looking_at
from sondar.core.limits.card import limits_card
from sondar.core.present.tests import instrument_view
from sondar.store.circuits import CircuitVersion
from sondar.web.circuits.models import (
    CavityModel,
    CircuitDetail,
    CircuitList,
    CircuitSummary,
    CodeModel,
    ConnectorModel,
    ControlModel,
    PointModel,
    ServiceNoteModel,
    TargetModel,
    VersionList,
    VersionView,
)
from sondar.web.problems import FieldProblemModel


def listed(computed: Computed, versions: Sequence[CircuitVersion]) -> bytes:
    """A list of circuits."""
    summaries = [CircuitSummary(**_summary(version, computed.circuit(version))) for version in versions]
    return CircuitList(circuits=summaries).model_dump_json().encode()


def checked(_computed: Computed, text: str) -> CircuitDocument:
    """A circuit file that can be stored.

    Raises:
        CircuitFileError: it cannot; lists every problem with its line.
    """
    return load_circuit_text(text)


def stored(computed: Computed, version: CircuitVersion) -> bytes:
    """A version that has just been stored, with the former names that it uses."""
    circuit = computed.circuit(version)
    found = [*former_names_in(version.source_text), *doubts_in(version.source_text, circuit)]
    notes = [FieldProblemModel(**note.as_dict()) for note in found]
    return CircuitSummary(**_summary(version, circuit), notes=notes).model_dump_json().encode()


def compared(_computed: Computed, versions: Sequence[CircuitVersion]) -> bytes:
    """Versions of one circuit, the newest first, each with what changed."""
    found = [
        VersionView(
            version_id=one.id, version=one.version, at=one.created_at,
            changed=versions_compared(before.source_text, one.source_text) if before else [],
        )
        for one, before in zip(versions, [*versions[1:], None], strict=True)
    ]  # fmt: skip
    return VersionList(versions=found).model_dump_json().encode()


def _sheet(data: dict[str, Any]) -> Sheet | None:
    """The sheet of a circuit; None if there is none, or one that a person has written by hand and that is none."""
    try:
        return Sheet.model_validate(data) if data else None
    except ValidationError:
        return None


def detailed(computed: Computed, version: CircuitVersion) -> bytes:
    """One version with its drawing, points, connectors and controls."""
    circuit = computed.circuit(version)
    document = circuit.document
    detail = {
        **_summary(version, circuit),
        "source_text": version.source_text,
        "sheet": _sheet(document.sheet),
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
    return CircuitDetail(**detail).model_dump_json().encode()


def _summary(version: CircuitVersion, circuit: Circuit) -> dict[str, Any]:
    return {
        "version_id": version.id, "slug": version.slug, "version": version.version, "title": version.title, "make": version.make,
        "model": circuit.document.vehicle.model, "example": version.example,
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
