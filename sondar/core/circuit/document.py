"""The circuit file as typed fields, and every check that a typed field alone cannot make.

``read_document`` takes the plain data of a parsed file and returns a ``CircuitDocument`` or raises one
``CircuitDocumentError`` that lists *all* problems, each with the path to its field.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator, Mapping
from typing import Any, Literal, Self

from pydantic import Field, ValidationError, model_validator

from sondar.core.circuit.families import AnyPart, Splice, Wire
from sondar.core.circuit.families.base import Fields, NonNegative, Quantity
from sondar.core.circuit.model import CHASSIS
from sondar.core.errors import CircuitDocumentError, Problem

IDENTIFIER = r"^[A-Za-z][A-Za-z0-9_-]*$"
KEY_VALUES = ("off", "on", "run")
CODE_FORM = re.compile(r"[PCBU][0-3][0-9A-F]{3}(-[0-9A-F]{2})?")
"""ISO 15031-6 form: system letter, four hex digits, optional two-digit failure type."""

Path = tuple[str | int, ...]


class VehicleModel(Fields):
    """The vehicles a circuit belongs to."""

    make: str
    model: str = ""
    years: str = ""


class Control(Fields):
    """Something the technician can command or operate, and its positions; the first is the rest position."""

    title: str = ""
    values: list[str] = Field(min_length=2)
    minutes: NonNegative = Field(0.4, description="Minutes to move it.")
    how: str = Field("", description="How it is moved, e.g. 'scan tool, output test' or 'press the pedal'.")
    caution: str = Field("", description="What can hurt or break when it moves.")


class Connector(Fields):
    """A connector: each cavity joins the wire side (``X1.3``) to what it carries on the other side."""

    title: str = ""
    place: str = ""
    access_min: NonNegative = Field(1.0, description="Minutes to reach it the first time.")
    unplug_min: NonNegative = Field(0.5, description="Minutes to part or mate it once reached.")
    back_probe: bool = Field(True, description="False if sealed: only its open halves can be probed.")
    exposed: bool = Field(False, description="Wet or moving place: contacts fail more often.")
    inline: bool = Field(False, description="Harness to harness: both sides are wires.")
    rows: int = Field(0, ge=0, le=8, description="Rows of cavities on its face; worked out from their number if left out.")
    restraint: bool = Field(False, description="Airbag or pretensioner circuit: no probe ever goes there.")
    cavities: dict[str, str | list[str] | None] = Field(
        description="Cavity -> terminal(s) of the part behind it; leave empty for an in-line connector."
    )


class Module(Fields):
    """A control unit that holds drivers and inputs sealed inside."""

    title: str = ""
    place: str = ""
    price: NonNegative = 450.0
    fit_min: NonNegative = 60.0
    coded: bool = Field(True, description="A new one must be coded or taught in.")
    answers: list[Condition] = Field(
        default_factory=list, description="The scan tool gets an answer from it while all these are met."
    )


class NamedSetup(Fields):
    """A set-up worth a name, for the command line and the drawing."""

    controls: dict[str, str] = Field(default_factory=dict)
    unplugged: list[str] = Field(default_factory=list)
    temperature_c: Quantity = 20.0


class Condition(Fields):
    """A limit that something inside the vehicle watches, in a set-up with everything plugged in."""

    when: dict[str, str] = Field(default_factory=dict, description="Controls that differ from rest while it is watched.")
    measures: tuple[str, str] | None = Field(None, description="Two terminals: the voltage of the first against the second.")
    flows: str | None = Field(None, description="Or a branch, e.g. a motor's 'M5.brushes': the size of its current.")
    above: float | None = Field(None, description="Met above this many volts (amperes).")
    below: float | None = Field(None, description="Met below this many volts (amperes).")

    @model_validator(mode="after")
    def _one_quantity_one_limit(self) -> Self:
        if (self.measures is None) == (self.flows is None):
            raise ValueError("give either 'measures' (two terminals) or 'flows' (a branch)")
        if (self.above is None) == (self.below is None):
            raise ValueError("give either 'above' or 'below'")
        return self


class Observation(Fields):
    """Something that shows by itself when any of its conditions is met."""

    title: str = Field(min_length=1)
    sets: list[Condition] = Field(default_factory=list, description="It shows if any of these is met.")
    faults: list[str] = Field(
        default_factory=list, description="Faults that also show it without any electrical trace, e.g. M5.seized."
    )


class Symptom(Observation):
    """Something the customer or the technician can notice."""


class Code(Observation):
    """A trouble code that a module stores."""

    module: str = Field(description="The module that stores it.")
    kind: Literal["electrical", "rationality", "system"] = Field("electrical", description="In this order codes are chased.")
    about: str = Field("", description="What makes it set, in words.")
    seconds: NonNegative = Field(2.0, description="How long the condition must last.")
    unless: list[str] = Field(default_factory=list, description="Codes that keep its monitor from running while they are set.")
    follows: dict[str, float] = Field(
        default_factory=dict, description="Codes whose cause can upset this one, with the chance that it then sets too."
    )


class Limit(Fields):
    """What a reading must be, under a condition. Of the forms below one is used; ``per`` or ``change_from`` may go with min and max."""

    title: str = Field(min_length=1)
    instrument: str = Field("voltmeter", alias="with", description="Id of the instrument.")
    red: str = Field(description="Point of the red lead, or what is looked at.")
    black: str = Field("", description="Point of the black lead; the battery's negative post if left out.")
    when: dict[str, str] = Field(default_factory=dict, description="Controls that differ from rest.")
    unplugged: list[str] = Field(default_factory=list)
    min: Quantity | None = None
    max: Quantity | None = None
    word: str = Field("", description="Or the word it must show, e.g. bright.")
    table: list[tuple[float, float, float]] = Field(
        default_factory=list, description="Or rows of temperature in °C, least, most; between rows by straight lines."
    )
    per: str = Field("", description="Limit whose reading this one is divided by: ratio to a measured supply, to a sibling.")
    change_from: str = Field("", description="Limit whose reading is taken off: response to a command, difference to a sibling.")
    copper_at_c: float | None = Field(None, description="Temperature that min and max of a copper winding hold for.")
    typical: Quantity | None = None
    source: Literal["maker", "own", "sibling"] = Field(
        "maker", description="Whose figure: maker, own known-good vehicles, sibling part."
    )
    note: str = ""

    @model_validator(mode="after")
    def _one_form(self) -> Self:
        bounds = self.min is not None or self.max is not None
        if bounds + bool(self.word) + bool(self.table) != 1:
            raise ValueError("give 'min' or 'max' or both, or 'word', or 'table'")
        if self.per and self.change_from:
            raise ValueError("give either 'per' or 'change_from'")
        if self.min is not None and self.max is not None and self.min > self.max:
            raise ValueError("'min' is above 'max': exchange them")
        if any(low > high for _, low, high in self.table) or [r[0] for r in self.table] != sorted({r[0] for r in self.table}):
            raise ValueError("'table' needs rising temperatures, and least before most in each row")
        return self


class ServiceNote(Fields):
    """What is done about a part, for the repair."""

    part: str
    do: Literal["clean", "replace", "repair", "clean or replace", "set up"]
    difficulty: Literal["easy", "some skill", "specialist"] = "easy"
    teach_in: str = Field("", description="Coding, learning, bleeding or resetting that a new one needs; empty for none.")
    note: str = ""


class CircuitDocument(Fields):
    """A circuit: parts, connectors, wires, controls. Format version 1."""

    sondar: Literal[1] = Field(description="Version of this format.")
    id: str = Field(pattern=IDENTIFIER)
    title: str = Field(min_length=1)
    vehicle: VehicleModel
    about: str = Field("", description="What it does, when it acts, what sets the code.")
    complaint: str = Field("", description="The complaint that usually leads here.")
    cautions: list[str] = Field(default_factory=list, description="Cautions for the whole circuit, in words.")
    controls: dict[str, Control] = Field(default_factory=dict)
    parts: dict[str, AnyPart] = Field(min_length=1)
    modules: dict[str, Module] = Field(default_factory=dict)
    connectors: dict[str, Connector] = Field(default_factory=dict)
    wires: dict[str, Wire] = Field(default_factory=dict)
    joins: list[list[str]] = Field(default_factory=list, description="Terminals that are bolted or built together.")
    setups: dict[str, NamedSetup] = Field(default_factory=dict)
    codes: dict[str, Code] = Field(default_factory=dict, description="Trouble codes that this circuit's modules can store.")
    symptoms: dict[str, Symptom] = Field(default_factory=dict, description="What people notice when it fails.")
    also: list[str] = Field(default_factory=list, description="Other names and abbreviations that people search for.")
    limits: dict[str, Limit] = Field(default_factory=dict, description="What readings must be, with condition and source.")
    service: list[ServiceNote] = Field(default_factory=list, description="Clean or replace, how hard, what a new part needs.")

    def control_values(self) -> dict[str, tuple[str, ...]]:
        """All controls with their positions; ``key`` always exists."""
        found = {name: tuple(control.values) for name, control in self.controls.items()}
        return {"key": KEY_VALUES, **found}


def read_document(data: object) -> CircuitDocument:
    """Check plain data and return the document.

    Raises:
        CircuitDocumentError: lists every problem found; structural problems first, then wiring problems.
    """
    if not isinstance(data, Mapping):
        raise CircuitDocumentError([Problem((), "expected a circuit file with fields such as sondar, id, parts, wires")])
    try:
        document = CircuitDocument.model_validate(_with_text_keys(data))
    except ValidationError as error:
        raise CircuitDocumentError([_problem(item, data) for item in error.errors()]) from error
    problems = list(_wiring_problems(document))
    if problems:
        raise CircuitDocumentError(problems)
    return document


def _with_text_keys(value: Any) -> Any:
    """Cavity and pin numbers may be written bare; keys are text here."""
    if isinstance(value, Mapping):
        return {str(key): _with_text_keys(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_with_text_keys(item) for item in value]
    return value


def _problem(error: Any, data: Mapping[Any, Any]) -> Problem:
    """One Pydantic error in plain words, its path without the discriminator tag."""
    path: list[str | int] = []
    node: Any = data
    for step in error["loc"]:
        if isinstance(node, Mapping):
            match = next((key for key in node if str(key) == str(step)), None)
            if match is None and node.get("family") == step:
                continue  # the union tag, e.g. 'relay', is not a key of the file
            path.append(str(step))
            node = node[match] if match is not None else None
        elif isinstance(node, list) and isinstance(step, int):
            path.append(step)
            node = node[step] if step < len(node) else None
    kind, context = error["type"], error.get("ctx", {})
    if kind == "missing":
        message = f"'{error['loc'][-1]}' is missing: add it"
    elif kind == "extra_forbidden":
        message = f"'{error['loc'][-1]}' is not a field here: remove it or check its spelling"
    elif kind == "union_tag_invalid":
        message = f"family '{context.get('tag')}' is not known; use one of {context.get('expected_tags')}"
        path.append("family")
    elif kind == "union_tag_not_found":
        message = "'family' is missing: say what kind of part this is"
    else:
        message = error["msg"].removeprefix("Value error, ")
        found = error.get("input")
        if isinstance(found, str | int | float) and str(found) not in message:
            message += f" (found {found!r})"
    return Problem(tuple(path), message)


def known_terminals(document: CircuitDocument) -> set[str]:
    """Every reference that a wire, cavity or join may use."""
    names = {CHASSIS}
    for part_id, part in document.parts.items():
        legs = part.legs if isinstance(part, Splice) else (*part.TERMINALS, *part.OPTIONAL_TERMINALS)
        names.update(f"{part_id}.{leg}" for leg in legs)
    for connector_id, connector in document.connectors.items():
        for cavity in connector.cavities:
            names.update((f"{connector_id}.{cavity}", f"{connector_id}.{cavity}/c"))
    return names


def behind(target: str | list[str] | None) -> list[str]:
    """Terminals behind a cavity as a list."""
    if target is None:
        return []
    return [target] if isinstance(target, str) else target


def _references(document: CircuitDocument) -> Iterator[tuple[Path, str]]:
    for wire_id, wire in document.wires.items():
        yield ("wires", wire_id, "from"), wire.from_
        yield ("wires", wire_id, "to"), wire.to
    for connector_id, connector in document.connectors.items():
        for cavity, target in connector.cavities.items():
            for ref in behind(target):
                yield ("connectors", connector_id, "cavities", cavity), ref
    for index, join in enumerate(document.joins):
        for position, ref in enumerate(join):
            yield ("joins", index, position), ref


def _wiring_problems(document: CircuitDocument) -> Iterator[Problem]:
    yield from _identity_problems(document)
    terminals = known_terminals(document)
    used: set[str] = set()
    for path, ref in _references(document):
        used.add(ref)
        if ref not in terminals:
            near = difflib.get_close_matches(ref, sorted(terminals), 3, 0.4)
            hint = f"; did you mean {' or '.join(near)}?" if near else ""
            yield Problem(path, f"'{ref}' names no terminal, cavity or splice leg of this circuit{hint}")
    for part_id, part in document.parts.items():
        legs = part.legs if isinstance(part, Splice) else part.TERMINALS
        for leg in legs:
            # A signal circuit may need the battery only as the place where the black lead goes.
            if f"{part_id}.{leg}" not in used and (part.family, leg) == ("battery", "pos"):
                continue
            # A leg of a splice may lead into another circuit of the vehicle.
            if isinstance(part, Splice) and sum(f"{part_id}.{other}" in used for other in legs) >= 2:
                continue
            if f"{part_id}.{leg}" not in used:
                yield Problem(("parts", part_id), f"terminal {part_id}.{leg} joins nothing: add a wire, a cavity or a join")
        if part.module is not None and part.module not in document.modules:
            yield Problem(("parts", part_id, "module"), f"no module '{part.module}' under 'modules'")
    for connector_id, connector in document.connectors.items():
        for cavity, target in connector.cavities.items():
            path = ("connectors", connector_id, "cavities", cavity)
            if f"{connector_id}.{cavity}" not in used:
                yield Problem(path, f"no wire ends at {connector_id}.{cavity}: add the wire or remove the cavity")
            if connector.inline and f"{connector_id}.{cavity}/c" not in used:
                yield Problem(path, f"in-line cavity: no wire leaves its far side {connector_id}.{cavity}/c")
            if not connector.inline and not behind(target):
                yield Problem(path, "say which terminal is behind this cavity, or mark the connector 'inline: true'")
    yield from _control_problems(document)
    yield from _limit_problems(document, terminals)
    yield from _observation_problems(document, terminals)


def _limit_problems(document: CircuitDocument, terminals: set[str]) -> Iterator[Problem]:
    controls = document.control_values()
    lookable = {*document.parts, *document.wires, *document.connectors}
    for name, limit in document.limits.items():
        for field in ("red", "black"):
            ref = getattr(limit, field)
            if ref and ref not in terminals and not (field == "red" and ref in lookable):
                yield Problem(("limits", name, field), f"'{ref}' names no terminal, cavity or part of this circuit")
        for control, value in limit.when.items():
            if value not in controls.get(control, ()):
                yield Problem(("limits", name, "when", control), f"'{control}: {value}' is no position of a control here")
        for connector in limit.unplugged:
            if connector not in document.connectors:
                yield Problem(("limits", name, "unplugged"), f"no connector '{connector}'")
        for field in ("per", "change_from"):
            other = getattr(limit, field)
            if other and (other not in document.limits or other == name):
                yield Problem(("limits", name, field), f"no other limit '{other}'")
    for index, note in enumerate(document.service):
        if note.part not in {*document.parts, *document.wires, *document.connectors, *document.modules}:
            yield Problem(("service", index, "part"), f"no part '{note.part}'")


def _watched(document: CircuitDocument) -> Iterator[tuple[Path, Condition]]:
    for section, items in (("codes", document.codes), ("symptoms", document.symptoms)):
        for name, item in items.items():
            for index, condition in enumerate(item.sets):
                yield (section, name, "sets", index), condition
    for name, module in document.modules.items():
        for index, condition in enumerate(module.answers):
            yield ("modules", name, "answers", index), condition


def _observation_problems(document: CircuitDocument, terminals: set[str]) -> Iterator[Problem]:
    for name, code in document.codes.items():
        if not CODE_FORM.fullmatch(name):
            yield Problem(("codes", name), f"'{name}' is not a code: one of P, C, B, U, four hex digits, and perhaps -xx")
        if code.module not in document.modules:
            yield Problem(("codes", name, "module"), f"no module '{code.module}' under 'modules'")
    for path, condition in _watched(document):
        for position, ref in enumerate(condition.measures or ()):
            if ref not in terminals:
                yield Problem((*path, "measures", position), f"'{ref}' names no terminal of this circuit")
        if condition.flows is not None and condition.flows.split(".")[0] not in document.parts:
            yield Problem((*path, "flows"), f"'{condition.flows}' names no branch of a part of this circuit")


def _identity_problems(document: CircuitDocument) -> Iterator[Problem]:
    seen: dict[str, str] = {CHASSIS: "the vehicle body"}
    for section in ("parts", "modules", "connectors", "wires"):
        for name in getattr(document, section):
            if "." in name or "/" in name or "@" in name:
                yield Problem((section, name), f"'{name}' may not contain '.', '/' or '@'")
            if name in seen:
                yield Problem((section, name), f"'{name}' is already used under {seen[name]}: ids must be unique")
            seen[name] = section
    if not any(part.family == "battery" for part in document.parts.values()):
        yield Problem(("parts",), "no battery: add a part with 'family: battery', so that there is a supply")


def _control_problems(document: CircuitDocument) -> Iterator[Problem]:
    controls = document.control_values()
    if "key" in document.controls and not {"off", "on"} <= set(controls["key"]):
        yield Problem(("controls", "key", "values"), "the key needs at least the positions off and on")

    def check(path: Path, mentioned: Mapping[str, list[str]]) -> Iterator[Problem]:
        for name, values in mentioned.items():
            if name not in controls:
                yield Problem((*path, name), f"no control '{name}'; this circuit has {', '.join(controls)}")
                continue
            for value in values:
                if value not in controls[name]:
                    yield Problem((*path, name), f"control '{name}' has no position '{value}'; it has {', '.join(controls[name])}")

    for part_id, part in document.parts.items():
        named = [f for f in type(part).model_fields if f.endswith("_when") or f == "control"]
        yield from check(("parts", part_id, *named[:1]), part.control_values())
    for path, condition in _watched(document):
        yield from check((*path, "when"), {name: [value] for name, value in condition.when.items()})
    for setup_id, setup in document.setups.items():
        yield from check(("setups", setup_id, "controls"), {name: [value] for name, value in setup.controls.items()})
        for index, connector in enumerate(setup.unplugged):
            if connector not in document.connectors:
                yield Problem(("setups", setup_id, "unplugged", index), f"no connector '{connector}'")
