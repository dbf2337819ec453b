"""Typical circuits by what a plug carries, for vehicles that nobody has described: from a few lines to a whole circuit document.

A *template* names the parts behind a plug, what each cavity goes to (a port of the module, a supply that is on with the key, a permanent
supply, a ground) and the module's ports. Supplies, fuses, grounds, wires, the module's plug and joints follow from that. Figures that
differ between makes are ranges, which readings narrow down (``families/doubts``); every figure has the source *typical for the kind*.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sondar.core.circuit.document.variants import SECTIONS, difference

RUN, BATTERY, GROUND, RELAY = "run", "battery", "ground", "relay"
MODULE, PART_PLUG, SECOND_PLUG, RELAY_PLUG, MODULE_PLUG = "ECM", "X2", "X4", "X3", "X1"
WITH_FEED = frozenset(("high_side_driver", "h_bridge", "module_supply"))
WITHOUT_GROUND = frozenset(("high_side_driver", "bus_end"))
THICK = frozenset(("dc_motor", "heater", "lamp"))

ABOUT = "Typical for the kind: no sheet of this vehicle has been seen. Names, pins and figures can be filled in."

_WORD = re.compile(r"[0-9a-z]+")


@dataclass(frozen=True)
class Template:
    """One typical circuit.

    Attributes:
        words: names of parts that it fits. carries: what each cavity of the part's plug carries, in order.
        data: as the library has it.
    """

    id: str
    title: str
    words: tuple[str, ...]
    carries: tuple[str, ...]
    data: Mapping[str, Any] = field(repr=False)

    @property
    def wires(self) -> int:
        """Cavities at the plug; 0 for a circuit without one."""
        return len(self.carries)


def read_templates(items: Iterable[Mapping[str, Any]]) -> dict[str, Template]:
    """Templates by id.

    Raises:
        ValueError: an id stands twice.
    """
    found: dict[str, Template] = {}
    for item in items:
        if item["id"] in found:
            raise ValueError(f"template '{item['id']}' is there twice")
        carries = tuple(str(row[2]) for row in item.get("plug", ()))
        found[item["id"]] = Template(item["id"], item["title"], tuple(item["words"]), carries, item)
    return found


def by_words(templates: Mapping[str, Template], said: str, wires: int | None = None, most: int = 6) -> list[Template]:
    """Templates for a part as somebody calls it, best first; empty if no word fits.

    Each word said counts by how few templates have it; a whole name counts more than its words apart.

    Args:
        wires: cavities at the plug, if they have been counted: templates with as many come first.
    """
    wanted = _WORD.findall(said.lower())
    if not wanted:
        return []
    words = {key: Counter(_WORD.findall(" ".join((item.title, *item.words)).lower())) for key, item in templates.items()}
    count = {word: max(1, sum(1 for has in words.values() if word in has)) for word in wanted}
    scored = []
    for key, item in templates.items():
        score = sum(1.0 / count[word] for word in wanted if word in words[key])
        names = [" ".join(_WORD.findall(name.lower())) for name in item.words]
        phrase = " ".join(wanted)
        score += max(
            (1.0 if name == phrase else 0.5 * len(name) / len(phrase) if name in phrase else 0.0 for name in names), default=0.0
        )
        if score > 0.0:
            scored.append(
                (score + (1.5 if wires is not None and item.wires == wires else 0.0), -abs(item.wires - (wires or item.wires)), key)
            )
    scored.sort(key=lambda one: (-one[0], -one[1], one[2]))
    least = scored[0][0] * 0.25 if scored else 0.0
    return [templates[key] for score, _, key in scored[:most] if score >= least]


def circuit_document(
    template: Template, vehicle: Mapping[str, Any], name: str = "", slug: str = "", order: Sequence[int] = ()
) -> dict[str, Any]:
    """A whole circuit file as data, ready to be written or read.

    Args:
        vehicle: ``make`` and, if known, ``model`` and ``years``. name: what the part is called, in place of the template's names.
        order: for each cavity of the vehicle's plug, which cavity (from 1) of the template it is; the template's own order if left out.
    """
    called = f"{name[0].upper()}{name[1:]}" if name else ""
    made = _built(template.data, called, order)
    variants = _variants(made, template.data, called, order)
    return {
        "sondar": 1, "id": slug or template.id, "title": f"{called}, typical" if called else template.title, "vehicle": dict(vehicle),
        "about": template.data.get("about", ABOUT),
        **({"cautions": list(template.data["cautions"])} if "cautions" in template.data else {}),
        "controls": made.controls(), **({"modules": made.modules()} if made.modules() else {}), "parts": made.parts,
        **({"connectors": made.connectors} if made.connectors else {}), "wires": made.wires, "joins": [["BAT.neg", "chassis"], *made.joins],
        **({"variants": variants} if variants else {}),
    }  # fmt: skip


def other_ways(data: Mapping[str, Any]) -> dict[str, tuple[str, float, dict[str, Any]]]:
    """Other usual ways to build the same circuit, which only readings tell: id -> (what is different, how often, the template so changed)."""
    found: dict[str, tuple[str, float, dict[str, Any]]] = {}
    parts, ports, rows = data.get("parts", {}), data.get("module", {}), data.get("plug", ())
    owners = {_ports(target): parts[_first(terminals).split(".")[0]]["family"] for terminals, target, _ in rows}
    for name, port in ports.items():
        if port["family"] == "module_input" and owners.get(f"{name}.pin") in DRIVES_BOTH_WAYS:
            way = "down" if port["pull"] == "up" else "up"
            changed = {**port, "pull": way, "pull_ohm": port.get("pull_ohm", OTHER_PULL)}
            found[f"pull-{way}-{name.lower()}"] = (
                f"The module pulls its input {way}", PULLS_OTHERWISE, {**data, "module": {**ports, name: changed}},
            )  # fmt: skip
    targets = [_ports(target) for _, target, _ in rows]
    if RUN not in targets and BATTERY in targets:
        found["switched"] = (
            "The supply is switched by the key, not permanent",
            SUPPLIED_OTHERWISE,
            _with_targets(data, {BATTERY: RUN}),
        )
    drivers = [name for name, port in ports.items() if port["family"] in OTHER_SIDE and f"{name}.out" in targets]
    if len(rows) == 2 and len(drivers) == 1 and "relay" not in data and {RUN, BATTERY, GROUND} & set(targets):
        driver = drivers[0]
        family, title, to = OTHER_SIDE[ports[driver]["family"]]
        fixed = next(target for target in targets if target != f"{driver}.out")
        changed = {**ports, driver: {**ports[driver], "family": family}}
        found["other-side"] = (title, SWITCHED_OTHERWISE, _with_targets({**data, "module": changed}, {fixed: to}))
    return found


DRIVES_BOTH_WAYS = frozenset(("ratiometric", "active_sensor"))
"""Sensors whose output drives its line both ways: a module may pull it up as well as down."""
OTHER_PULL = "10k to 500k"
OTHER_SIDE = {
    "low_side_driver": ("high_side_driver", "The module switches the supply side; the other wire goes to ground", GROUND),
    "high_side_driver": ("low_side_driver", "The module switches the ground side; the other wire is supplied with the key", RUN),
}
PULLS_OTHERWISE, SUPPLIED_OTHERWISE, SWITCHED_OTHERWISE = 0.15, 0.15, 0.15
"""How often a circuit of the kind is built the other way."""


def _variants(made: _Build, data: Mapping[str, Any], called: str, order: Sequence[int]) -> dict[str, Any]:
    """Variants of a circuit as its file has them."""
    found: dict[str, Any] = {}
    for key, (title, share, changed) in other_ways(data).items():
        other = _built(changed, called, order)
        change = {section: difference(getattr(made, section), getattr(other, section)) for section in SECTIONS}
        found[key] = {"title": title, "share": share, **{section: one for section, one in change.items() if one}}
    if "IGN" in made.parts and any(_ports(target) == RUN for _, target, _ in data.get("plug", ())):
        # The contact stays on the drawing, closed for good: what was measured at the fuse behind it keeps its place.
        always = {"parts": {"IGN": {"closed_when": {"key": ["off", "on", "run"]}}}}
        found["permanent"] = {"title": "The supply is permanent, not switched by the key", "share": SUPPLIED_OTHERWISE, **always}
    return found


def _first(terminals: str | Sequence[str]) -> str:
    return terminals if isinstance(terminals, str) else terminals[0]


def _ports(target: Any) -> str:
    return str(target if isinstance(target, str) else target[0])


def _with_targets(data: Mapping[str, Any], other: Mapping[str, str]) -> dict[str, Any]:
    rows = [[terminals, other.get(_ports(target), target), carries] for terminals, target, carries in data.get("plug", ())]
    return {**data, "plug": rows}


def _built(data: Mapping[str, Any], called: str, order: Sequence[int]) -> _Build:
    """The whole circuit of a template, before it is written down."""
    made = _Build(data)
    if called and data.get("parts"):
        made.parts[next(iter(data["parts"]))]["title"] = called
    rows = data.get("plug", ())
    made.plug(PART_PLUG, f"{called or 'Part'} plug", [rows[place - 1] for place in order] if order else rows)
    made.plug(SECOND_PLUG, "Second plug", data.get("second_plug", ()))
    for terminal, where in data.get("own", ()):
        assert where == GROUND
        made.joins.append([terminal, "G1.stud"])
        made.needed.add(GROUND)
    if "relay" in data:
        made.relay(data["relay"])
    made.module_plug()
    made.supplies()
    return made


class _Build:
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

    def plug(self, connector: str, title: str, rows: Sequence[Sequence[Any]]) -> None:
        """A plug whose cavities go where the template says."""
        if not rows:
            return
        self.connectors[connector] = {
            "title": title, "access_min": 2, "unplug_min": 0.3, "exposed": True,
            "cavities": {str(number): row[0] for number, row in enumerate(rows, start=1)},
        }  # fmt: skip
        for number, (terminals, target, _) in enumerate(rows, start=1):
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
