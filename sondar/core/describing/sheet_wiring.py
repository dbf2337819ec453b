"""What a wiring sheet adds to the circuit of its kind: colours, pins, figures, fuse, main relay, joints and connectors on the way."""

from __future__ import annotations

from collections.abc import Sequence

from sondar.core.describing.building import (
    MODULE_PLUG,
    PART_PLUG,
    RELAY_PLUG,
    Build,
    target_of,
)
from sondar.core.describing.sheet import Sheet, SheetRow, Through
from sondar.core.errors import FieldProblem, InvalidError

MAIN_RELAY_PLUGS = ("X4", "X9")
"""Plug of the main relay; the second where a part with two plugs has the first already."""


def add_wiring(made: Build, sheet: Sheet, rows: Sequence[SheetRow]) -> None:
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
        for fuse in fuses_of(made):
            made.parts[fuse]["rating_a"] = sheet.supply.fuse_a
    for number, through in enumerate(sheet.through, start=5):
        _through(made, f"X{number}", through)


def fuses_of(made: Build) -> list[str]:
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
    if not any(wire["to"] == "F1.1" for wire in made.wires.values()):
        said = "this kind of part has no supply of its own that a main relay could feed"
        raise InvalidError("Supply", said, [FieldProblem(("supply", "source"), said)])
    carrier = next(name for name in MAIN_RELAY_PLUGS if name not in made.connectors)
    for wire in made.wires.values():
        if wire["to"] == "F1.1":
            wire["from"] = f"{carrier}.87"
    made.parts["K0"] = {"family": "relay", "title": "Main relay", "coil_ohm": "60 to 120"}
    made.connectors[carrier] = {
        "title": "Main relay carrier", "access_min": 1.5, "unplug_min": 0.3, "cavities": {pin: f"K0.{pin}" for pin in ("30", "85", "86", "87")},
    }  # fmt: skip
    made.wire("BAT.pos", f"{carrier}.30", True)
    made.wire("IGN.2", f"{carrier}.86")
    made.parts["G3"] = {"family": "ground_point", "title": "Ground of the main relay"}
    made.wire(f"{carrier}.85", "G3.stud")


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
        cavity = next((cavity for cavity, target in made.cavities.items() if target_of(target) == port), None)
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
