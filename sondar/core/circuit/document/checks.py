"""Reading a circuit file, and every check that a typed field alone cannot make.

``read_document`` takes the plain data of a parsed file and returns a ``CircuitDocument`` or raises one
``CircuitDocumentError`` that lists *all* problems, each with the path to its field.
"""

from __future__ import annotations

import difflib
import itertools
from collections.abc import Iterator, Mapping
from typing import Any

from pydantic import ValidationError

from sondar.core.circuit.document.fields import CODE_FORM, CircuitDocument, Condition, Variant, behind, goes_with
from sondar.core.circuit.document.variants import patched
from sondar.core.circuit.families import PulledInput, Splice
from sondar.core.circuit.families.base import listed, normalised
from sondar.core.circuit.model import CHASSIS, Setup
from sondar.core.errors import CircuitDocumentError, FieldProblem
from sondar.core.former_names import with_current_names

Path = tuple[str | int, ...]

MOST = {
    "parts": 200, "wires": 600, "connectors": 150, "modules": 60, "controls": 40, "joins": 300, "setups": 200, "codes": 300, "symptoms": 100,
    "limits": 300, "service": 200, "synonyms": 60, "cautions": 40,
    "responses": 40, "variants": 8,
}  # fmt: skip
"""Entries of each field of one circuit; a whole vehicle is joined from its circuits. Ten times what the largest of the library has."""
MOST_CAVITIES, MOST_VALUES, MOST_NAME = 200, 24, 80
MOST_PROBLEMS = 100
"""Problems that are listed at once."""


def read_document(data: object) -> CircuitDocument:
    """Check plain data and return the document.

    Raises:
        CircuitDocumentError: lists every problem found; structural problems first, then wiring problems.
    """
    if not isinstance(data, Mapping):
        raise CircuitDocumentError([FieldProblem((), "expected a circuit file with fields such as sondar, id, parts, wires")])
    data, _ = with_current_names(data)
    problems = list(itertools.islice(_size_problems(data), MOST_PROBLEMS))
    if problems:
        raise CircuitDocumentError(problems)
    try:
        document = CircuitDocument.model_validate(_with_text_keys(data))
    except ValidationError as error:
        raise CircuitDocumentError([_problem(item, data) for item in error.errors()[:MOST_PROBLEMS]]) from error
    problems = list(itertools.islice(_wiring_problems(document), MOST_PROBLEMS))
    problems += [problem for name in document.variants for problem in _variant_problems(data, name)]
    if problems:
        raise CircuitDocumentError(problems[:MOST_PROBLEMS])
    return document


def as_variant(data: Mapping[Any, Any], name: str) -> CircuitDocument:
    """The document as it is in one of its variants.

    Raises:
        CircuitDocumentError: the change makes it wrong.
    """
    data, _ = with_current_names(data)
    return read_document(patched(data, data["variants"][name]))


def _variant_problems(data: Mapping[Any, Any], name: str) -> Iterator[FieldProblem]:
    try:
        as_variant(data, name)
    except CircuitDocumentError as error:
        for problem in error.problems:
            yield FieldProblem(("variants", name, *problem.path), f"so changed: {problem.message}")


def variants_of(data: Mapping[Any, Any]) -> dict[str, tuple[Variant, CircuitDocument]]:
    """The variants of a document that has been checked, each with the document as it is then."""
    found = read_document(data).variants
    return {name: (variant, as_variant(data, name)) for name, variant in found.items()}


def _size_problems(data: Mapping[Any, Any]) -> Iterator[FieldProblem]:
    """What is larger than one circuit can be, so that nothing is worked out for what nobody drew by hand."""
    for name, most in MOST.items():
        found = data.get(name)
        if isinstance(found, Mapping | list) and len(found) > most:
            yield FieldProblem((name,), f"{len(found)} entries; at most {most}: split the circuit")
        for key in found if isinstance(found, Mapping) else ():
            if len(str(key)) > MOST_NAME:
                yield FieldProblem((name, str(key)), f"a name of {len(str(key))} characters; at most {MOST_NAME}")
    for field in ("id", "title"):
        if isinstance(data.get(field), str) and len(data[field]) > 2 * MOST_NAME:
            yield FieldProblem((field,), f"{len(data[field])} characters; at most {2 * MOST_NAME}")
    for group, inner, most in (("connectors", "cavities", MOST_CAVITIES), ("controls", "values", MOST_VALUES)):
        entries = data.get(group)
        for key, entry in entries.items() if isinstance(entries, Mapping) else ():
            held = entry.get(inner) if isinstance(entry, Mapping) else None
            if isinstance(held, Mapping | list) and len(held) > most:
                yield FieldProblem((group, str(key), inner), f"{len(held)} entries; at most {most}")


