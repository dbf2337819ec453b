"""References in a circuit file as plain data, changed all at once: names of parts, connectors, modules and wires, and what follows a dot."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

WORDS = frozenset(("title", "about", "how", "complaint", "note", "teach_in", "place", "colour"))
"""Fields of words: they hold no references."""


def with_references(value: Any, change: Callable[[str], str]) -> Any:
    """The data with every reference changed, keys among them; a new structure."""
    if isinstance(value, Mapping):
        return {
            change(key) if isinstance(key, str) else key: item if key in WORDS else with_references(item, change)
            for key, item in value.items()
        }
    if isinstance(value, list | tuple):
        return [with_references(item, change) for item in value]
    return change(value) if isinstance(value, str) else value


def renamed(new: Mapping[str, str]) -> Callable[[str], str]:
    """A change of names: ``X2.1`` becomes ``X51.1`` where ``X2`` is called ``X51`` now."""

    def change(ref: str) -> str:
        head, dot, tail = ref.partition(".")
        return f"{new[head]}{dot}{tail}" if head in new else ref

    return change
