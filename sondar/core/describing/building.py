"""From a few lines about a plug to the parts, wires, connectors and controls of a whole circuit."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

RUN, BATTERY, GROUND, RELAY = "run", "battery", "ground", "relay"
BEHIND = ">"
"""How a target begins that is a terminal of another part of the same circuit, such as a motor behind its own module."""
MODULE, PART_PLUG, SECOND_PLUG, RELAY_PLUG, MODULE_PLUG = "ECM", "X2", "X4", "X3", "X1"
WITH_FEED = frozenset(("high_side_driver", "h_bridge", "module_supply"))
WITHOUT_GROUND = frozenset(("high_side_driver", "bus_end"))
THICK = frozenset(("dc_motor", "heater", "lamp"))


def built(data: Mapping[str, Any], called: str = "", order: Sequence[int] = (), names: Sequence[str] = ()) -> Build:
    """The whole circuit of a template, before it is written down.

    Args:
        called: what the part is called. order: for each cavity of the vehicle's plug, which cavity (from 1) of the template it is.
        names: numbers of the cavities on the vehicle's plug, in the same order; 1, 2, 3 … if left out.
    """
    made = Build(data)
    called = f"{called[:1].upper()}{called[1:]}"
    if called and data.get("parts"):
        made.parts[data.get("main") or next(iter(data["parts"]))]["title"] = called
    rows = data.get("plug", ())
    made.plug(
        PART_PLUG,
        data.get("plug_title") or f"{called or 'Part'} plug",
        [rows[place - 1] for place in order] if order else rows,
        names,
    )
    made.plug(SECOND_PLUG, "Second plug", data.get("second_plug", ()))
    for connector, title, others in data.get("other_plugs", ()):
        made.plug(connector, title, others)
    for terminal, where in data.get("own", ()):
        assert where == GROUND
        made.joins.append([terminal, "G1.stud"])
        made.needed.add(GROUND)
    if "relay" in data:
        made.relay(data["relay"])
    made.module_plug()
    made.supplies()
    return made


class Build:
    """A document in the making."""

    def __init__(self, data: Mapping[str, Any]) -> None:
        self.data = data
        self.ports = {name: {**port, "module": MODULE} for name, port in data.get("module", {}).items()}
        self.parts: dict[str, Any] = {"BAT": {"family": "battery", "title": "Battery"}}
        self.parts |= {name: dict(part) for name, part in data.get("parts", {}).items()}
        self.parts |= self.ports
        self.connectors: dict[str, Any] = {}
        self.wires: dict[str, Any] = {}
        self.joins: list[list[str]] = []
        self.needed: set[str] = set()
        self.cavities: dict[str, Any] = {}
        self.legs: dict[str, list[str]] = {}

    def wire(self, start: str, end: str, thick: bool = False) -> None:
        """One more wire; its colour is not known yet."""
        self.wires[f"W{len(self.wires) + 1}"] = {"from": start, "to": end, "gauge_mm2": 2.5 if thick else 0.75, "length_m": 1.5}

    def plug(self, connector: str, title: str, rows: Sequence[Sequence[Any]], names: Sequence[str] = ()) -> None:
        """A plug whose cavities go where the template says."""
        if not rows:
            return
        numbers = list(names) or [str(number) for number in range(1, len(rows) + 1)]
        self.connectors[connector] = {
            "title": title, "access_min": 2, "unplug_min": 0.3, "exposed": True,
            "cavities": {number: row[0] for number, row in zip(numbers, rows, strict=True)},
        }  # fmt: skip
        for number, (terminals, target, _) in zip(numbers, rows, strict=True):
            here = f"{connector}.{number}"
            owner = self.parts[(terminals if isinstance(terminals, str) else terminals[0]).split(".")[0]]
            self.to_target(here, target, owner["family"] in THICK)

    def to_target(self, here: str, target: Any, thick: bool) -> None:
        """The wire from a cavity to where it goes; several cavities on one port of the module share a joint, made later."""
        if isinstance(target, str) and target in (RUN, BATTERY, GROUND, RELAY):
            self.needed.add(target)
            start = {RUN: "F1.2", BATTERY: "F2.2", GROUND: "G1.stud", RELAY: f"{RELAY_PLUG}.87"}[target]
            self.wire(start, here, thick) if target != GROUND else self.wire(here, start, thick)
            return
        if isinstance(target, str) and target.startswith(BEHIND):
            self.wire(here, target.removeprefix(BEHIND), thick)
            return
        port = target if isinstance(target, str) else target[0]
        if port not in self.legs:
            self.cavities[str(len(self.cavities) + 3)] = target
        self.legs.setdefault(port, []).append(here)

    def relay(self, relay: Mapping[str, Any]) -> None:
        """A relay in its carrier: contact on the permanent supply, coil between the key's supply and the module."""
        self.parts["K1"] = {"family": "relay", "title": "Relay", "coil_ohm": "60 to 120"}
        self.connectors[RELAY_PLUG] = {
            "title": "Relay carrier", "access_min": 1.5, "unplug_min": 0.3, "cavities": {pin: f"K1.{pin}" for pin in ("30", "85", "86", "87")},
        }  # fmt: skip
        self.needed |= {RUN, BATTERY}
        self.wire("F2.2", f"{RELAY_PLUG}.30", True)
        self.wire("F1.2", f"{RELAY_PLUG}.86")
        self.to_target(f"{RELAY_PLUG}.85", f"{relay['driver']}.out", False)

    def module_plug(self) -> None:
        """The module's plug: supply, ground, and a cavity for each port that a wire reaches."""
        if not self.ports:
            return
        feeds = [f"{name}.feed" for name, port in self.ports.items() if port["family"] in WITH_FEED]
        grounds = [f"{name}.gnd" for name, port in self.ports.items() if port["family"] not in WITHOUT_GROUND]
        cavities: dict[str, Any] = {"1": feeds} if feeds else {}
        if grounds:
            cavities["2"] = grounds
            self.parts["G2"] = {"family": "ground_point", "title": "Ground of the module"}
        self.connectors[MODULE_PLUG] = {
            "title": "Module plug",
            "access_min": 6,
            "unplug_min": 1,
            "cavities": cavities | self.cavities,
        }
        for cavity, target in self.cavities.items():
            here, ends = f"{MODULE_PLUG}.{cavity}", self.legs[target if isinstance(target, str) else target[0]]
            if len(ends) == 1:
                self.wire(here, ends[0])
                continue
            joint = f"SP{cavity}"
            legs = ["module", *(f"leg{number}" for number in range(1, len(ends) + 1))]
            self.parts[joint] = {"family": "splice", "title": "Joint in the harness", "legs": legs}
            self.wire(here, f"{joint}.module")
            for leg, end in zip(legs[1:], ends, strict=True):
                self.wire(f"{joint}.{leg}", end)
        if feeds:
            self.needed.add(BATTERY)
            self.wire("F2.2", f"{MODULE_PLUG}.1", True)
        if grounds:
            self.wire(f"{MODULE_PLUG}.2", "G2.stud", True)

    def supplies(self) -> None:
        """Fuses, the contact that the key closes, and the part's ground."""
        if RUN in self.needed:
            self.parts["IGN"] = {
                "family": "switch",
                "title": "Supply contact of the key",
                "closed_when": {"key": ["on", "run"]},
                "rate": 0.3,
            }
            self.parts["F1"] = {"family": "fuse", "title": "Fuse, on with the key", "rating_a": 20, "access_min": 1}
            self.wire("BAT.pos", "IGN.1", True)
            self.wire("IGN.2", "F1.1", True)
        if BATTERY in self.needed:
            self.parts["F2"] = {"family": "fuse", "title": "Fuse, permanent", "rating_a": 40, "access_min": 1}
            self.wire("BAT.pos", "F2.1", True)
        if GROUND in self.needed:
            self.parts["G1"] = {"family": "ground_point", "title": "Ground of the part"}

    def controls(self) -> dict[str, Any]:
        """The key, and what the template commands."""
        key: dict[str, Any] = {"title": "Key", "values": ["off", "on", "run"], "minutes": 0.2}
        if self.ports:
            key["needs"] = {"run": [MODULE]}
        return {"key": key, **{name: dict(control) for name, control in self.data.get("controls", {}).items()}}

    def modules(self) -> dict[str, Any]:
        """The module that measures or commands, and one that sits in the part itself."""
        found: dict[str, Any] = {MODULE: {"title": "Control module"}} if self.ports else {}
        inner = self.data.get("module_of_part")
        if inner:
            supply = next(
                name for name, part in self.parts.items() if part.get("family") == "module_supply" and part["module"] == inner["id"]
            )
            found[inner["id"]] = {
                "title": inner["title"], "answers": [{"when": {"key": "on"}, "measures": [f"{supply}.core", f"{supply}.gnd"], "above": 7}],
            }  # fmt: skip
        return found


def target_of(target: Any) -> str:
    """Where a cavity goes, or the first of several terminals behind it."""
    return str(target if isinstance(target, str) else target[0])