def _with_text_keys(value: Any) -> Any:
    """Cavity and pin numbers may be written bare; keys are text here."""
    if isinstance(value, Mapping):
        return {str(key): _with_text_keys(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_with_text_keys(item) for item in value]
    return value


def _problem(error: Any, data: Mapping[Any, Any]) -> FieldProblem:
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
    return FieldProblem(tuple(path), message)


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


def _wiring_problems(document: CircuitDocument) -> Iterator[FieldProblem]:
    yield from _identity_problems(document)
    terminals = known_terminals(document)
    used: set[str] = set()
    for path, ref in _references(document):
        used.add(ref)
        if ref not in terminals:
            near = difflib.get_close_matches(ref, sorted(terminals), 3, 0.4)
            hint = f"; did you mean {' or '.join(near)}?" if near else ""
            yield FieldProblem(path, f"'{ref}' names no terminal, cavity or splice leg of this circuit{hint}")
    for part_id, part in document.parts.items():
        legs = part.legs if isinstance(part, Splice) else part.TERMINALS
        for leg in legs:
            # A signal circuit may need the battery only as the place where the black probe goes.
            if f"{part_id}.{leg}" not in used and (part.family, leg) == ("battery", "pos"):
                continue
            # A leg of a splice may lead into another circuit of the vehicle.
            if isinstance(part, Splice) and sum(f"{part_id}.{other}" in used for other in legs) >= 2:
                continue
            if f"{part_id}.{leg}" not in used:
                yield FieldProblem(("parts", part_id), f"terminal {part_id}.{leg} joins nothing: add a wire, a cavity or a join")
        if part.module is not None and part.module not in document.modules:
            yield FieldProblem(("parts", part_id, "module"), f"no module '{part.module}' under 'modules'")
    for connector_id, connector in document.connectors.items():
        for cavity in connector.pins.keys() - connector.cavities.keys():
            yield FieldProblem(("connectors", connector_id, "pins", cavity), f"the connector has no cavity {cavity}")
        for cavity, target in connector.cavities.items():
            path = ("connectors", connector_id, "cavities", cavity)
            if f"{connector_id}.{cavity}" not in used:
                yield FieldProblem(path, f"no wire ends at {connector_id}.{cavity}: add the wire or remove the cavity")
            if connector.inline and f"{connector_id}.{cavity}/c" not in used:
                yield FieldProblem(path, f"in-line cavity: no wire leaves its far side {connector_id}.{cavity}/c")
            if not connector.inline and not behind(target):
                yield FieldProblem(path, "say which terminal is behind this cavity, or mark the connector 'inline: true'")
    yield from _control_problems(document)
    yield from _limit_problems(document, terminals)
    yield from _observation_problems(document, terminals)
    yield from _response_problems(document)


def _response_problems(document: CircuitDocument) -> Iterator[FieldProblem]:
    for part_id, part in document.parts.items():
        follows = getattr(part, "follows", "")
        if follows and (follows not in document.parts or document.parts[follows].acts(follows, _at_rest(document)) is None):
            yield FieldProblem(
                ("parts", part_id, "follows"), f"'{follows}' is no motor, coil or other part of this circuit that acts"
            )
    seen: dict[tuple[object, ...], str] = {}
    for name, response in document.responses.items():
        where = ("responses", name)
        if not isinstance(document.parts.get(response.input), PulledInput):
            yield FieldProblem((*where, "input"), f"'{response.input}' is no module input of this circuit")
        for index, part_id in enumerate(response.chain):
            if part_id not in document.parts:
                yield FieldProblem((*where, "chain", index), f"no part '{part_id}'")
        if not any(document.parts[part_id].lag_s for part_id in response.chain if part_id in document.parts):
            yield FieldProblem((*where, "chain"), "none of these parts has a time constant: give at least one its lag_s")
        for control in response.before.keys() - response.when.keys():
            yield FieldProblem(
                (*where, "before", control), f"'{control}' does not move: it stands under 'when' as well, or not at all"
            )
        same = (response.input, *sorted((control, *values) for control, values in normalised(response.when).items()))
        if same in seen:
            yield FieldProblem(where, f"the same input and controls as '{seen[same]}'")
        seen[same] = name


def _at_rest(document: CircuitDocument) -> Setup:
    return Setup(tuple(sorted((name, values[0]) for name, values in document.control_values().items())))


def _limit_problems(document: CircuitDocument, terminals: set[str]) -> Iterator[FieldProblem]:
    controls = document.control_values()
    lookable = {*document.parts, *document.wires, *document.connectors}
    for name, limit in document.limits.items():
        for field in ("red", "black"):
            ref = getattr(limit, field)
            if ref and ref not in terminals and not (field == "red" and ref in lookable):
                yield FieldProblem(("limits", name, field), f"'{ref}' names no terminal, cavity or part of this circuit")
        for control, value in limit.when.items():
            if value not in controls.get(control, ()):
                yield FieldProblem(("limits", name, "when", control), f"'{control}: {value}' is no position of a control here")
        for connector in limit.unplugged:
            if connector not in document.connectors:
                yield FieldProblem(("limits", name, "unplugged"), f"no connector '{connector}'")
        for form in limit.converting:
            other = form.refers_to(limit)
            if other and (other not in document.limits or other == name):
                yield FieldProblem(("limits", name), f"no other limit '{other}'")
    for index, note in enumerate(document.service):
        if note.part not in {*document.parts, *document.wires, *document.connectors, *document.modules}:
            yield FieldProblem(("service", index, "part"), f"no part '{note.part}'")


def _watched(document: CircuitDocument) -> Iterator[tuple[Path, Condition]]:
    for section, items in (("codes", document.codes), ("symptoms", document.symptoms)):
        for name, item in items.items():
            for index, condition in enumerate(item.sets):
                yield (section, name, "sets", index), condition
    for name, module in document.modules.items():
        for index, condition in enumerate(module.answers):
            yield ("modules", name, "answers", index), condition


def _observation_problems(document: CircuitDocument, terminals: set[str]) -> Iterator[FieldProblem]:
    for name, code in document.codes.items():
        if not CODE_FORM.fullmatch(name):
            yield FieldProblem(("codes", name), f"'{name}' is not a code: one of P, C, B, U, four hex digits, and perhaps -xx")
        if code.module not in document.modules:
            yield FieldProblem(("codes", name, "module"), f"no module '{code.module}' under 'modules'")
    for path, condition in _watched(document):
        for position, ref in enumerate(condition.measures or ()):
            if ref not in terminals:
                yield FieldProblem((*path, "measures", position), f"'{ref}' names no terminal of this circuit")
        if condition.flows is not None and condition.flows.split(".")[0] not in document.parts:
            yield FieldProblem((*path, "flows"), f"'{condition.flows}' names no branch of a part of this circuit")


def _identity_problems(document: CircuitDocument) -> Iterator[FieldProblem]:
    seen: dict[str, str] = {CHASSIS: "the vehicle body"}
    for section in ("parts", "modules", "connectors", "wires"):
        for name in getattr(document, section):
            if "." in name or "/" in name or "@" in name:
                yield FieldProblem((section, name), f"'{name}' may not contain '.', '/' or '@'")
            if name in seen:
                yield FieldProblem((section, name), f"'{name}' is already used under {seen[name]}: ids must be unique")
            seen[name] = section
    if not any(part.family == "battery" for part in document.parts.values()):
        yield FieldProblem(("parts",), "no battery: add a part with 'family: battery', so that there is a supply")


def _control_problems(document: CircuitDocument) -> Iterator[FieldProblem]:
    controls = document.control_values()
    if "key" in document.controls and not {"off", "on"} <= set(controls["key"]):
        yield FieldProblem(("controls", "key", "values"), "the key needs at least the positions off and on")

    def check(path: Path, mentioned: Mapping[str, list[str]]) -> Iterator[FieldProblem]:
        for name, values in mentioned.items():
            if name not in controls:
                yield FieldProblem((*path, name), f"no control '{name}'; this circuit has {', '.join(controls)}")
                continue
            for value in values:
                if value not in controls[name]:
                    yield FieldProblem(
                        (*path, name), f"control '{name}' has no position '{value}'; it has {', '.join(controls[name])}"
                    )

    for name, control in document.controls.items():
        for field, per_position in (("requires", control.requires), ("excludes", control.excludes), ("needs", control.needs)):
            for position in per_position:
                if position not in control.values:
                    message = f"control '{name}' has no position '{position}'; it has {', '.join(control.values)}"
                    yield FieldProblem(("controls", name, field, position), message)
        for field, by_position in (("requires", control.requires), ("excludes", control.excludes)):
            for position, others in by_position.items():
                yield from check(("controls", name, field, position), listed(others))
        for position, names in control.needs.items():
            for index, needed in enumerate(names):
                if needed not in document.connectors and needed not in document.modules:
                    yield FieldProblem(("controls", name, "needs", position, index), f"no connector or module '{needed}'")
    for name, control in document.controls.items():
        first = {other: values[0] for other, values in controls.items()}
        if not goes_with(control, control.values[0], first):
            yield FieldProblem(("controls", name), "its first position is the one at rest, and must go with those of the others")
    for part_id, part in document.parts.items():
        named = [f for f in type(part).model_fields if f.endswith("_when") or f == "control"]
        yield from check(("parts", part_id, *named[:1]), part.control_values())
    for path, condition in _watched(document):
        yield from check((*path, "when"), {name: [value] for name, value in condition.when.items()})
    for name, response in document.responses.items():
        yield from check(("responses", name, "when"), listed(response.when))
        yield from check(("responses", name, "before"), listed(dict(response.before)))
    for setup_id, setup in document.setups.items():
        yield from check(("setups", setup_id, "controls"), {name: [value] for name, value in setup.controls.items()})
        for index, connector in enumerate(setup.unplugged):
            if connector not in document.connectors:
                yield FieldProblem(("setups", setup_id, "unplugged", index), f"no connector '{connector}'")
