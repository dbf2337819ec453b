"""Circuits that nobody has described: what a code means by itself, typical circuits, and measuring on one at once."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from uuid import UUID

from sondar.app.codes import open_diagnosis
from sondar.app.computed import Computed
from sondar.app.workspace import Workspace, known_job
from sondar.circuit_files import load_circuit_text
from sondar.code_library import circuit_templates, circuit_text, generic_codes
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.circuit.network import Circuit
from sondar.core.describing.building import PART_PLUG
from sondar.core.describing.templates import Template, by_words
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.errors import invalid
from sondar.core.generic_codes import GenericCode
from sondar.core.identification import MOST_WIRES, Candidate, Identification, Identified, WireReading
from sondar.core.word_match import as_id
from sondar.store import circuits as circuit_store
from sondar.store.jobs import CircuitDiagnosis

MOST_CODES = 20
NAME_LENGTH = 60


@dataclass(frozen=True)
class FoundCode:
    """A code as it was understood, with its meaning if it is held; ``why_not`` says why it is not."""

    code: str
    failure_type: str | None
    failure_words: str
    as_said: bool
    item: GenericCode | None
    why_not: str


def codes_by(_computed: Computed, said: str) -> list[FoundCode]:
    """Codes by number as people say it, or by words; where no code has them all, those nearest to what was said."""
    held = generic_codes()
    understood = held.understand(said)
    if understood:
        return [
            FoundCode(
                one.code,
                one.failure_type,
                held.failure_type(one.failure_type),
                one.as_said,
                held.get(one.code),
                held.why_not(one.code),
            )
            for one in understood
        ]
    return [FoundCode(item.code, None, "", True, item, "") for item in held.search(said, MOST_CODES) or held.nearest(said)]


def code_page(_computed: Computed, code: str) -> tuple[FoundCode, dict[str, str], str]:
    """One code, the meanings of the codes that its page names, and the title of its typical circuit."""
    held = generic_codes()
    item = held.get(code)
    named = () if item is None else (*item.companions, *item.mistaken_for)
    circuit = circuit_templates()[item.template].title if item and item.template else ""
    return FoundCode(code, None, "", True, item, held.why_not(code)), {other: held.codes[other].meaning for other in named}, circuit


def templates_by(_computed: Computed, said: str, code: str, wires: int | None) -> tuple[list[Template], str]:
    """Typical circuits for a code, for a part as somebody calls it, or all, the likeliest first; and the part that the code is about.

    Args:
        wires: how many wires there are at the plug, if they have been counted.
    """
    known = circuit_templates()
    item = generic_codes().get(code) if code else None
    if not said and item is None:
        return sorted(known.values(), key=lambda template: template.title), ""
    found = by_words(known, said or (item.part if item else ""), wires)
    own = known.get(item.template) if item and not said else None
    if own is not None:
        found = [own, *(template for template in found if template.id != own.id)]
        if wires is not None and own.wires != wires:
            found.sort(key=lambda template: template.wires != wires)
    return found, named(item) if item else ""


@dataclass(frozen=True)
class WantedWires:
    """An unlabelled plug: how many wires, what was read at them, and what the part is thought to be."""

    wires: int
    readings: tuple[WireReading, ...]
    code: str
    said: str


POINTED_AT, NAMED = 8.0, 3.0
"""How much likelier a typical circuit is that the code names, and one that fits the part's name."""


def identified(_computed: Computed, wanted: WantedWires) -> Identified:
    """What the cavities of a plug carry, by what has been read at them, and what to read next.

    Raises:
        InvalidError: no typical circuit has so many wires.
    """
    found = [item for item in circuit_templates().values() if item.wires == wanted.wires and "second_plug" not in item.data]
    if not found:
        raise invalid("wires", f"no typical circuit has {wanted.wires} wires: 2 to {MOST_WIRES}")
    fits = {item.id for item in by_words(circuit_templates(), wanted.said)} if wanted.said else set()
    code = generic_codes().get(wanted.code) if wanted.code else None
    candidates = [
        Candidate(item.id, _predictor(item.id), item.carries,
                  (POINTED_AT if code and code.template == item.id else 1.0) * (NAMED if item.id in fits else 1.0))
        for item in found
    ]  # fmt: skip
    return Identification(candidates, PART_PLUG).identified(wanted.readings)


@lru_cache(maxsize=80)
def _predictor(template: str) -> Predictor:
    return Predictor(Circuit(load_circuit_text(circuit_text(circuit_templates()[template], {"make": "any"}))))


@dataclass(frozen=True)
class WantedTypical:
    """A typical circuit to measure on.

    Attributes:
        name: what the part is called on this vehicle. code: why, if it is a code.
        order: for each cavity of the plug, which of the template it is; empty if nobody has found out.
    """

    client_key: UUID
    template: str
    name: str
    code: str
    order: tuple[int, ...] = ()


def measure(work: Workspace, job_id: UUID, wanted: WantedTypical) -> CircuitDiagnosis:
    """Keep a typical circuit for the make of a job and begin to test it.

    Raises:
        InvalidError: there is no such template.
    """
    with work.transaction() as db:
        job = known_job(db, job_id)
    document, text, reason = work.compute("typical", _made, wanted, job.make, job.model)
    with work.transaction() as db:
        version = circuit_store.save_circuit(db, document, text)
    return open_diagnosis(work, job_id, wanted.client_key, version.id, reason, carry=False)


def _made(_computed: Computed, wanted: WantedTypical, make: str, model: str) -> tuple[CircuitDocument, str, str]:
    template = circuit_templates().get(wanted.template)
    if template is None:
        raise invalid("template", f"there is no typical circuit '{wanted.template}': pick one of the list")
    item = generic_codes().get(wanted.code) if wanted.code else None
    name = wanted.name.strip() or (named(item) if item else template.title)
    vehicle = {"make": make, **({"model": model} if model else {})}
    if wanted.order and sorted(wanted.order) != list(range(1, template.wires + 1)):
        raise invalid("order", f"each of the {template.wires} cavities of '{template.id}' once")
    cavities = "".join(map(str, wanted.order))
    slug = as_id(f"typical {template.id} {cavities} {make} {model} {name}")[:120]
    text = circuit_text(template, vehicle, name, slug, wanted.order)
    return load_circuit_text(text), text, f"{item.code}: {item.meaning}" if item else "Chosen by the part's name"


def named(item: GenericCode) -> str:
    """The part that a code is about, with its place."""
    return f"{item.part}{f', {item.place}' if item.place else ''}"[:NAME_LENGTH]
