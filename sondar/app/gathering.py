"""Circuits of one make and model become the workshop's own vehicle: looked at first, then kept in one step."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sondar.app.computed import Computed, by_slug
from sondar.app.workspace import Workspace
from sondar.circuit_edits.filling import Known, known_of
from sondar.circuit_edits.writing import written
from sondar.circuit_files import load_vehicle_text
from sondar.code_library import generic_codes
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.circuit.families.doubts import FIGURES
from sondar.core.circuit.network import Circuit
from sondar.core.circuit.vehicle import VehicleDocument, VehicleNetwork
from sondar.core.describing.gathering import Gathered, gathered
from sondar.core.describing.tying import likely_codes, tied_code, tied_symptom, with_ties
from sondar.core.errors import CircuitDocumentError, FieldProblem, InvalidError, NotFoundError, invalid
from sondar.core.word_match import as_id
from sondar.store import circuits as circuit_store
from sondar.store import vehicles
from sondar.store.circuits import CircuitVersion
from sondar.yaml_text import load_yaml, written_yaml

KEPT = ("addresses", "can_ids", "data", "commands", "routines", "obd")
"""What a vehicle file has beside its circuits, and keeps when they are gathered anew."""


@dataclass(frozen=True)
class Wanted:
    """What somebody wants to be one vehicle.

    Attributes:
        circuits: slugs, in the order in which names are taken from them. same: name -> whether it is one thing wherever it stands.
        codes, symptoms: slug -> codes and words that are tied to it.
    """

    make: str
    model: str
    circuits: tuple[str, ...]
    years: str = ""
    same: Mapping[str, bool] = field(default_factory=dict)
    codes: Mapping[str, Sequence[str]] = field(default_factory=dict)
    symptoms: Mapping[str, Sequence[str]] = field(default_factory=dict)


@dataclass(frozen=True)
class CircuitOf:
    """One circuit of the vehicle.

    Attributes:
        known, typical: figures that somebody said of this vehicle, and those that are ranges of the kind. open: ways it may be built.
        codes: (code, title) that it has. likely: (code, meaning) that probably belong to it. symptoms: in words.
    """

    slug: str
    title: str
    known: int
    typical: int
    open: int
    codes: tuple[tuple[str, str], ...]
    likely: tuple[tuple[str, str], ...]
    symptoms: tuple[str, ...]


@dataclass(frozen=True)
class Preview:
    """The vehicle as it would be kept; nothing is kept while there are problems."""

    found: Gathered
    circuits: tuple[CircuitOf, ...]
    problems: tuple[str, ...]
    documents: tuple[tuple[CircuitDocument, str], ...] = ()
    vehicle: tuple[VehicleDocument, str] | None = None


def preview(work: Workspace, wanted: Wanted) -> Preview:
    """What a vehicle of these circuits is; nothing is kept.

    Raises:
        InvalidError: a circuit that is not there, or a code that is none.
    """
    with work.transaction() as db:
        versions = by_slug(circuit_store.newest_circuits(db, wanted.circuits))
        known = next((one for one in vehicles.newest_models(db) if one.slug == slug_of(wanted) and not one.example), None)
    missing = [slug for slug in wanted.circuits if slug not in versions]
    if missing:
        raise invalid("circuits", f"no circuit {', '.join(missing)}")
    texts = [versions[slug].source_text for slug in wanted.circuits]
    return work.compute("vehicles", _preview, wanted, texts, "" if known is None else known.source_text)


def keep(work: Workspace, wanted: Wanted) -> vehicles.VehicleModel:
    """Keep the vehicle: new versions of its circuits, its file, and open jobs of this make and model go on with it.

    Raises:
        InvalidError: the circuits do not fit together; says where.
    """
    found = preview(work, wanted)
    if found.problems or found.vehicle is None:
        said = "; ".join(found.problems)
        raise InvalidError("No vehicle yet", said, [FieldProblem(("circuits",), one) for one in found.problems])
    document, text = found.vehicle
    with work.transaction() as db:
        for circuit, source in found.documents:
            circuit_store.save_circuit(db, circuit, source)
        model_id = vehicles.save_model(db, document, text)
        vehicles.adopt_model(db, model_id)
        kept = vehicles.model_by_id(db, model_id)
    assert kept is not None
    return kept


def slug_of(wanted: Wanted) -> str:
    """Identifier of the vehicle: the same make and model is the same vehicle."""
    return "own-" + (as_id(f"{wanted.make} {wanted.model}") or "vehicle")[:100]


def _preview(_computed: Computed, wanted: Wanted, texts: Sequence[str], before: str) -> Preview:
    found = gathered([load_yaml(text) for text in texts], wanted.same)
    problems: list[str] = []
    documents: list[tuple[CircuitDocument, str]] = []
    for slug, data in found.circuits.items():
        try:
            documents.append(written(_tied(data, wanted, slug)))
        except CircuitDocumentError as error:
            problems += [f"{data['title']}: {one.field}: {one.message}" for one in error.problems[:5]]
    sources = dict(zip(found.circuits, texts, strict=True))
    circuits = tuple(_circuit_of(document, text, sources[document.id]) for document, text in documents)
    if problems:
        return Preview(found, circuits, tuple(problems))
    text = _vehicle_text(wanted, found, before)
    try:
        document = load_vehicle_text(text)
        VehicleNetwork(document, {one.id: one for one, _ in documents})
    except CircuitDocumentError as error:
        return Preview(found, circuits, tuple(f"{one.field}: {one.message}" for one in error.problems[:8]))
    return Preview(found, circuits, (), tuple(documents), (document, text))


def _tied(data: dict[str, Any], wanted: Wanted, slug: str) -> dict[str, Any]:
    """A circuit's file with the codes and symptoms that were tied to it."""
    said, noticed = wanted.codes.get(slug, ()), wanted.symptoms.get(slug, ())
    if not said and not noticed:
        return data
    circuit = Circuit(written(data)[0])
    held = generic_codes()
    codes: dict[str, dict[str, Any]] = {}
    for code in said:
        item = held.get(code)
        entry = (
            tied_code(circuit, item.meaning, item.part, item.kind, item.manner)
            if item is not None
            else tied_code(circuit, f"{code}, {circuit.document.title}", circuit.document.title, "electrical", "")
        )
        if entry is None:
            raise invalid("codes", f"{circuit.document.title}: no module of this circuit could store {code}")
        codes[code] = entry
    symptoms = {as_id(words)[:60] or "symptom": tied_symptom(circuit, words) for words in noticed}
    return with_ties(data, codes, symptoms)


