"""Other parts on the same wires: each is a whole part on a plug of its own, so that what it does tells about the shared wire."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sondar.core.describing.building import (
    BATTERY,
    GROUND,
    RELAY,
    RUN,
    target_of,
)
from sondar.core.describing.sheet import Sheet, SheetRow
from sondar.core.describing.templates import Template, by_words
from sondar.core.errors import FieldProblem, InvalidError

NOT_SIBLINGS = ("control", "buttons")
"""Fields of parts that are moved by a control of their own: such a part is no second user of a wire here."""


def with_other_users(
    data: dict[str, Any], sheet: Sheet, rows: Sequence[SheetRow], templates: Mapping[str, Template]
) -> dict[str, Any]:
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
    target = target_of(row[1])
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
    used = {target_of(row[1]).split(".")[0] for row in rows}
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
