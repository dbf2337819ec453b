"""What a wiring sheet says about one part, cavity by cavity, and the circuit that follows from it.

A *sheet* names the kind of part (a typical circuit), and for each cavity of its plug what it carries, the colour of its wire, the pin of the
module it goes to and who else is joined to it; beside that the fuse, the relay or the main relay that feeds it, connectors on the
way, and figures. Whatever the sheet leaves out stays as is typical for the kind, as a range where it differs between makes.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints

from sondar.core.circuit.families.base import Fields
from sondar.core.colours import colour_of
from sondar.core.describing.building import (
    BATTERY,
    GROUND,
    MODULE,
    MODULE_PLUG,
    PART_PLUG,
    RELAY,
    RELAY_PLUG,
    RUN,
    Build,
    built,
)
from sondar.core.describing.templates import Template, by_words, document_of, other_ways
from sondar.core.errors import FieldProblem, InvalidError

Word = Annotated[str, StringConstraints(max_length=60, strip_whitespace=True)]
Number = Annotated[str, StringConstraints(max_length=12, pattern=r"^[A-Za-z0-9_-]*$", strip_whitespace=True)]
"""Number of a cavity or a pin as it is moulded beside it."""

DESCRIBED = "Described from the vehicle's sheet, cavity by cavity; what the sheet does not say is typical for the kind."

Source = Literal["", "key", "battery", "main relay"]
SOURCES: dict[str, str] = {"key": "switched with the key", "battery": "permanent", "main relay": "main relay"}
MAIN_RELAY_PLUG = "X4"
MOST_ROWS, MOST_SHARED, MOST_THROUGH = 40, 6, 4
NOT_SIBLINGS = ("control", "buttons")
"""Fields of parts that are moved by a control of their own: such a part is no second user of a wire here."""


class SheetRow(Fields):
    """One cavity of the part's plug."""

    cavity: Number = Field(min_length=1, description="Its number on the vehicle's plug.")
    carries: int | None = Field(
        None, ge=1, description="Cavity of the typical circuit that it is, from 1; left out if nobody knows."
    )
    colour: Word = Field("", description="Colour of its wire, in words or as abbreviated on the sheet.")
    mm2: float | None = Field(None, gt=0.0, le=150.0)
    pin: Number = Field("", description="Pin of the module that it goes to.")
    shared: list[Word] = Field(default_factory=list, max_length=MOST_SHARED, description="Other parts on the same wire.")


class Supply(Fields):
    """How the part is fed."""

    source: Source = Field("", description="Empty: as is typical for the kind.")
    fuse: Number = Field("", description="Number of the fuse.")
    fuse_a: float | None = Field(None, gt=0.0, le=500.0)
    relay: Word = Field("", description="Number or name of the relay, where there is one.")


class Through(Fields):
    """A connector on the way from the harness to the part."""

    title: Word = Field(min_length=1)
    cavities: dict[Word, Number] = Field(max_length=MOST_ROWS, description="Cavity of the part's plug -> its own cavity.")


class Sheet(Fields):
    """What is known of one part's wiring."""

    template: Word = Field(min_length=1, description="Kind of part: id of a typical circuit.")
    part: Word = Field("", description="What the part is called.")
    make: Word = Field(min_length=1)
    model: Word = ""
    years: Word = ""
    module: Number = Field("", description="Designation of the module, such as ECM.")
    plug: Word = Field("", description="Designation of the part's plug.")
    place: Word = Field("", description="Where the plug sits.")
    ground: Number = Field("", description="Designation of the ground point.")
    rows: list[SheetRow] = Field(min_length=1, max_length=MOST_ROWS)
    supply: Supply = Supply()
    through: list[Through] = Field(default_factory=list, max_length=MOST_THROUGH)
    figures: dict[Word, Word] = Field(
        default_factory=dict, max_length=40, description="Part.field -> figure or range, e.g. Y.coil_ohm: 7 to 8."
    )
    table: dict[Word, Word] = Field(
        default_factory=dict, max_length=24,
        description="Of a coded switch: position -> one digit per line in the order of the cavities, 1 for grounded.",
    )  # fmt: skip


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
    data = _with_others(_with_table(data, sheet), sheet, rows, templates)
    order, names = [row.carries or 0 for row in rows], [row.cavity for row in rows]
    made = built(data, sheet.part, order, names)
    _wired(made, sheet, rows)
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
    return _designated(document, sheet, _fuses_of(made))


