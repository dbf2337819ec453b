"""Trouble codes: their form, their status byte in words, and what clearing and re-reading tells about them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Literal

from sondar.core.errors import FieldProblem, InvalidError

Behaviour = Literal["hard", "conditional", "intermittent", "history", "not run yet", "new"]

CODE = re.compile(r"\b([PCBU][0-3][0-9A-F]{3})(?:[-: ]?([0-9A-F]{2}))?\b", re.IGNORECASE)
_LOOKS_LIKE = re.compile(r"\b[PCBU][0-9A-Z]{4,6}\b", re.IGNORECASE)
_MODULE = re.compile(r"^\s*([A-Za-z][A-Za-z0-9 _-]{0,24}?)\s*[:;,\t]")
_STATUS = re.compile(r"\b(?:0x([0-9A-F]{2})|status\s*[=:]?\s*([0-9A-F]{2}))\b", re.IGNORECASE)
_WORDS = {
    "pending": 0x04, "confirmed": 0x08, "stored": 0x08, "permanent": 0x08, "active": 0x09, "current": 0x09, "present": 0x09,
    "history": 0x28, "historic": 0x28, "passive": 0x28, "sporadic": 0x28, "intermittent": 0x28,
}  # fmt: skip

STATUS_BITS = (
    (0x01, "failing now"),
    (0x02, "failed this drive"),
    (0x04, "pending"),
    (0x08, "confirmed"),
    (0x10, "not tested since clearing"),
    (0x20, "failed since clearing"),
    (0x40, "not tested this drive"),
    (0x80, "warning lamp asked for"),
)
"""Bits of the DTC status byte, ISO 14229-1 annex D, in words for people."""

SYSTEMS = {"P": "powertrain", "C": "chassis", "B": "body", "U": "network"}
DANGERS = (
    (re.compile(r"B00[0-9A-F]{2}"),
     "Restraint system: no meter, lamp or probe on any of its connectors, and none apart before the battery has been disconnected for as "
     "long as the maker says. Work on it is for people trained for it, by the maker's instructions."),
    (re.compile(r"P0[A-F][0-9A-F]{2}"),
     "High-voltage system: touching its orange cables or parts can kill. Switching it off, proving it dead and every measurement on it "
     "are for people qualified for it, by the maker's instructions."),
)  # fmt: skip
"""Codes of systems on which nothing is measured by this program (ISO 15031-6: B00xx restraint, P0Axx and after hybrid propulsion)."""

HARD_WITHIN_S = 30.0
"""Back within this time after clearing, key on and nothing else done: the fault is there all the time."""


class CodeTextError(InvalidError):
    """Text in which something looks like a code and is not one: (line, what is wrong with it)."""

    def __init__(self, found: list[tuple[int, str]]) -> None:
        said = "; ".join(f"line {line}: {message}" for line, message in found)
        problems = [FieldProblem(("text",), message, line) for line, message in found]
        super().__init__("Codes not understood", f"{said}. Nothing was stored.", problems)


@dataclass(frozen=True)
class FoundCode:
    """One code as read: ``code`` in the five-character form, failure type and status byte if given; ``words``: what the scan tool says of it."""

    code: str
    failure_type: str | None = None
    status: int | None = None
    module: str | None = None
    words: str = field(default="", compare=False)


def parse_codes(text: str) -> list[FoundCode]:
    """Codes from typed or pasted text, one or many per line, words around them allowed; the first of equals is kept.

    A module in front of a colon, semicolon, comma or tab is taken over (``ECM: P0480``), a status as ``0x2F`` or as a word.

    Raises:
        CodeTextError: something looks like a code and is not one, or there is none at all.
    """
    found: dict[tuple[str | None, str, str | None], FoundCode] = {}
    problems = []
    for number, line in enumerate(text.splitlines() or [text], start=1):
        for code in codes_in_line(line):
            found.setdefault((code.module, code.code, code.failure_type), code)
        for wrong in looks_like_a_code(line):
            problems.append((number, f"'{wrong}' is not a code: one of P, C, B, U, then 0–3 and three hex digits"))
    if problems:
        raise CodeTextError(problems)
    if not found:
        raise CodeTextError([(1, "no code in this text: a code is one of P, C, B, U and four digits, e.g. P0480")])
    return list(found.values())


def codes_in_line(line: str) -> list[FoundCode]:
    """Every code of a line, with the module in front of them and the status that stands anywhere in it."""
    head = _MODULE.match(line)
    module = head.group(1).strip() if head and not CODE.search(head.group(1)) and not _LOOKS_LIKE.search(head.group(1)) else None
    status = status_in_words(line)
    return [FoundCode(m.group(1).upper(), m.group(2).upper() if m.group(2) else None, status, module) for m in CODE.finditer(line)]


def looks_like_a_code(line: str) -> list[str]:
    """What looks like a code in a line and is none."""
    spans = [match.span() for match in CODE.finditer(line)]
    return [
        match.group() for match in _LOOKS_LIKE.finditer(line)
        if any(c.isdigit() for c in match.group()) and not any(a <= match.start() < b for a, b in spans)
    ]  # fmt: skip


def status_in_words(line: str) -> int | None:
    """A status byte written as ``0x2F``, ``status 2F`` or as a word; None if there is none."""
    match = _STATUS.search(line)
    if match:
        return int(match.group(1) or match.group(2), 16)
    words = re.findall(r"[a-z]+", line.lower())
    bits = [_WORDS[word] for word in words if word in _WORDS]
    return bits[0] if bits else None


def status_words(status: int | None) -> list[str]:
    """The status byte in words; empty when none was given."""
    return [] if status is None else [word for bit, word in STATUS_BITS if status & bit]


def danger_of(code: str) -> str:
    """The caution of a code on whose system nothing is measured; empty for every other."""
    return next((caution for form, caution in DANGERS if form.fullmatch(code.upper())), "")


def code_of_number(number: int) -> FoundCode:
    """The three-byte DTC of ISO 14229-1 (two bytes code, one byte failure type) in its written form (ISO 15031-6)."""
    high = number >> 8
    letter = "PCBU"[high >> 14]
    failure = number & 0xFF
    return FoundCode(f"{letter}{(high >> 12) & 3}{high & 0xFFF:03X}", f"{failure:02X}" if failure else None)


def number_of_code(code: str, failure_type: str | None = None) -> int:
    """The reverse of ``code_of_number``."""
    high = "PCBU".index(code[0]) << 14 | int(code[1]) << 12 | int(code[2:5], 16)
    return high << 8 | int(failure_type or "0", 16)


def is_stored(status: int | None) -> bool:
    """True unless the status says nothing but "not tested yet"; a code without status is a stored one."""
    return status is None or bool(status & 0x2F)


def evidence_weight(status: int | None) -> float:
    """How far a stored code speaks of what is wrong now: failing now 1, confirmed .95, pending .85, history only .5."""
    if status is None or status & 0x01:
        return 1.0
    if status & 0x02 or status & 0x08:
        return 0.95
    if status & 0x04:
        return 0.85
    return 0.5


@dataclass(frozen=True)
class ReRead:
    """One reading of the codes after clearing.

    Attributes:
        after_s: seconds since clearing.
        conditions: what was run meanwhile (``key cycled``, ``engine run``, ``driven``, ``cold``, ``wet`` …).
        codes: what was there, per (module, code).
        ran: codes known to have been tested since clearing although they are not there.
    """

    after_s: float
    conditions: frozenset[str]
    codes: frozenset[tuple[str, str]]
    ran: frozenset[tuple[str, str]] = frozenset()


@dataclass(frozen=True)
class Classified:
    """How a code behaves: its class, when it came back, under what, and why it is put there."""

    module: str
    code: str
    behaviour: Behaviour
    after_s: float | None
    conditions: tuple[str, ...]
    reason: str


def classify(before: Sequence[FoundCode], re_reads: Sequence[ReRead], complaint_conditions: Iterable[str] = ()) -> list[Classified]:
    """Hard, conditional, intermittent or history, for every code before clearing and every new one since.

    Args:
        before: the list kept before clearing.
        re_reads: in order of time.
        complaint_conditions: conditions under which the complaint occurs; not back *under those* means history.
    """
    wanted = frozenset(complaint_conditions)
    known = {(c.module or "", c.code): c for c in before}
    seen = dict.fromkeys([*known, *sorted({key for r in re_reads for key in r.codes})])
    return [_one(key, known.get(key), re_reads, wanted) for key in seen]


def _one(key: tuple[str, str], before: FoundCode | None, re_reads: Sequence[ReRead], wanted: frozenset[str]) -> Classified:
    module, code = key
    back = [r for r in re_reads if key in r.codes]
    missing = [r for r in re_reads if key not in r.codes]
    if before is None:
        first = back[0]
        return Classified(module, code, "new", first.after_s, tuple(sorted(first.conditions)), "not there before clearing")
    if back:
        first = back[0]
        under = tuple(sorted(first.conditions))
        gone_again = any(r.after_s > first.after_s for r in missing)
        if gone_again:
            return Classified(module, code, "intermittent", first.after_s, under, "came back and was gone again in a later reading")
        if first.after_s <= HARD_WITHIN_S or first.conditions <= {"key cycled"}:
            return Classified(module, code, "hard", first.after_s, under, "with the key on and nothing else done")
        told = ", ".join(under) or "time"
        return Classified(module, code, "conditional", first.after_s, under, f"only after: {told}")
    tested = any(key in r.ran for r in missing)
    run = frozenset().union(*(r.conditions for r in missing)) if missing else frozenset()
    if not missing or not (tested or run):
        return Classified(module, code, "not run yet", None, (), "the module has not tested it since clearing: run its conditions")
    if wanted and not wanted <= run:
        left = ", ".join(sorted(wanted - run))
        return Classified(
            module, code, "not run yet", None, tuple(sorted(run)), f"the complaint's own conditions are still to be run: {left}"
        )
    was_active = before.status is not None and before.status & 0x03
    if was_active:
        return Classified(
            module, code, "intermittent", None, tuple(sorted(run)), "was failing before clearing and has not come back"
        )
    return Classified(module, code, "history", None, tuple(sorted(run)), "tested again and not back: it tells of an earlier time")


PRESENT = {"hard": 0.98, "conditional": 0.6, "intermittent": 0.35, "history": 0.35, "new": 0.98}
"""Chance that the fault behind a code is there while a reading is taken, by the code's behaviour."""


def chance_present(behaviours: Iterable[Behaviour]) -> float:
    """Chance that the fault is present while reading: the firmest behaviour counts; 1 when nothing is known."""
    known = [PRESENT[b] for b in behaviours if b in PRESENT]
    return max(known, default=1.0)
