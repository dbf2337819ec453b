"""Circuits that were described one by one become one vehicle: what they share is recognised by its designation, and confirmed by a person.

Works on circuit files as plain data. Things with the same name in two circuits are either the same thing, and then read the same in both
afterwards, or two things, and then the later circuit's gets another name. A module's plug that Sondar numbered itself is one plug: its
cavities are numbered anew where two circuits use one number for different pins.
"""

from __future__ import annotations

import copy
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import count
from typing import Any

from sondar.core.circuit.families.doubts import as_range
from sondar.core.describing.renaming import WORDS, renamed, with_references

SECTIONS = ("modules", "parts", "connectors", "wires")
ALWAYS_SAME = frozenset(("BAT",))
PLACEHOLDERS = frozenset(("F1", "F2", "G1", "G2", "G3", "K0", "K1", "IGN", "ECM", "X1", "X2", "X3", "X4", "X9"))
"""Names that Sondar gives where a sheet gives none; W…, SP… and those of the parts of a kind are its own as well."""
USUALLY_ONE = frozenset(("IGN", "ECM", "G2", "G3", "K0"))
"""Placeholders of which a vehicle usually has one: the key's contact, the module with its ground, the main relay with its ground."""
BLANK = {"connectors": ("cavities", "pins"), "modules": ("answers",)}
"""What may differ in each circuit of something shared."""


@dataclass(frozen=True)
class Question:
    """A name that stands in several circuits: the same thing, or two?

    Attributes:
        circuits: titles of the circuits that it stands in. same: what is taken. why: the reason for what is proposed.
    """

    id: str
    title: str
    circuits: tuple[str, ...]
    same: bool
    why: str


@dataclass
class Gathered:
    """Circuits with names that fit together.

    Attributes:
        circuits: id -> file as data. shared: id -> what it is, of everything that stands in more than one.
        differs: figures that circuits know differently; the one that is taken stands first.
    """

    circuits: dict[str, dict[str, Any]] = field(default_factory=dict)
    shared: dict[str, str] = field(default_factory=dict)
    questions: list[Question] = field(default_factory=list)
    differs: list[str] = field(default_factory=list)


def gathered(circuits: Sequence[Mapping[str, Any]], decided: Mapping[str, bool]) -> Gathered:
    """Circuits of one vehicle with what they share under one name.

    Args:
        circuits: files as data, each with its ``id``. decided: name -> whether it is the same thing wherever it stands.
    """
    found = Gathered()
    holders: dict[str, list[str]] = {}
    for source in circuits:
        data = copy.deepcopy(dict(source))
        new, kept = _names(data, found, holders, decided)
        data = _renamed(data, new)
        data = _one_plug(data, found, kept)
        data = _one_wire(data, found, kept, holders)
        found.circuits[str(data["id"])] = data
        for _, name in _things(data):
            holders.setdefault(name, []).append(str(data["id"]))
    _level(found, holders)
    return found


def _things(data: Mapping[str, Any]) -> list[tuple[str, str]]:
    return [(section, name) for section in SECTIONS for name in data.get(section) or {}]


def _names(
    data: Mapping[str, Any], found: Gathered, holders: Mapping[str, list[str]], decided: Mapping[str, bool]
) -> tuple[dict[str, str], set[str]]:
    """New names for this circuit's own things, and the names that it shares with circuits before it."""
    own = {name for _, name in _things(data)}
    taken = {*holders, *own}
    new: dict[str, str] = {}
    kept: set[str] = set()
    for section, name in _things(data):
        before = holders.get(name)
        if before is None or section == "wires":
            continue
        first = found.circuits[before[0]]
        proposed, why = _proposed(section, name, first, data, kept)
        same = decided.get(name, proposed) if why else proposed
        if same and name in (first.get(section) or {}):
            kept.add(name)
        else:
            new[name] = _free(name, taken)
            taken.add(new[name])
        if why:
            _ask(found, section, name, data, [*before, str(data["id"])], same, why)
    for name in data.get("wires") or {}:
        if name in holders:
            new[name] = _free(name, taken)
            taken.add(new[name])
    for name, control in (data.get("controls") or {}).items():
        others = [one["controls"][name] for one in found.circuits.values() if name in one.get("controls", {})]
        if others and _plain(others[0]) != _plain(control):
            new[name] = _free(name, {*taken, *(c for one in found.circuits.values() for c in one.get("controls", {}))})
    return new, kept


