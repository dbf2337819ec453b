"""What becomes known of a circuit while it is measured: figures, colours, cross-sections and places, written into its file.

Nothing that readings refer to is changed, so a job goes on with the new version and every reading stays.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from sondar.circuit_edits.writing import written
from sondar.circuit_files import load_circuit_text
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.circuit.document.variants import SECTIONS, patched
from sondar.core.circuit.families.doubts import FIGURES, USUAL, as_range
from sondar.core.colours import colour_of
from sondar.core.errors import CircuitDocumentError, FieldProblem, InvalidError, QuantityError
from sondar.yaml_text import load_yaml

Kind = Literal["part", "wire", "connector", "variant"]
SECTION = {"part": "parts", "wire": "wires", "connector": "connectors"}
FIELDS: dict[str, dict[str, tuple[str, str]]] = {
    "wire": {"colour": ("Colour", ""), "gauge_mm2": ("Cross-section", "mm²"), "length_m": ("Length", "m")},
    "connector": {"title": ("Name", ""), "place": ("Place", ""), "access_min": ("Minutes to reach it", "min")},
    "part": {"title": ("Name", ""), "place": ("Place", "")},
}
"""What may be filled in: field -> (what it is called, unit)."""
LONGEST = 80
PIN = "pin "
"""How the field of a cavity's own number begins: ``pin 3``."""


@dataclass(frozen=True)
class Known:
    """One thing that may be filled in; ``open``: only a range is known, which is typical for the kind."""

    kind: Kind
    id: str
    of: str
    field: str
    label: str
    unit: str
    value: str
    open: bool


@dataclass(frozen=True)
class Fill:
    """One thing filled in; an empty value takes it away where that is possible."""

    kind: Kind
    id: str
    field: str
    value: str


def known_of(text: str) -> list[Known]:
    """Everything that may be filled in: figures of parts first, those that are only ranges in front, then plugs, then wires."""
    data, document = load_yaml(text), load_circuit_text(text)
    found = []
    for name, part in data.get("parts", {}).items():
        title = document.parts[name].name(name)
        for field in [*(f for f in FIGURES if f in part), *FIELDS["part"]]:
            label, unit = FIGURES.get(field) or FIELDS["part"][field]
            value = part.get(field, "")
            found.append(
                Known("part", name, title, field, label, unit, str(value), field in FIGURES and as_range(field, value) is not None)
            )
    for name, connector in data.get("connectors", {}).items():
        of = str(connector.get("title") or name)
        for field, (label, unit) in FIELDS["connector"].items():
            found.append(Known("connector", name, of, field, label, unit, str(connector.get(field, "")), False))
        for cavity in connector["cavities"]:
            pin = str(connector.get("pins", {}).get(cavity, ""))
            found.append(Known("connector", name, of, f"{PIN}{cavity}", f"Pin number at cavity {cavity}", "", pin, False))
    for name, wire in data.get("wires", {}).items():
        for field, (label, unit) in FIELDS["wire"].items():
            found.append(
                Known("wire", name, f"{name}, {wire['from']} to {wire['to']}", field, label, unit, str(wire.get(field, "")), False)
            )
    return sorted(found, key=lambda item: not item.open)


def filled_in(text: str, fills: Sequence[Fill]) -> tuple[CircuitDocument, str, str]:
    """The checked document with something filled in, its text, and what was filled in, in words.

    Raises:
        InvalidError: there is no such thing, it cannot be filled in, or the value is not one; names each place.
    """
    data = load_yaml(text)
    said, problems = [], []
    for index, fill in enumerate(fills):
        try:
            said.append(_fill(data, fill))
        except InvalidError as error:
            problems.append(
                FieldProblem(("changes", index, "value"), error.problems[0].message if error.problems else error.detail)
            )
    if problems:
        raise InvalidError("Not filled in", "; ".join(one.message for one in problems), problems)
    try:
        document, made = written(data)
    except CircuitDocumentError as error:
        found = [FieldProblem(("changes", _place(fills, one), "value"), one.message) for one in error.problems]
        raise InvalidError("Not filled in", "; ".join(one.message for one in found), found) from error
    return document, made, "; ".join(said)


def _take(data: Any, fill: Fill) -> str:
    """Take a variant for the way this vehicle is built: the drawing becomes it, and there are no others any more."""
    variant = data.get("variants", {}).get(fill.id)
    if variant is None:
        raise InvalidError(
            "Not filled in", f"the circuit has no variant '{fill.id}': {', '.join(data.get('variants', {})) or 'it has none'}"
        )
    changed = patched(data, variant)
    for section in SECTIONS:
        if section in changed:
            data[section] = changed[section]
    del data["variants"]
    return f"built otherwise: {variant['title']}"


def _fill(data: Any, fill: Fill) -> str:
    if fill.kind == "variant":
        return _take(data, fill)
    things = data.get(SECTION[fill.kind], {})
    thing = things.get(fill.id)
    if fill.kind == "connector" and thing is not None and fill.field.startswith(PIN):
        return _fill_pin(thing, fill)
    allowed = {**FIELDS[fill.kind], **(FIGURES if fill.kind == "part" else {})}
    if (
        thing is None
        or fill.field not in allowed
        or (fill.field in FIGURES and fill.field not in thing and fill.field not in USUAL)
    ):
        raise InvalidError("Not filled in", f"{fill.kind} {fill.id} has no '{fill.field}' that could be filled in")
    value = fill.value.strip()
    label, unit = allowed[fill.field]
    if len(value) > LONGEST:
        raise InvalidError("Not filled in", f"{label}: longer than {LONGEST} characters")
    if fill.field == "colour":
        value = colour_of(value)
    elif fill.field in FIGURES:
        value = _plain(value.removesuffix(unit).strip(), label)
    if value:
        thing[fill.field] = value
    elif fill.field in FIGURES:
        raise InvalidError("Not filled in", f"{label}: a figure or a range such as 7 to 8")
    else:
        thing.pop(fill.field, None)
    return f"{fill.id} {label.lower()} {value or 'taken away'}{f' {unit}' if value and unit else ''}"


def _fill_pin(connector: Any, fill: Fill) -> str:
    cavity, value = fill.field.removeprefix(PIN), fill.value.strip()
    if cavity not in connector["cavities"]:
        raise InvalidError("Not filled in", f"connector {fill.id} has no cavity {cavity}")
    pins = connector.setdefault("pins", {})
    pins.pop(cavity, None)
    if value:
        pins[cavity] = value
    elif not pins:
        del connector["pins"]
    return f"{fill.id} cavity {cavity} pin {value or 'taken away'}"


def _plain(value: str, label: str) -> str:
    try:
        as_range("coil_ohm", value)
    except (ValueError, QuantityError) as error:
        raise InvalidError("Not filled in", f"{label}: {error}") from error
    return value


def _place(fills: Sequence[Fill], problem: FieldProblem) -> int:
    """Which of the fills a problem of the whole document is about; the first if it cannot be told."""
    path = problem.field.replace(".pins.", f".{PIN}")
    return next((index for index, fill in enumerate(fills) if f"{fill.id}.{fill.field}" in path), 0)
