"""How things were spelled before. Stored evidence and files of this format version keep the old spelling and are read by this.

Instruments and their words, stages of a job, fields and values of circuit and procedure files. Nothing is ever written in the old
spelling; a file that uses it loads, with a note that names what it is called now.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

FORMER_IDS: Mapping[str, str] = {
    "senses": "functional-check", "scan-value": "live-data", "answers": "module-communication", "clamp": "current-clamp",
    "feed-test": "loaded-circuit-test", "weak-pull": "line-state", "probe-ground": "applied-ground", "probe-supply": "applied-supply",
    "look": "visual-inspection", "wiggle": "wiggle-test", "swap": "substitution", "clean": "cleaning", "gauge": "reference-gauge",
}  # fmt: skip
"""Former id of an instrument -> its id now."""

FORMER_WORDS: Mapping[str, str] = {
    "bouncing": "unstable", "volts present": "voltage present", "acts": "operates", "nothing": "inoperative", "held high": "driven high",
    "answers": "communicates", "no answer": "no communication", "sound": "OK", "cured": "fault gone", "unchanged": "fault remains",
    "unsteady": "comes and goes",
}  # fmt: skip
"""Former word of a display -> its word now."""


def current_id(name: str) -> str:
    """The id of an instrument as it is called now."""
    return FORMER_IDS.get(name, name)


def current_word(word: str) -> str:
    """A word of a display as it is called now."""
    return FORMER_WORDS.get(word, word)


FORMER_STAGES: Mapping[str, str] = {"take in": "check-in", "chase": "testing", "verdict": "diagnosis"}
"""Former stage of a job -> its name now."""

FORMER_SOURCES: Mapping[str, str] = {"maker": "manufacturer", "own": "known-good vehicles"}
"""Former source of a limit -> its name now."""

FORMER_FIELDS: Mapping[str, str] = {"also": "synonyms", "sondar_chart": "sondar_procedure"}
FORMER_LIMIT_FIELDS: Mapping[str, str] = {"per": "ratio_to", "change_from": "difference_from"}


def current_stage(stage: str) -> str:
    """A stage as it is called now."""
    return FORMER_STAGES.get(stage, stage)


@dataclass(frozen=True)
class Note:
    """A former name in a file: where it stands, and what it is called now."""

    path: tuple[str | int, ...]
    message: str


def with_current_names(data: Mapping[str, Any]) -> tuple[dict[str, Any], list[Note]]:
    """A circuit or procedure file's data with every former name replaced, and a note for each; the data itself is left alone."""
    notes: list[Note] = []
    made = _renamed(data, FORMER_FIELDS, (), notes)
    for section in ("limits", "steps"):
        items = made.get(section)
        if isinstance(items, Mapping):
            made[section] = {name: _limit(item, (section, str(name)), notes) for name, item in items.items()}
    return made, notes


def _limit(item: Any, path: tuple[str | int, ...], notes: list[Note]) -> Any:
    if not isinstance(item, Mapping):
        return item
    made = _renamed(item, FORMER_LIMIT_FIELDS, path, notes)
    for field, names in (("source", FORMER_SOURCES), ("with", FORMER_IDS), ("word", FORMER_WORDS)):
        value = made.get(field)
        if isinstance(value, str) and value in names and not (field == "source" and path[0] == "steps"):
            made[field] = names[value]
            notes.append(Note((*path, field), f"'{value}' is called '{names[value]}' now"))
    return made


def _renamed(item: Mapping[str, Any], names: Mapping[str, str], path: tuple[str | int, ...], notes: list[Note]) -> dict[str, Any]:
    for name in item:
        if name in names:
            notes.append(Note((*path, name), f"'{name}' is called '{names[name]}' now"))
    return {names.get(name, name): value for name, value in item.items()}