def _ask(found: Gathered, section: str, name: str, data: Mapping[str, Any], stands_in: Sequence[str], same: bool, why: str) -> None:
    titles = {key: str(one["title"]) for key, one in {**found.circuits, str(data["id"]): data}.items()}
    thing = data[section][name]
    question = Question(name, str(thing.get("title") or name), tuple(titles[key] for key in stands_in), same, why)
    found.questions = [*(one for one in found.questions if one.id != name), question]


def _proposed(section: str, name: str, first: Mapping[str, Any], data: Mapping[str, Any], kept: set[str]) -> tuple[bool, str]:
    """Whether a name that stands in two circuits is probably one thing, and why; no reason where nobody needs to be asked.

    Args:
        kept: what has been found to be shared so far: modules, then parts.
    """
    one, two = (first.get(section) or {}).get(name), data[section][name]
    if one is None or one.get("family") != two.get("family"):
        return False, ""
    if name in ALWAYS_SAME:
        return True, ""
    known = all(_designated(circuit, name) for circuit in (first, data))
    if section == "connectors" and not known:
        return all(_behind(circuit, name) & kept for circuit in (first, data)), ""
    if not known and (name not in USUALLY_ONE or not _belongs(name, data, kept)):
        return False, ""
    different = [
        f"{key.replace('_', ' ')} {one[key]} and {two[key]}"
        for key in one
        if key in two and one[key] != two[key] and _is_stated(first, name, key, one) and _is_stated(data, name, key, two)
    ]
    if different:
        return False, f"the same designation, but {different[0]}"
    return True, "the same designation" if known else "a vehicle usually has one"


def _behind(data: Mapping[str, Any], connector: str) -> set[str]:
    """Modules and parts that a plug which Sondar named leads into: of a module's plug the module, else the parts."""
    heads = set()
    for target in data["connectors"][connector]["cavities"].values():
        for ref in target if isinstance(target, list) else [target] if target else []:
            part = str(ref).split(".")[0]
            heads.add(str(data["parts"].get(part, {}).get("module") or part))
    return heads


def _belongs(name: str, data: Mapping[str, Any], kept: set[str]) -> bool:
    """True if what a placeholder belongs to is shared: the module's ground to its module, the main relay's to its relay."""
    if name == "G2":
        return any(module in kept for module in data.get("modules", {}))
    if name == "G3":
        return any(part.get("family") == "relay" and key in kept for key, part in data["parts"].items())
    return True


def _designated(data: Mapping[str, Any], name: str) -> bool:
    """True if a name comes from the vehicle and not from Sondar."""
    sheet = data.get("sheet")
    if not sheet and not str(data["id"]).startswith("typical-"):
        return True
    if name in PLACEHOLDERS and not sheet:
        return False
    supply = (sheet or {}).get("supply") or {}
    said = [supply.get("fuse"), supply.get("relay"), *((sheet or {}).get(key) for key in ("ground", "plug", "module"))]
    plain = {re.sub(r"[^A-Za-z0-9_-]", "", str(one)) for one in said if one}
    return name in plain or any(name == f"{letter}{one}" for letter in "FKGXM" for one in plain if one[:1].isdigit())


def _is_stated(data: Mapping[str, Any], name: str, key: str, thing: Mapping[str, Any]) -> bool:
    """True if somebody said this figure of this vehicle: it stands on the sheet, or the circuit was written by hand."""
    value = thing.get(key)
    if key in (*WORDS, "family", "legs", "module") or isinstance(value, Mapping | list) or value is None or _is_range(key, value):
        return False
    sheet = data.get("sheet")
    if not sheet:
        return not str(data["id"]).startswith("typical-")
    if thing.get("family") == "fuse" and key == "rating_a":
        return (sheet.get("supply") or {}).get("fuse_a") is not None
    return f"{name}.{key}" in (sheet.get("figures") or {})


def _is_range(key: str, value: Any) -> bool:
    try:
        return as_range(key, value) is not None
    except ValueError:
        return False


