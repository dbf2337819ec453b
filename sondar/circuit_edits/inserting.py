"""A connector, a fuse or a joint that the drawing does not have, put into one of its wires.

The wire keeps its name and its near end; what goes on behind is a new wire of the same kind. No point is lost, so readings stay.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from itertools import count
from typing import Any, Literal

from sondar.circuit_edits.writing import written
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.errors import CircuitDocumentError, FieldProblem, InvalidError
from sondar.yaml_text import load_yaml

What = Literal["connector", "fuse", "joint"]
LETTER = {"connector": "X", "fuse": "F", "joint": "SP"}
SECTIONS = ("parts", "connectors", "modules", "wires")
NOT_INSERTED = "Not inserted"


@dataclass(frozen=True)
class Insertion:
    """What is in a wire, as somebody found it at the vehicle.

    Attributes:
        name: its designation; one that nobody has if left empty. cavity: of a connector, where this wire goes through.
        rating_a: of a fuse.
    """

    wire: str
    what: What
    name: str = ""
    title: str = ""
    place: str = ""
    cavity: str = ""
    rating_a: float | None = None


def with_insertion(text: str, wanted: Insertion) -> tuple[CircuitDocument, str, str]:
    """The checked document with it, its text, and what was done, in words.

    Raises:
        InvalidError: no such wire, or the designation or cavity is taken; names the field.
    """
    data = load_yaml(text)
    wires = data.get("wires", {})
    if wanted.wire not in wires:
        raise _refused("wire", f"the circuit has no wire '{wanted.wire}'")
    used = {name for section in SECTIONS for name in data.get(section, {})}
    name = re.sub(r"[^A-Za-z0-9_-]", "", wanted.name)
    if name and not name[0].isalpha():
        name = f"{LETTER[wanted.what]}{name}"
    name = name or next(free for number in count(50) if (free := f"{LETTER[wanted.what]}{number}") not in used)
    near, far, title = _put(data, wanted, name, used)
    wire = wires[wanted.wire]
    behind = next(free for mark in count(1) if (free := f"{wanted.wire}-{mark + 1}") not in used)
    for variant in data.get("variants", {}).values():
        _in_variant(variant, wire, _Split(wanted.wire, behind, name, near, far, wanted.what == "connector"))
    wires[behind] = {**wire, "from": far}
    wire["to"] = near
    if isinstance(wire.get("length_m"), int | float):
        wire["length_m"] = wires[behind]["length_m"] = round(float(wire["length_m"]) / 2, 3)
    try:
        document, made = written(data)
    except CircuitDocumentError as error:
        found = [FieldProblem(("name",), one.message) for one in error.problems]
        raise InvalidError(NOT_INSERTED, "; ".join(one.message for one in found), found) from error
    return document, made, f"{title} {name} in wire {wanted.wire}; behind it the wire is {behind}"


@dataclass(frozen=True)
class _Split:
    """A wire and the new one behind what is in it, and the two terminals between them."""

    wire: str
    behind: str
    name: str
    near: str
    far: str
    connector: bool


def _in_variant(variant: Any, wire: Any, split: _Split) -> None:
    """The same thing in the same wire of a vehicle that is built otherwise: on the side of the end that both have."""
    changes = variant.get("wires", {})
    if split.wire not in changes:
        return
    change = changes[split.wire]
    if change is None:
        changes[split.behind] = None
        variant.setdefault("connectors" if split.connector else "parts", {})[split.name] = None
        return
    ends = {change.get("from", wire["from"]), change.get("to", wire["to"])}
    if wire["from"] in ends:
        [other] = ends - {wire["from"]}
        start = wire["from"]
    elif wire["to"] in ends:
        [start] = ends - {wire["to"]}
        other = wire["to"]
    else:
        start, other = change.get("from", wire["from"]), change.get("to", wire["to"])
    change["from"], change["to"] = start, split.near
    changes[split.behind] = {"from": split.far, "to": other}


def _put(data: Any, wanted: Insertion, name: str, used: set[str]) -> tuple[str, str, str]:
    """Add the thing; its near and far terminal, and what it is."""
    place = {"place": wanted.place} if wanted.place else {}
    if wanted.what == "connector":
        return _through(data, wanted, name, used, place)
    if name in used:
        raise _refused("name", f"{name} is already on the drawing")
    if wanted.what == "fuse":
        if wanted.rating_a is None:
            raise _refused("rating_a", "the rating of the fuse is missing")
        title = wanted.title or f"Fuse {name}"
        data["parts"][name] = {"family": "fuse", "title": title, "rating_a": wanted.rating_a, "access_min": 1, **place}
        return f"{name}.1", f"{name}.2", "fuse"
    data["parts"][name] = {"family": "splice", "title": wanted.title or "Joint in the harness", "legs": ["feed", "leg1"], **place}
    return f"{name}.feed", f"{name}.leg1", "joint"


def _through(data: Any, wanted: Insertion, name: str, used: set[str], place: dict[str, str]) -> tuple[str, str, str]:
    """A connector on the way; one that is there already gets one more cavity."""
    connectors = data.setdefault("connectors", {})
    known = connectors.get(name)
    if known is None and name in used:
        raise _refused("name", f"{name} is already on the drawing, and is no connector")
    if known is not None and not known.get("inline"):
        raise _refused("name", f"{name} is the plug of a part or module: a wire ends there")
    if known is None:
        known = connectors[name] = {
            "title": wanted.title or "Connector on the way", "inline": True, "access_min": 4, "unplug_min": 0.5, "cavities": {}, **place,
        }  # fmt: skip
    cavities = known["cavities"]
    cavity = wanted.cavity or next(free for number in count(1) if (free := str(number)) not in cavities)
    if cavity in cavities:
        raise _refused("cavity", f"cavity {cavity} of {name} has a wire already")
    cavities[cavity] = None
    return f"{name}.{cavity}", f"{name}.{cavity}/c", "connector"


def _refused(field: str, said: str) -> InvalidError:
    return InvalidError(NOT_INSERTED, said, [FieldProblem((field,), said)])
