"""What changed from one version of a circuit to the next, in words."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sondar.circuit_edits.filling import FIELDS
from sondar.core.circuit.families.doubts import FIGURES
from sondar.yaml_text import load_yaml

SECTIONS = {
    "parts": "part", "wires": "wire", "connectors": "connector", "modules": "module", "controls": "control", "limits": "limit",
    "codes": "code", "symptoms": "symptom", "responses": "response", "variants": "other way it may be built",
}  # fmt: skip
LABELS = {field: label.lower() for fields in (FIGURES, *FIELDS.values()) for field, (label, _) in fields.items()}
LONGEST = 300


def versions_compared(before: str, after: str) -> list[str]:
    """What was added, taken away and changed, section by section."""
    old, new = load_yaml(before), load_yaml(after)
    said: list[str] = []
    for section, name in SECTIONS.items():
        one, two = dict(old.get(section) or {}), dict(new.get(section) or {})
        gone, come = [key for key in one if key not in two], [key for key in two if key not in one]
        called = {key: other for key in gone for other in come if one[key] == two[other]}
        said += [f"{name} {key} is called {other}" for key, other in called.items()]
        said += _listed(name, "added", {key: two[key] for key in come if key not in called.values()})
        said += _listed(name, "taken away", {key: one[key] for key in gone if key not in called})
        said += [f"{name} {key}: {_changes(one[key], two[key])}" for key in one if key in two and one[key] != two[key]]
    if not said and old != new:
        said.append("words only: nothing that is measured by")
    return said


def _listed(name: str, done: str, items: Mapping[str, Any]) -> list[str]:
    if len(items) <= 1:
        return [f"{name} {key} {done}{_titled(item)}" for key, item in items.items()]
    return [f"{name}s {done}: {', '.join(f'{key}{_titled(item)}' for key, item in items.items())}"[:LONGEST]]


def _titled(item: Any) -> str:
    title = item.get("title") if isinstance(item, Mapping) else None
    return f" ({title})" if title else ""


def _changes(one: Any, two: Any) -> str:
    if not (isinstance(one, Mapping) and isinstance(two, Mapping)):
        return f"{one} → {two}"
    keys = [key for key in dict.fromkeys([*one, *two]) if one.get(key) != two.get(key)]
    return ", ".join(f"{LABELS.get(key, key.replace('_', ' '))} {_shown(one, key)} → {_shown(two, key)}" for key in keys)[:LONGEST]


def _shown(item: Mapping[str, Any], key: str) -> str:
    value = item.get(key, "not given")
    if isinstance(value, Mapping):
        return ", ".join(str(k) if v is None else f"{k}: {_joined(v)}" for k, v in value.items())
    return _joined(value)


def _joined(value: Any) -> str:
    return " and ".join(map(str, value)) if isinstance(value, list) else str(value)