def _plain(control: Mapping[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in control.items() if key not in ("requires", "excludes", "needs")}


def _free(name: str, taken: set[str]) -> str:
    return next(free for number in count(2) if (free := f"{name}-{number}") not in taken)


def _renamed(data: dict[str, Any], new: Mapping[str, str]) -> dict[str, Any]:
    """With every reference to renamed things changed; words and the sheet stay as they were typed."""
    kept = {key: data[key] for key in ("sheet", "id", "vehicle", "synonyms") if key in data}
    return {**with_references({key: value for key, value in data.items() if key not in kept}, renamed(new)), **kept}


def _one_plug(data: dict[str, Any], found: Gathered, kept: set[str]) -> dict[str, Any]:
    """The module's plug that Sondar numbered: a cavity that means another pin in an earlier circuit gets a new number."""
    plug = data.get("connectors", {}).get("X1")
    before = [one for one in found.circuits.values() if "X1" in one.get("connectors", {})]
    if plug is None or not before or "X1" not in kept:
        return data
    used = {cavity for one in before for cavity in one["connectors"]["X1"]["cavities"]}
    common = {_far_end(data, f"X1.{cavity}"): cavity for cavity in plug["cavities"]}
    same = {
        cavity
        for one in before
        for cavity in one["connectors"]["X1"]["cavities"]
        if (far := _far_end(one, f"X1.{cavity}")) and common.get(far) == cavity and far.split(".")[0] in kept
    }
    moved: dict[str, str] = {}
    for cavity in plug["cavities"]:
        if cavity in used and cavity not in same:
            moved[cavity] = next(str(n) for n in count(3) if str(n) not in {*used, *plug["cavities"], *moved.values()})
    if not moved:
        return data
    changed = {**plug, "cavities": {moved.get(cavity, cavity): target for cavity, target in plug["cavities"].items()}}
    if plug.get("pins"):
        changed["pins"] = {moved.get(cavity, cavity): pin for cavity, pin in plug["pins"].items()}
    data = {**data, "connectors": {**data["connectors"], "X1": changed}}

    def change(ref: str) -> str:
        head, mark, tail = ref.partition("/")
        connector, _, cavity = head.partition(".")
        return f"X1.{moved[cavity]}{mark}{tail}" if connector == "X1" and cavity in moved else ref

    sheet = data.get("sheet")
    replaced: dict[str, Any] = with_references({key: value for key, value in data.items() if key != "sheet"}, change)
    return {**replaced, **({"sheet": sheet} if sheet else {})}


def _far_end(data: Mapping[str, Any], ref: str) -> str:
    """Where the wire at a cavity leads to; empty if there is none."""
    for wire in data.get("wires", {}).values():
        if ref in (wire["from"], wire["to"]):
            return str(wire["to"] if wire["from"] == ref else wire["from"])
    return ""


def _one_wire(data: dict[str, Any], found: Gathered, kept: set[str], holders: Mapping[str, list[str]]) -> dict[str, Any]:
    """A wire between two things that are shared is the wire of the earlier circuit."""
    known = {
        frozenset((wire["from"], wire["to"])): name
        for one in found.circuits.values()
        for name, wire in one.get("wires", {}).items()
    }
    shared = {*kept, "chassis"}
    new = {
        name: known[ends]
        for name, wire in data.get("wires", {}).items()
        if (ends := frozenset((wire["from"], wire["to"]))) in known
        and all(end.split(".")[0] in shared for end in ends)
        and known[ends] in holders
    }
    return _renamed(data, new) if new else data


def _level(found: Gathered, holders: Mapping[str, list[str]]) -> None:
    """What is shared reads the same in every circuit: the figure that is known best."""
    for name in holders:
        stands = [one for one in found.circuits.values() if any(name == thing for _, thing in _things(one))]
        if len(stands) < 2:
            continue
        section = next(section for section, thing in _things(stands[0]) if thing == name)
        level: dict[str, Any] = dict(stands[0][section][name])
        stated = {key for key in level if _is_stated(stands[0], name, key, level)}
        for one in stands[1:]:
            level, stated = _better(found, name, (level, stated), one, section)
        for one in stands:
            own = {key: one[section][name][key] for key in BLANK.get(section, ()) if key in one[section][name]}
            one[section][name] = {**{key: value for key, value in level.items() if key not in BLANK.get(section, ())}, **own}
        found.shared[name] = str(level.get("title") or ("Wire" if section == "wires" else name))


def _better(
    found: Gathered, name: str, best: tuple[dict[str, Any], set[str]], data: Mapping[str, Any], section: str
) -> tuple[dict[str, Any], set[str]]:
    """Each field as it is known best: what somebody said, then a figure before a range, then the earlier circuit's; and what is said."""
    level, stated = dict(best[0]), set(best[1])
    thing = data[section][name]
    for key, value in thing.items():
        said = _is_stated(data, name, key, thing)
        if key == "legs" and key in level:
            level[key] = list(dict.fromkeys([*level[key], *value]))
        elif key in BLANK.get(section, ()) or level.get(key) == value:
            pass
        elif key not in level or (said and key not in stated) or (_is_range(key, level[key]) and not _is_range(key, value)):
            level[key] = value
        elif said:
            found.differs.append(f"{name}: {key.replace('_', ' ')} {level[key]}, elsewhere {value}")
        if said:
            stated.add(key)
    return level, stated