def _circuit_of(document: CircuitDocument, text: str, source: str) -> CircuitOf:
    """How well a circuit is known, by its file as it was before it got other names."""
    figures = [one for one in known_of(source) if one.kind == "part" and one.field in FIGURES]
    sheet = document.sheet or {}
    by_hand = not sheet and not document.id.startswith("typical-")
    known = sum(_is_known(one, sheet) or (by_hand and not one.open) for one in figures)
    template = str(sheet.get("template") or "")
    held = generic_codes()
    likely = likely_codes(
        [(one.code, (one.part, *one.aka), one.template or "") for one in held.codes.values()], template, document.title
    )
    return CircuitOf(
        document.id, document.title, known, len(figures) - known, len(load_yaml(text).get("variants") or {}),
        tuple((code, one.title) for code, one in document.codes.items()),
        tuple((code, held.codes[code].meaning) for code in likely if code not in document.codes),
        tuple(one.title for one in document.symptoms.values()),
    )  # fmt: skip


def _is_known(one: Known, sheet: Mapping[str, Any]) -> bool:
    """True if the sheet says this figure."""
    if one.field == "rating_a":
        return (sheet.get("supply") or {}).get("fuse_a") is not None
    return f"{one.id}.{one.field}" in (sheet.get("figures") or {})


def _vehicle_text(wanted: Wanted, found: Gathered, before: str) -> str:
    kept = load_yaml(before) if before else {}
    vehicle = {"make": wanted.make, "model": wanted.model, **({"years": wanted.years} if wanted.years else {})}
    data = {
        "sondar_vehicle": 1, "id": slug_of(wanted), "title": f"{wanted.make} {wanted.model}".strip(), "vehicle": vehicle,
        "circuits": list(found.circuits), **{key: kept[key] for key in KEPT if kept.get(key)}, "shared": dict(found.shared),
    }  # fmt: skip
    return written_yaml(data)


def model_text(work: Workspace, slug: str) -> tuple[vehicles.VehicleModel, list[CircuitVersion]]:
    """The newest file of a vehicle, and the circuits that it names as they are now.

    Raises:
        NotFoundError: there is none.
    """
    with work.transaction() as db:
        found = next((one for one in vehicles.newest_models(db) if one.slug == slug), None)
        if found is None:
            raise NotFoundError("No such vehicle", f"no vehicle '{slug}' is kept here")
        return found, circuit_store.newest_circuits(db, list(load_vehicle_text(found.source_text).circuits))
