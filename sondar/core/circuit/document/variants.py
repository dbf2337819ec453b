"""Other ways in which a circuit may be built on this vehicle, where nobody has seen its wiring sheet: each is a change of the document.

The change of a section is a JSON merge patch (RFC 7386): a value replaces what stands there, a null takes it away.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

SECTIONS = ("parts", "connectors", "wires")


def patched(data: Mapping[Any, Any], change: Mapping[Any, Any]) -> dict[Any, Any]:
    """Plain data of a document with one variant's change made; it has no variants of its own."""
    found = {key: value for key, value in data.items() if key != "variants"}
    for section in SECTIONS:
        if change.get(section):
            found[section] = merged(found.get(section, {}), change[section])
    return found


def merged(value: Any, patch: Any) -> Any:
    """The result of a merge patch."""
    if not isinstance(patch, Mapping):
        return patch
    found = dict(value) if isinstance(value, Mapping) else {}
    for key, item in patch.items():
        if item is None:
            found.pop(key, None)
        else:
            found[key] = merged(found.get(key), item)
    return found


def difference(before: Any, after: Any) -> Any:
    """The merge patch that makes one value into another."""
    if not (isinstance(before, Mapping) and isinstance(after, Mapping)):
        return after
    found: dict[Any, Any] = {key: None for key in before if key not in after}
    for key, value in after.items():
        if key not in before:
            found[key] = value
        elif before[key] != value:
            found[key] = difference(before[key], value)
    return found
