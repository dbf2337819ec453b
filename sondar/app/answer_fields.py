"""Fields of a job that can be answered, and the check of each value: what is kept is always of its form."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from datetime import date
from decimal import Decimal
from typing import Any

from pydantic import TypeAdapter, ValidationError

from sondar.core.errors import invalid
from sondar.core.estimate import KINDS, number
from sondar.core.triage.prior_factors import CONDITIONS, ENVIRONMENTS
from sondar.core.vin import vin_problem
from sondar.core.wording.switching_on import STARTINGS
from sondar.store.jobs import STAGES


def _words(most: int, keys: Sequence[str] | None = None) -> Callable[[Any], list[str]]:
    def check(value: list[str]) -> list[str]:
        wrong = [v for v in value if keys is not None and v not in keys]
        if wrong:
            raise ValueError(f"'{wrong[0]}' is not one of {', '.join(keys or ())}")
        if len(value) > most or any(len(v) > 80 for v in value):
            raise ValueError(f"at most {most} entries of 80 characters")
        return sorted(set(value))

    adapter = TypeAdapter(list[str])
    return lambda value: check(adapter.validate_python(value, strict=True))


def _text(most: int, least: int = 0) -> Callable[[Any], str]:
    def check(value: Any) -> str:
        if not isinstance(value, str) or not least <= len(value.strip()) <= most:
            raise ValueError(f"text of {least} to {most} characters")
        if "\x00" in value:
            raise ValueError("text without control characters")
        return value.strip()

    return check


def _number(low: float, high: float, whole: bool = False) -> Callable[[Any], float | int | None]:
    def check(value: Any) -> float | int | None:
        if value is None:
            return None
        if (
            isinstance(value, bool)
            or not isinstance(value, int | float)
            or not low <= value <= high
            or (whole and value != int(value))
        ):
            raise ValueError(f"a {'whole ' if whole else ''}number from {low:g} to {high:g}, or nothing")
        return int(value) if whole else float(value)

    return check


def _yes_no(value: Any) -> bool | None:
    if value is not None and not isinstance(value, bool):
        raise ValueError("yes, no, or nothing")
    return value


def _vin(value: Any) -> str:
    text = _text(17)(value).upper()
    problem = vin_problem(text) if text else None
    if problem:
        raise ValueError(problem)
    return text


def _stage(value: Any) -> str:
    if value not in STAGES:
        raise ValueError(f"one of {', '.join(STAGES)}")
    return str(value)


MAY_DRIVE = ("yes", "with limits", "not until repaired", "not known")
URGENCIES = ("at once", "soon", "to be watched")
DECISIONS = ("advised", "accepted", "declined")
FOLLOW_UP_RESULTS = ("in order", "came back, same cause", "came back, another cause", "not reached")
MOST_DEFECTS = 20


def _one_of(words: Sequence[str]) -> Callable[[Any], str]:
    def check(value: Any) -> str:
        if value not in ("", None, *words):
            raise ValueError(f"one of {', '.join(words)}, or nothing")
        return str(value or "")

    return check


def _day(value: Any) -> str:
    """A day as 2026-12-03, or none."""
    text = _text(10)(value or "")
    if text:
        try:
            date.fromisoformat(text)
        except ValueError as error:
            raise ValueError("a day such as 2026-12-03") from error
    return text


def _defects(value: Any) -> list[str]:
    """Other defects that were seen, each as 'what | how urgent | what was decided'."""
    found = TypeAdapter(list[str]).validate_python(value, strict=True)
    if len(found) > MOST_DEFECTS:
        raise ValueError(f"at most {MOST_DEFECTS} defects")
    for line in found:
        what, *rest = (part.strip() for part in line.split("|"))
        if not 1 <= len(what) <= 200 or len(rest) != 2 or rest[0] not in URGENCIES or rest[1] not in DECISIONS:
            raise ValueError(f"'{line[:40]}': what it is | {', '.join(URGENCIES)} | {', '.join(DECISIONS)}")
    return [" | ".join(part.strip() for part in line.split("|")) for line in found]


PART_CONDITIONS = ("new", "reconditioned", "used", "repaired by a specialist", "mechanical fixing made good")
PART_CHECKED = ("not checked", "good", "bad")
MOST_PARTS, MOST_STEPS = 20, 120


def _lines(most: int, what: str, fits: Callable[[list[str]], bool]) -> Callable[[Any], list[str]]:
    """Lines of fields that are divided by upright strokes."""

    def check(value: Any) -> list[str]:
        found = TypeAdapter(list[str]).validate_python(value, strict=True)
        if len(found) > most:
            raise ValueError(f"at most {most} lines")
        divided = [[part.strip() for part in line.split("|")] for line in found]
        for parts in divided:
            if any(len(part) > 200 for part in parts) or not fits(parts):
                raise ValueError(f"'{' | '.join(parts)[:40]}': {what}")
        return [" | ".join(parts) for parts in divided]

    return check


def _is_part(parts: list[str]) -> bool:
    return len(parts) == 8 and bool(parts[0]) and parts[3] in PART_CONDITIONS and parts[6] in PART_CHECKED


_parts = _lines(
    MOST_PARTS, "what it is | number on the old one | number fitted | condition | supplier | price | checked | note, with a condition of "
    f"{', '.join(PART_CONDITIONS)} and checked {', '.join(PART_CHECKED)}", _is_part,
)  # fmt: skip
_steps = _lines(MOST_STEPS, "circuit diagnosis | step | done, or why not", lambda parts: len(parts) == 3 and all(parts))


def _is_estimate_line(parts: list[str]) -> bool:
    if len(parts) != 4 or not parts[0] or parts[1] not in KINDS:
        return False
    for figure in parts[2:]:
        number(figure)
    return True


_estimate = _lines(60, f"what | {', '.join(KINDS)} | amount | unit price", _is_estimate_line)


def _acceptance(value: Any) -> str:
    """Who accepted the estimate, what it came to, and when; it is only kept by accepting, and taken back here."""
    if value not in ("", None):
        raise ValueError("an estimate is accepted as a whole, with its sum: this field is only emptied")
    return ""


OUTCOMES = ("fixed", "partly", "not fixed")
SAME_CAUSE = ("same cause", "another cause", "not known")
MONITOR_STATES = ("complete", "not complete")
READ_AT = "read at"
"""Stands before the time, so that the same monitors read once more are a new answer."""


def _is_monitor(parts: list[str]) -> bool:
    return len(parts) == 2 and bool(parts[0]) and (parts[0] == READ_AT or parts[1] in MONITOR_STATES)


_readiness = _lines(40, f"monitor | {' or '.join(MONITOR_STATES)}", _is_monitor)


def _numbers(value: Any) -> list[str]:
    """Numbers of OBD service 01 that the vehicle offers, as two hexadecimal digits each."""
    found = TypeAdapter(list[str]).validate_python(value, strict=True)
    if len(found) > 255 or any(not re.fullmatch(r"[0-9A-F]{2}", one) for one in found):
        raise ValueError("numbers of two hexadecimal digits, such as 0C")
    return sorted(set(found))


_results = _lines(200, "monitor.test.scale in hexadecimal | value | least | most", lambda parts: len(parts) == 4 and all(parts))
_frame = _lines(60, "code | figure | value with unit", lambda parts: len(parts) == 3 and all(parts))

HARNESS_METHODS = (
    "crimped and sealed",
    "soldered and sealed",
    "new length with two joints",
    "new contact",
    "new wire beside the harness",
)


def _is_photo(text: str) -> bool:
    return re.fullmatch(r"[0-9a-f-]{36}", text) is not None


def _is_harness_repair(parts: list[str]) -> bool:
    wire, _, added, method, _, before, after = parts if len(parts) == 7 else ("",) * 7
    ids = all(not photo or _is_photo(photo) for photo in (before, after))
    return bool(wire) and method in HARNESS_METHODS and (not added or number(added, Decimal(100_000)) >= 0) and ids


_harness = _lines(
    MOST_PARTS,
    f"wire | place | mm added | {', '.join(HARNESS_METHODS)} | sealed with | picture before | picture after",
    _is_harness_repair,
)

WEAR = ("nothing to be seen", "worn", "dirty or stuck", "corroded or wet", "burnt", "broken")
COMPARED = ("nothing", "the new part", "the same part of the other side", "the maker's picture or figure")
BYPASS_STATES = ("in place", "taken out")


def _is_removed_part(parts: list[str]) -> bool:
    what, wear, seen, compared, photo = parts if len(parts) == 5 else ("",) * 5
    return bool(what and seen) and wear in WEAR and compared in COMPARED and (not photo or _is_photo(photo))


_removed = _lines(
    MOST_PARTS, f"part | {', '.join(WEAR)} | what was seen | compared with {', '.join(COMPARED)} | picture", _is_removed_part
)
_settings = _lines(
    MOST_PARTS,
    "what was set | old value | new value | who asked for it | note of law or safety | how to set it back",
    lambda parts: len(parts) == 6 and all(parts[:4]) and bool(parts[5]),
)
_bypasses = _lines(
    MOST_PARTS,
    f"what was bypassed, and with what | why | until when | {' or '.join(BYPASS_STATES)}",
    lambda parts: len(parts) == 4 and all(parts[:2]) and parts[3] in BYPASS_STATES,
)


def _intervals(value: Any) -> list[str]:
    """Intervals that were done on this job, as kind of part and number."""
    found = TypeAdapter(list[str]).validate_python(value, strict=True)
    if len(found) > 100 or any(not re.fullmatch(r"[a-z][a-z0-9-]{0,60}:[0-9]{1,2}", one) for one in found):
        raise ValueError("intervals by kind of part and number, such as battery:0")
    return sorted(set(found))


FIELDS: dict[str, Callable[[Any], Any]] = {
    "complaint": _text(2000), "conditions": _words(8, tuple(CONDITIONS)), "conditions_text": _text(1000), "reproduced": _yes_no,
    "recent_work": _words(20), "recent_work_text": _text(1000), "environment": _words(5, tuple(ENVIRONMENTS)),
    "battery_v": _number(0, 60), "temperature_c": _number(-50, 90), "mileage_km": _number(0, 5_000_000, whole=True),
    "symptoms": _words(30), "denied": _words(30), "stage": _stage, "put_back": _words(60),
    "opinion_by": _text(120), "opinion_said": _text(1000), "opinion_parts": _words(20),
    "may_drive": _one_of(MAY_DRIVE), "may_drive_why": _text(500), "made_it_fail": _text(500), "cause_removed": _yes_no, "not_done": _text(1000),
    "defects": _defects, "follow_up": _day, "follow_up_result": _one_of(FOLLOW_UP_RESULTS),
    "parts": _parts, "repair_steps": _steps, "harness_repairs": _harness,
    "intervals_done": _intervals, "removed_parts": _removed, "bypasses": _bypasses, "settings_changed": _settings,
    "outcome": _one_of(OUTCOMES), "outcome_left": _text(500), "inspection_due": _day, "readiness": _readiness, "freeze_frame": _frame,
    "estimate": _estimate, "estimate_discount": _number(0, 100), "estimate_tax": _number(0, 100), "estimate_accepted": _acceptance,
    "customer_words": _text(2000), "return_cause": _one_of(SAME_CAUSE), "obd_figures": _numbers, "monitor_results": _results,
    "make": _text(60, 1), "model": _text(60), "year": _number(1950, 2100, whole=True), "plate": _text(20), "engine": _text(60), "vin": _vin,
    "starting": _one_of(tuple(STARTINGS)),
}  # fmt: skip
"""Every field that can be answered, and the check of its value."""

OF_LEAD = ("customer_words", "return_cause")
"""What only a workshop lead says: the wording for the customer, and whether a return has the same cause."""

OF_VEHICLE = ("make", "model", "year", "plate", "engine", "vin", "mileage_km", "starting")
OF_JOB = ("complaint", "temperature_c", "stage")


def checked(field: str, value: Any) -> Any:
    """The value as it is kept.

    Raises:
        InvalidError: no such field or not such a value.
    """
    if field not in FIELDS:
        raise invalid("field", f"'{field}' is not asked; there are {', '.join(FIELDS)}")
    try:
        return FIELDS[field](value)
    except (ValidationError, ValueError, OverflowError) as error:
        first = error.errors()[0]["msg"] if isinstance(error, ValidationError) else str(error)
        raise invalid(field, first) from error
