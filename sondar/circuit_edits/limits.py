"""Limits of one's own, written into the circuit's file: a figure, the condition it holds under, whose it is and where it stands."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import count
from typing import Any

from sondar.circuit_edits.writing import written
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.circuit.network import Circuit
from sondar.core.errors import CircuitDocumentError, FieldProblem, InvalidError, QuantityError, UnknownReferenceError
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Instrument
from sondar.core.limits.condition import limit_test
from sondar.core.limits.document import Source
from sondar.core.word_match import as_id
from sondar.yaml_text import load_yaml

NOT_KEPT = "The limit is not kept"


@dataclass(frozen=True)
class NewLimit:
    """A limit as somebody enters it for a test.

    Attributes:
        id: of the limit that it takes the place of; empty for a new one.
        least, most: figures with their unit, one of them may be empty. word: what a finding must say instead.
        copper_at_c: the figures of a winding hold at this temperature.
    """

    title: str
    instrument: str
    red: str
    black: str
    source: Source
    id: str = ""
    least: str = ""
    most: str = ""
    word: str = ""
    typical: str = ""
    copper_at_c: float | None = None
    note: str = ""
    when: Mapping[str, str] = field(default_factory=dict)
    unplugged: tuple[str, ...] = ()


def with_limit(text: str, wanted: NewLimit) -> tuple[CircuitDocument, str, str]:
    """The checked document with a limit added or changed, its text, and what was done, in words.

    Raises:
        InvalidError: no figure, no such point or set-up, or the limit to be changed is not there; names the field.
    """
    data = load_yaml(text)
    limits = data.setdefault("limits", {})
    if wanted.id and wanted.id not in limits:
        raise InvalidError(NOT_KEPT, f"no limit '{wanted.id}'", [FieldProblem(("id",), "this circuit has no such limit any more")])
    try:
        device = instrument(wanted.instrument)
    except UnknownReferenceError as error:
        raise InvalidError(NOT_KEPT, error.detail, [FieldProblem(("test", "instrument"), error.detail)]) from error
    name = wanted.id or _free_id(wanted.title, limits)
    limits[name] = _entry(wanted, device)
    try:
        document, made = written(data)
        circuit = Circuit(document)
        test = limit_test(circuit, document.limits[name])
        circuit.point(test.red), circuit.point(test.black)
    except CircuitDocumentError as error:
        found = [FieldProblem((_field_of(one),), one.message) for one in error.problems]
        raise InvalidError(NOT_KEPT, "; ".join(one.message for one in found), found) from error
    return document, made, f"limit {'changed' if wanted.id else 'added'}: {wanted.title}, {_said(limits[name])}"


def without_limit(text: str, name: str) -> tuple[CircuitDocument, str, str]:
    """The checked document without a limit, its text, and what was done, in words.

    Raises:
        InvalidError: there is none of that name, or another limit is compared with it.
    """
    data = load_yaml(text)
    limits = data.get("limits", {})
    if name not in limits:
        raise InvalidError(NOT_KEPT, f"no limit '{name}'", [FieldProblem(("id",), "this circuit has no such limit")])
    title = str(limits[name]["title"])
    del limits[name]
    if not limits:
        del data["limits"]
    try:
        document, made = written(data)
    except CircuitDocumentError as error:
        said = "; ".join(one.message for one in error.problems)
        raise InvalidError("The limit stays", said, [FieldProblem(("id",), said)]) from error
    return document, made, f"limit taken away: {title}"


def _entry(wanted: NewLimit, device: Instrument) -> dict[str, Any]:
    """The lines of the file."""
    figures = {"min": wanted.least, "max": wanted.most, "typical": wanted.typical}
    found: dict[str, Any] = {"title": wanted.title.strip(), "with": wanted.instrument, "red": wanted.red}
    if wanted.black:
        found["black"] = wanted.black
    if wanted.when:
        found["when"] = dict(wanted.when)
    if wanted.unplugged:
        found["unplugged"] = list(wanted.unplugged)
    if wanted.word:
        found["word"] = wanted.word
    for key, figure in figures.items():
        if figure.strip():
            found[key] = _figure(figure, device, {"min": "least", "max": "most", "typical": "typical"}[key])
    if not wanted.word and "min" not in found and "max" not in found:
        said = "a figure is missing: the least, the most, or both" if device.figures else "what it must show is missing"
        raise InvalidError(NOT_KEPT, said, [FieldProblem(("least" if device.figures else "word",), said)])
    if wanted.copper_at_c is not None:
        found["copper_at_c"] = wanted.copper_at_c
    found["source"] = wanted.source
    if wanted.note.strip():
        found["note"] = wanted.note.strip()
    return found


def _figure(text: str, device: Instrument, name: str) -> float:
    try:
        value = device.understand(text).value
    except QuantityError as error:
        raise InvalidError(NOT_KEPT, str(error), [FieldProblem((name,), str(error))]) from error
    if value is None:
        raise InvalidError(NOT_KEPT, f"'{text}' is no figure", [FieldProblem((name,), f"'{text}' is no figure")])
    return round(value, 9)


def _free_id(title: str, limits: Mapping[str, Any]) -> str:
    base = as_id(title)[:40].strip("-")
    base = base if base[:1].isalpha() else f"limit-{base}".rstrip("-")
    return next(name for number in count(1) if (name := base if number == 1 else f"{base}-{number}") not in limits)


def _field_of(problem: FieldProblem) -> str:
    """The field of the form for a field of the file."""
    return {"min": "least", "max": "most", "with": "test"}.get(
        str(problem.path[-1]), str(problem.path[-1]) if problem.path else "title"
    )


def _said(entry: Mapping[str, Any]) -> str:
    if "word" in entry:
        return str(entry["word"])
    if "min" in entry and "max" in entry:
        return f"{entry['min']:g} to {entry['max']:g}"
    return f"at least {entry['min']:g}" if "min" in entry else f"at most {entry['max']:g}"
