"""Typical circuits by what a plug carries, for vehicles that nobody has described: from a few lines to a whole circuit document.

A *template* names the parts behind a plug, what each cavity goes to (a port of the module, a supply that is on with the key, a permanent
supply, a ground) and the module's ports. Supplies, fuses, grounds, wires, the module's plug and joints follow from that. Figures that
differ between makes are ranges, which readings narrow down (``families/doubts``); every figure has the source *typical for the kind*.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sondar.core.circuit.document.variants import SECTIONS, difference
from sondar.core.describing.building import BATTERY, GROUND, RUN, Build, built, target_of
from sondar.core.word_match import word_scores

ABOUT = "Typical for the kind: no sheet of this vehicle has been seen. Names, pins and figures can be filled in."


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
    scores = word_scores(
        {key: item.title for key, item in templates.items()}, {key: item.words for key, item in templates.items()}, said
    )
    scored = []
    for key, score in scores.items():
        counted = templates[key].wires
        scored.append((score + (1.5 if wires is not None and counted == wires else 0.0), -abs(counted - (wires or counted)), key))
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
    made = built(template.data, called, order)
    variants = _variants(made, template.data, called, order)
    return document_of(made, {
        "id": slug or template.id, "title": f"{called}, typical" if called else template.title, "vehicle": dict(vehicle),
        "about": template.data.get("about", ABOUT), "cautions": list(template.data.get("cautions", ())), "variants": variants,
    })  # fmt: skip


def document_of(made: Build, about: Mapping[str, Any]) -> dict[str, Any]:
    """A circuit file as data from what was built, and what is said of the whole; what is empty is left out."""
    head = {key: about[key] for key in ("id", "title", "vehicle", "about", "cautions") if about.get(key)}
    body = {
        "modules": made.modules(), "parts": made.parts, "connectors": made.connectors, "wires": made.wires,
        "joins": [["BAT.neg", "chassis"], *made.joins], "variants": about.get("variants"),
    }  # fmt: skip
    return {"sondar": 1, **head, "controls": made.controls(), **{key: value for key, value in body.items() if value}}


def other_ways(data: Mapping[str, Any]) -> dict[str, tuple[str, float, dict[str, Any]]]:
    """Other usual ways to build the same circuit, which only readings tell: id -> (what is different, how often, the template so changed)."""
    found: dict[str, tuple[str, float, dict[str, Any]]] = {}
    parts, ports, rows = data.get("parts", {}), data.get("module", {}), data.get("plug", ())
    owners = {target_of(target): parts[_first(terminals).split(".")[0]]["family"] for terminals, target, _ in rows}
    for name, port in ports.items():
        if port["family"] == "module_input" and owners.get(f"{name}.pin") in DRIVES_BOTH_WAYS:
            way = "down" if port["pull"] == "up" else "up"
            changed = {**port, "pull": way, "pull_ohm": port.get("pull_ohm", OTHER_PULL)}
            found[f"pull-{way}-{name.lower()}"] = (
                f"The module pulls its input {way}", PULLS_OTHERWISE, {**data, "module": {**ports, name: changed}},
            )  # fmt: skip
    targets = [target_of(target) for _, target, _ in rows]
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


def _variants(made: Build, data: Mapping[str, Any], called: str, order: Sequence[int]) -> dict[str, Any]:
    """Variants of a circuit as its file has them."""
    found: dict[str, Any] = {}
    for key, (title, share, changed) in other_ways(data).items():
        other = built(changed, called, order)
        change = {section: difference(getattr(made, section), getattr(other, section)) for section in SECTIONS}
        found[key] = {"title": title, "share": share, **{section: one for section, one in change.items() if one}}
    if "IGN" in made.parts and any(target_of(target) == RUN for _, target, _ in data.get("plug", ())):
        # The contact stays on the drawing, closed for good: what was measured at the fuse behind it keeps its place.
        always = {"parts": {"IGN": {"closed_when": {"key": ["off", "on", "run"]}}}}
        found["permanent"] = {"title": "The supply is permanent, not switched by the key", "share": SUPPLIED_OTHERWISE, **always}
    return found


def _first(terminals: str | Sequence[str]) -> str:
    return terminals if isinstance(terminals, str) else terminals[0]


def _with_targets(data: Mapping[str, Any], other: Mapping[str, str]) -> dict[str, Any]:
    rows = [[terminals, other.get(target_of(target), target), carries] for terminals, target, carries in data.get("plug", ())]
    return {**data, "plug": rows}
