"""The circuit that follows from a wiring sheet, and what is not clear in the sheet yet."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from itertools import count
from typing import Any

from sondar.core.colours import colour_of
from sondar.core.describing.building import (
    BATTERY,
    MODULE,
    MODULE_PLUG,
    PART_PLUG,
    RUN,
    Build,
    built,
    target_of,
)
from sondar.core.describing.other_users import with_other_users
from sondar.core.describing.renaming import renamed, with_references
from sondar.core.describing.sheet import Sheet, SheetRow, Supply, sheet_slug
from sondar.core.describing.sheet_wiring import add_wiring, fuses_of
from sondar.core.describing.templates import Template, document_of, other_ways
from sondar.core.errors import FieldProblem, InvalidError

TITLES = {"F1": "Fuse", "F2": "Fuse", "K1": "Relay", "K0": "Main relay", "G1": "Ground"}
NAMED_SECTIONS = ("parts", "connectors", "modules", "wires")
DESCRIBED = "Described from the vehicle's sheet, cavity by cavity; what the sheet does not say is typical for the kind."


def sheet_document(sheet: Sheet, templates: Mapping[str, Template], slug: str = "") -> dict[str, Any]:
    """The circuit file, as data, that follows from a sheet.

    Raises:
        InvalidError: the sheet contradicts itself or its kind of part; names every field.
    """
    template = templates.get(sheet.template)
    if template is None:
        said = f"there is no typical circuit '{sheet.template}': choose one of the list"
        raise InvalidError("No such kind of part", said, [FieldProblem(("template",), said)])
    rows, problems = _checked_rows(sheet, template)
    if problems:
        raise InvalidError("The sheet is not clear yet", "; ".join(problem.message for problem in problems), problems)
    data = _fed(dict(template.data), sheet.supply)
    data = with_other_users(_with_table(data, sheet), sheet, rows, templates)
    order, names = [row.carries or 0 for row in rows], [row.cavity for row in rows]
    made = built(data, sheet.part, order, names)
    add_wiring(made, sheet, rows)
    title = sheet.part or template.title
    vehicle = {
        "make": sheet.make,
        **({"model": sheet.model} if sheet.model else {}),
        **({"years": sheet.years} if sheet.years else {}),
    }
    about = {
        "id": slug or sheet_slug(sheet), "title": f"{title[0].upper()}{title[1:]}", "vehicle": vehicle,
        "about": f"{DESCRIBED} {template.data.get('about', '')}".strip(),
        "cautions": list(template.data.get("cautions", ())), "variants": _left_open(template, made),
    }  # fmt: skip
    document = document_of(made, about)
    document["sheet"] = sheet.model_dump(exclude_defaults=True)
    return _designated(document, sheet, fuses_of(made))


def _checked_rows(sheet: Sheet, template: Template) -> tuple[list[SheetRow], list[FieldProblem]]:
    """Rows of known function in the order of the sheet, colours in words, and what is wrong with any."""
    problems: list[FieldProblem] = []
    rows: list[SheetRow] = []
    seen: dict[str, str] = {}
    pins: set[str] = set()
    for index, row in enumerate(sheet.rows):
        place = ("rows", index)
        if row.cavity in seen:
            problems.append(FieldProblem((*place, "cavity"), f"cavity {row.cavity} is there twice"))
        seen[row.cavity] = row.cavity
        colour = row.colour
        if colour:
            try:
                colour = colour_of(colour)
            except InvalidError as error:
                problems.append(
                    FieldProblem(
                        (*place, "colour"), f"cavity {row.cavity}: {error.problems[0].message if error.problems else error.detail}"
                    )
                )
        if row.pin and row.pin in pins:
            problems.append(FieldProblem((*place, "pin"), f"pin {row.pin} of the module is there twice"))
        pins.add(row.pin)
        if row.carries is None:
            continue
        if row.carries > template.wires:
            problems.append(FieldProblem((*place, "carries"), f"'{template.title}' has {template.wires} cavities"))
        elif any(other.carries == row.carries for other in rows):
            problems.append(FieldProblem((*place, "carries"), f"two cavities carry the {template.carries[row.carries - 1]}"))
        rows.append(row.model_copy(update={"colour": colour}))
    missing = [name for number, name in enumerate(template.carries, start=1) if not any(row.carries == number for row in rows)]
    if missing and not problems:
        problems.append(FieldProblem(("rows",), f"no cavity carries: {', '.join(missing)}"))
    for index, through in enumerate(sheet.through):
        unknown = [cavity for cavity in through.cavities if cavity not in seen]
        if unknown:
            problems.append(FieldProblem(("through", index, "cavities"), f"the plug has no cavity {', '.join(unknown)}"))
        if len(set(through.cavities.values())) < len(through.cavities):
            problems.append(FieldProblem(("through", index, "cavities"), f"{through.title}: one cavity is there twice"))
    return rows, problems


def _fed(data: dict[str, Any], supply: Supply) -> dict[str, Any]:
    """With the supply that the sheet says in place of the usual one."""
    want = {"key": RUN, "main relay": RUN, "battery": BATTERY}.get(supply.source)
    if want is None or "relay" in data:
        return data
    rows = [
        [terminals, want if target_of(target) in (RUN, BATTERY) else target, carries] for terminals, target, carries in data["plug"]
    ]
    return {**data, "plug": rows}


def _with_table(data: dict[str, Any], sheet: Sheet) -> dict[str, Any]:
    """With the positions of a coded switch as the sheet has them.

    Raises:
        InvalidError: the kind of part has no coded contacts, or a code has not one digit per line.
    """
    if not sheet.table:
        return data
    lines = [name for name, part in data.get("parts", {}).items() if part["family"] == "switch"]
    controls = list(data.get("controls", {}))
    if len(controls) != 1 or len(lines) < 2:
        said = "this kind of part has no coded contacts: leave the table of positions empty"
        raise InvalidError("No coded switch", said, [FieldProblem(("table",), said)])
    order = sorted(
        range(len(lines)), key=lambda number: next((i for i, row in enumerate(sheet.rows) if row.carries == number + 1), number)
    )
    wrong = [position for position, code in sheet.table.items() if not re.fullmatch(rf"[01]{{{len(lines)}}}", code)]
    if wrong or len(sheet.table) < 2:
        said = f"position {wrong[0]}: {len(lines)} digits of 0 and 1" if wrong else "at least two positions"
        raise InvalidError("Table of positions", said, [FieldProblem(("table", *wrong[:1]), said)])
    [control] = controls
    parts = dict(data["parts"])
    for place, number in enumerate(order):
        name = lines[number]
        grounded = [position for position, code in sheet.table.items() if code[place] == "1"]
        parts[name] = {**parts[name], "closed_when": {control: grounded}}
    changed = {**data["controls"], control: {**data["controls"][control], "values": list(sheet.table)}}
    return {**data, "parts": parts, "controls": changed}


def _left_open(template: Template, made: Build) -> dict[str, Any]:
    """Variants that a sheet leaves open: a pull is on no wiring sheet, everything else is."""
    found = {}
    for key, (title, share, changed) in other_ways(template.data).items():
        if not key.startswith("pull-"):
            continue
        parts = {
            name: {"pull": port["pull"]}
            for name, port in changed["module"].items()
            if port.get("pull") != template.data["module"][name].get("pull") and name in made.parts
        }
        found[key] = {"title": title, "share": share, "parts": parts}
    return found


def _designated(document: dict[str, Any], sheet: Sheet, fuses: Sequence[str]) -> dict[str, Any]:
    """With the vehicle's own designations of module, fuse, ground, relay and plug in place of Sondar's.

    Raises:
        InvalidError: two things have the same designation; names the field.
    """
    new = _designations(document, sheet, next(iter(fuses), ""))
    moved = _out_of_the_way(document, new)
    sheet_of = document.pop("sheet")
    found: dict[str, Any] = with_references(document, renamed({**new, **moved}))
    for old, name in new.items():
        title = TITLES.get(old)
        if title:
            found["parts"][name]["title"] = f"{title} {name}"
        elif old == MODULE:
            found["modules"][name]["title"] = name
            found["connectors"][moved.get(MODULE_PLUG, MODULE_PLUG)]["title"] = f"{name} plug"
    return {**found, "sheet": sheet_of}


def _designations(document: Mapping[str, Any], sheet: Sheet, fuse: str) -> dict[str, str]:
    """Sondar's own name -> the vehicle's; a bare number gets the letter of its kind."""
    relay = "K1" if "K1" in document["parts"] else "K0"
    new: dict[str, str] = {}
    problems: list[FieldProblem] = []
    for field, old, wanted, section, letter in (
        (("supply", "fuse"), fuse, sheet.supply.fuse, "parts", "F"), (("ground",), "G1", sheet.ground, "parts", "G"),
        (("supply", "relay"), relay, sheet.supply.relay, "parts", "K"), (("plug",), PART_PLUG, sheet.plug, "connectors", "X"),
        (("module",), MODULE, sheet.module, "modules", "M"),
    ):  # fmt: skip
        name = re.sub(r"[^A-Za-z0-9_-]", "", wanted)
        if not name or old not in document.get(section, {}):
            continue
        name = name if name[0].isalpha() else f"{letter}{name}"
        if name in new.values():
            problems.append(FieldProblem(field, f"{name} is already the designation of something else on this sheet"))
        new[old] = name
    if problems:
        raise InvalidError("Designations", "; ".join(problem.message for problem in problems), problems)
    return new


def _out_of_the_way(document: Mapping[str, Any], new: Mapping[str, str]) -> dict[str, str]:
    """Sondar's own names that are designations of this vehicle, each with a name that nobody has."""
    used = {name for section in NAMED_SECTIONS for name in document.get(section, {})}
    found: dict[str, str] = {}
    for name in sorted(used & set(new.values()) - set(new)):
        letters = re.match(r"[A-Za-z_-]*", name)
        assert letters is not None
        number = next(n for n in count(50) if f"{letters[0]}{n}" not in {*used, *new.values(), *found.values()})
        found[name] = f"{letters[0]}{number}"
    return found