def sheet_slug(sheet: Sheet) -> str:
    """Identifier of the circuit that a sheet describes: the same part of the same vehicle is the same circuit."""
    words = f"{sheet.make} {sheet.model} {sheet.part or sheet.template} {sheet.plug}".lower()
    return "-".join(re.findall(r"[a-z0-9]+", words))[:120] or "circuit"


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


def _target(target: Any) -> str:
    return str(target if isinstance(target, str) else target[0])


def _fed(data: dict[str, Any], supply: Supply) -> dict[str, Any]:
    """With the supply that the sheet says in place of the usual one."""
    want = {"key": RUN, "main relay": RUN, "battery": BATTERY}.get(supply.source)
    if want is None or "relay" in data:
        return data
    rows = [
        [terminals, want if _target(target) in (RUN, BATTERY) else target, carries] for terminals, target, carries in data["plug"]
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


# -- other users of the same wires -----------------------------------------------------------------------------


def _with_others(data: dict[str, Any], sheet: Sheet, rows: Sequence[SheetRow], templates: Mapping[str, Template]) -> dict[str, Any]:
    """With the other parts that share wires: each on a plug of its own, joined where the sheet says so."""
    names = list(dict.fromkeys(name for row in rows for name in row.shared if name))
    for number, name in enumerate(names, start=1):
        shared = {
            _role(data["plug"][(row.carries or 1) - 1]): data["plug"][(row.carries or 1) - 1][1]
            for row in rows
            if name in row.shared
        }
        template = _kind_of(name, shared, templates, sheet.template)
        data = _joined_by(data, template, f"X1{number}", name, f"-{number + 1}", shared)
    return data


def _role(row: Sequence[Any]) -> str:
    """What a cavity is to whoever shares its wire: supply, reference, return, ground, or the wire itself."""
    target = _target(row[1])
    if target in (RUN, BATTERY, RELAY):
        return "supply"
    if target == GROUND:
        return "ground"
    return "return" if target.endswith(".gnd") else "reference" if "reference" in row[2] else target


def _kind_of(name: str, shared: Mapping[str, Any], templates: Mapping[str, Template], own: str) -> Template:
    """What kind of part another user is: by its name, if it can share what is shared; else of the same kind as this one."""

    def fits(template: Template) -> bool:
        roles = {_role(row) for row in template.data.get("plug", ())}
        simple = not any(field in part for part in template.data.get("parts", {}).values() for field in NOT_SIBLINGS)
        return set(shared) <= roles and simple and "relay" not in template.data and "module_of_part" not in template.data

    called = [template for template in by_words(templates, name, most=12) if fits(template)]
    found = min(called, key=lambda template: template.wires, default=None)
    if found is None and fits(templates[own]):
        found = templates[own]
    if found is None:
        found = next((template for template in templates.values() if fits(template)), None)
    if found is None:
        said = f"what is '{name}'? A part of that name that shares {' and '.join(shared)} is not known"
        raise InvalidError("Another user of the wire", said, [FieldProblem(("rows",), said)])
    return found


def _joined_by(
    data: dict[str, Any], template: Template, connector: str, name: str, mark: str, shared: Mapping[str, Any]
) -> dict[str, Any]:
    """One more part: its names end in ``mark``, others of its kind are commanded together."""
    other = template.data
    new = {part: f"{part}{mark}" for part in (*other.get("parts", {}), *other.get("module", {}))}
    controls = {control: f"{control}-{template.id}" for control in other.get("controls", {})}

    def renamed(value: Any) -> Any:
        if isinstance(value, str):
            head, dot, tail = value.partition(".")
            return f"{new[head]}.{tail}" if dot and head in new else value
        return [renamed(item) for item in value] if isinstance(value, list) else value

    def part_of(part: Mapping[str, Any]) -> dict[str, Any]:
        return {
            key: {controls.get(control, control): values for control, values in value.items()} if key.endswith("_when") else value
            for key, value in part.items()
        }

    rows = []
    for row in other["plug"]:
        role = _role(row)
        rows.append([renamed(row[0]), shared[role] if role in shared else renamed(row[1]), row[2]])
    used = {_target(row[1]).split(".")[0] for row in rows}
    parts = {new[key]: part_of(part) for key, part in other.get("parts", {}).items()}
    first = next(iter(parts))
    parts[first]["title"] = f"{name[0].upper()}{name[1:]}"
    module = {new[key]: part_of(port) for key, port in other.get("module", {}).items() if new[key] in used}
    added = {
        controls[key]: {
            **{
                field: {position: {controls.get(c, c): v for c, v in when.items()} for position, when in value.items()}
                if field in ("requires", "excludes") else value
                for field, value in control.items()
            },
            "title": f"{control.get('title', key)}, {name}",
        }
        for key, control in other.get("controls", {}).items()
        if any(controls[key] in part.get(field, {}) for part in (*parts.values(), *module.values()) for field in part if field.endswith("_when"))
    }  # fmt: skip
    return {
        **data, "parts": {**data.get("parts", {}), **parts}, "module": {**data.get("module", {}), **module},
        "controls": {**data.get("controls", {}), **{key: value for key, value in added.items() if key not in data.get("controls", {})}},
        "other_plugs": [*data.get("other_plugs", ()), (connector, f"{parts[first]['title']} plug", rows)],
    }  # fmt: skip


# -- what the sheet adds to the built circuit --------------------------------------------------------------------


def _wired(made: Build, sheet: Sheet, rows: Sequence[SheetRow]) -> None:
    """Colours, pins, figures, fuse, main relay, joints and connectors on the way."""
    for place, figure in sheet.figures.items():
        part, _, field = place.partition(".")
        if part not in made.parts or not field:
            raise InvalidError(
                "Figure", f"there is no part '{part}'", [FieldProblem(("figures", place), f"no part '{part}' in this circuit")]
            )
        made.parts[part][field] = figure
    plug = made.connectors[PART_PLUG]
    if sheet.place:
        plug["place"] = sheet.place
    if sheet.supply.source == "main relay":
        _main_relay(made)
    elif sheet.supply.source == "key" and RELAY_PLUG in made.connectors:
        _contact_with_the_key(made)
    _joints(made, rows)
    for row in rows:
        here = f"{PART_PLUG}.{row.cavity}"
        for wire in made.wires.values():
            if here in (wire["from"], wire["to"]):
                if row.colour:
                    wire["colour"] = row.colour
                if row.mm2:
                    wire["gauge_mm2"] = row.mm2
    _pins(made, rows)
    if sheet.supply.fuse_a:
        for fuse in _fuses_of(made):
            made.parts[fuse]["rating_a"] = sheet.supply.fuse_a
    for number, through in enumerate(sheet.through, start=5):
        _through(made, f"X{number}", through)


def _fuses_of(made: Build) -> list[str]:
    """The fuse that the part is fed through, if there is one."""
    first = (f"{RELAY_PLUG}.30",) if RELAY_PLUG in made.connectors else (f"{PART_PLUG}.", "SPS", "X5.")
    return [
        name for name in ("F1", "F2") if any(w["from"] == f"{name}.2" and w["to"].startswith(first) for w in made.wires.values())
    ]


def _contact_with_the_key(made: Build) -> None:
    """The relay's contact on the supply that the key switches, in place of the permanent one."""
    for wire in made.wires.values():
        if wire["to"] == f"{RELAY_PLUG}.30":
            wire["from"] = "F1.2"
    if not any(wire["from"] == "F2.2" for wire in made.wires.values()):
        made.parts.pop("F2", None)
        made.wires = {name: wire for name, wire in made.wires.items() if wire["to"] != "F2.1"}


def _main_relay(made: Build) -> None:
    """A main relay: the key pulls it in, its contact feeds the fuse in place of the key's own contact."""
    wires = made.wires
    for wire in wires.values():
        if wire["to"] == "F1.1":
            wire["from"] = f"{MAIN_RELAY_PLUG}.87"
    made.parts["K0"] = {"family": "relay", "title": "Main relay", "coil_ohm": "60 to 120"}
    made.connectors[MAIN_RELAY_PLUG] = {
        "title": "Main relay carrier", "access_min": 1.5, "unplug_min": 0.3, "cavities": {pin: f"K0.{pin}" for pin in ("30", "85", "86", "87")},
    }  # fmt: skip
    made.wire("BAT.pos", f"{MAIN_RELAY_PLUG}.30", True)
    made.wire("IGN.2", f"{MAIN_RELAY_PLUG}.86")
    made.parts["G3"] = {"family": "ground_point", "title": "Ground of the main relay"}
    made.wire(f"{MAIN_RELAY_PLUG}.85", "G3.stud")


def _joints(made: Build, rows: Sequence[SheetRow]) -> None:
    """Joints on supplies and grounds that others share; what goes to a port of the module has its joint already."""
    for row in rows:
        here = f"{PART_PLUG}.{row.cavity}"
        if not row.shared:
            continue
        for far, away in (("from", "to"), ("to", "from")):
            own = next((wire for wire in made.wires.values() if wire[away] == here), None)
            if own is None or own[far].startswith("SP"):
                continue
            source = own[far]
            same = [wire for wire in made.wires.values() if wire[far] == source and _of_part(wire[away])]
            if len(same) < 2:
                continue
            joint = f"SPS{row.cavity}"
            legs = ["feed", *(f"leg{number}" for number in range(1, len(same) + 1))]
            made.parts[joint] = {"family": "splice", "title": "Joint in the harness", "legs": legs}
            for leg, wire in zip(legs[1:], same, strict=True):
                wire[far] = f"{joint}.{leg}"
            start, end = (source, f"{joint}.feed") if far == "from" else (f"{joint}.feed", source)
            made.wire(start, end, True)


def _of_part(ref: str) -> bool:
    """True for a cavity of this part's plug or of another user's."""
    connector = ref.split(".")[0]
    return connector == PART_PLUG or (connector.startswith("X1") and connector != MODULE_PLUG)


def _pins(made: Build, rows: Sequence[SheetRow]) -> None:
    """Numbers of the module's own plug, beside Sondar's."""
    if MODULE_PLUG not in made.connectors:
        return
    for row in rows:
        here = f"{PART_PLUG}.{row.cavity}"
        port = next((port for port, ends in made.legs.items() if here in ends), None)
        if port is None and row.pin and RELAY_PLUG in made.connectors:
            port = next((port for port, ends in made.legs.items() if f"{RELAY_PLUG}.85" in ends), None)
        cavity = next((cavity for cavity, target in made.cavities.items() if _target(target) == port), None)
        if row.pin and cavity is not None:
            made.connectors[MODULE_PLUG].setdefault("pins", {})[cavity] = row.pin


def _through(made: Build, connector: str, through: Through) -> None:
    """A connector on the way: each of its wires ends at it, and a new one goes on to the part."""
    made.connectors[connector] = {
        "title": through.title, "access_min": 4, "unplug_min": 0.5, "inline": True, "exposed": True,
        "cavities": dict.fromkeys(through.cavities.values()),
    }  # fmt: skip
    for cavity, own in through.cavities.items():
        here = f"{PART_PLUG}.{cavity}"
        for name, wire in list(made.wires.items()):
            if here not in (wire["from"], wire["to"]):
                continue
            far = "from" if wire["to"] == here else "to"
            near = "to" if far == "from" else "from"
            made.wires[f"{name}b"] = {**wire, far: f"{connector}.{own}/c", "length_m": 0.5}
            made.wires[name] = {**wire, near: f"{connector}.{own}"}


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
    """With the vehicle's own designations of module, fuse, ground and relay in place of Sondar's."""
    new: dict[str, str] = {}
    fuse = next(iter(fuses), "")
    for old, wanted, taken in (
        (fuse, sheet.supply.fuse, document["parts"]), ("G1", sheet.ground, document["parts"]),
        ("K1" if "K1" in document["parts"] else "K0", sheet.supply.relay, document["parts"]),
        (PART_PLUG, sheet.plug, document["connectors"]), (MODULE, sheet.module, document.get("modules", {})),
    ):  # fmt: skip
        name = re.sub(r"[^A-Za-z0-9_-]", "", wanted)
        if (
            name
            and old in taken
            and name not in {*document["parts"], *document["connectors"], *document.get("modules", {}), *document["wires"]}
        ):
            new[old] = name
    sheet_of = document.pop("sheet")
    found: dict[str, Any] = _replaced(document, lambda ref: _new_ref(ref, new))
    for old, name in new.items():
        if old in ("F1", "F2"):
            found["parts"][name]["title"] = f"Fuse {name}"
        elif old in ("K0", "K1"):
            found["parts"][name]["title"] = f"Relay {name}" if old == "K1" else f"Main relay {name}"
        elif old == "G1":
            found["parts"][name]["title"] = f"Ground {name}"
        elif old == MODULE:
            found["modules"][name]["title"] = name
            found["connectors"][MODULE_PLUG]["title"] = f"{name} plug"
    return {**found, "sheet": sheet_of}


def _new_ref(ref: str, new: Mapping[str, str]) -> str:
    head, dot, tail = ref.partition(".")
    return f"{new[head]}{dot}{tail}" if head in new else ref


def _replaced(value: Any, change: Callable[[str], str]) -> Any:
    """Every reference in the parts of a document changed, keys among them; titles hold no references."""
    if isinstance(value, Mapping):
        return {
            change(key) if isinstance(key, str) else key: item if key in ("title", "about", "how") else _replaced(item, change)
            for key, item in value.items()
        }
    if isinstance(value, list):
        return [_replaced(item, change) for item in value]
    return change(value) if isinstance(value, str) else value
