"""Generic trouble codes: what each means, as far as the standard says it (ISO 15031-6, SAE J2012), from compact data by subject.

A *subject* is a part or circuit; its codes follow one another in *manners* (circuit, low, high, range …), the same for every bank and
position. Meanings are put together from the two, so that all of a family agree; two subjects that claim one code are a contradiction.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from sondar.core.codes import CODE, SYSTEMS

Kind = Literal["electrical", "rationality", "system"]
Held = Literal["held", "manufacturer", "reserved", "unknown"]

MOST_COMPANIONS = 12
NOT_SAID: Mapping[Kind, str] = {
    "electrical": "It does not say whether the part, its wiring, its supply or the module is at fault.",
    "rationality": "It does not say that this part is wrong: what it is compared with, a common supply or the thing itself may be.",
    "system": "It does not accuse the part that it names: a function failed, for whatever reason.",
}
_MANUFACTURER = re.compile(r"P1...|P3[0-3]..|[BCU][12]...", re.IGNORECASE)
_RESERVED = re.compile(r"[BCU]3...|P3[A-F]..", re.IGNORECASE)
_SAID = re.compile(r"\b([PCBU])?[ ]?([0-3])?([0-9A-F]{3})(?:[-: /]([0-9A-F]{2}))?\b", re.IGNORECASE)
_WORD = re.compile(r"[0-9a-z]+")


class GenericCodesError(ValueError):
    """The data contradicts itself; one sentence for each place."""

    def __init__(self, problems: Sequence[str]) -> None:
        super().__init__("; ".join(problems))
        self.problems = list(problems)


@dataclass(frozen=True)
class Manner:
    """In which way something is at fault.

    Attributes:
        sets: what the module must have seen. looks: first looks, quickest first.
    """

    words: str
    kind: Kind
    sets: str
    looks: tuple[str, ...]


@dataclass(frozen=True)
class Electrically:
    """What *low* and *high* mean for one kind of circuit."""

    low: str
    high: str


@dataclass(frozen=True)
class GenericCode:
    """One generic code.

    Attributes:
        code: five characters. part: what it is about; place: bank, position, cylinder; empty if there is only one.
        manner: id, or the words themselves where they are said once only. kind: what sort of test finds it.
        template: the circuit to test, empty if there is none. electrically: what low or high means there.
        companions: codes often stored with it. mistaken_for: codes whose cause looks the same.
    """

    code: str
    part: str
    place: str
    manner: str
    meaning: str
    kind: Kind
    template: str
    sets: str
    not_said: str
    looks: tuple[str, ...]
    electrically: str = ""
    companions: tuple[str, ...] = ()
    mistaken_for: tuple[str, ...] = ()
    aka: tuple[str, ...] = field(default=())


@dataclass(frozen=True)
class Understood:
    """A code as somebody said it, written out; ``asked`` is what was said, for confirmation where it was not whole."""

    code: str
    failure_type: str | None
    asked: str

    @property
    def as_said(self) -> bool:
        """True if the five characters were said."""
        return self.asked.upper().startswith(self.code)


class GenericCodes:
    """All codes held, by number and by words."""

    def __init__(
        self, codes: Mapping[str, GenericCode], failure_types: Mapping[str, str], names: Iterable[Sequence[str]] = ()
    ) -> None:
        self.codes = dict(sorted(codes.items()))
        self._failure_types = {key.upper(): words for key, words in failure_types.items()}
        self._names = [tuple(name.lower() for name in group) for group in names]
        named: dict[tuple[str, tuple[str, ...]], frozenset[str]] = {}
        for item in self.codes.values():
            if (item.part, item.aka) not in named:
                named[item.part, item.aka] = self._names_of(item)
        self._words = {
            code: named[item.part, item.aka] | frozenset(_WORD.findall(item.meaning.lower())) for code, item in self.codes.items()
        }

    def __len__(self) -> int:
        return len(self.codes)

    def get(self, code: str) -> GenericCode | None:
        """A code held, or None."""
        return self.codes.get(code.upper())

    def held(self, code: str) -> Held:
        """Whether a code is held, and if not, why it cannot be or is not."""
        if code.upper() in self.codes:
            return "held"
        if _MANUFACTURER.fullmatch(code):
            return "manufacturer"
        return "reserved" if _RESERVED.fullmatch(code) else "unknown"

    def why_not(self, code: str) -> str:
        """One sentence on a code that is not held; empty for one that is."""
        return {
            "held": "",
            "manufacturer": "A manufacturer's own code: what it means differs from make to make and stands in the maker's documents.",
            "reserved": "Reserved by the standard: it has no meaning yet.",
            "unknown": f"A generic {SYSTEMS.get(code[:1].upper(), '')} code that is not known here. Nothing is guessed.",
        }[self.held(code)]

    def failure_type(self, byte: str | None) -> str:
        """A failure-type byte in words; says so if it is not known here, empty for none."""
        return "" if not byte else self._failure_types.get(byte.upper(), f"failure type {byte.upper()}, not known here")

    def understand(self, said: str) -> list[Understood]:
        """What a person may mean by a number: ``443``, ``P443``, ``0443`` or ``P0443-14``; likeliest first, empty if it is no number.

        What was not said is filled in as generic powertrain; of several readings those that are held come first.
        """
        text = said.strip()
        whole = CODE.fullmatch(text)
        if whole:
            return [Understood(whole.group(1).upper(), whole.group(2).upper() if whole.group(2) else None, text)]
        match = _SAID.fullmatch(text)
        if match is None:
            return []
        letter, first, rest, failure = match.groups()
        letters = [letter.upper()] if letter else ["P", "U", "C", "B"]
        firsts = [first] if first else ["0", "2"]
        made = [f"{a}{b}{rest.upper()}" for b in firsts for a in letters]
        wanted = [code for code in made if code in self.codes] or made[:1]
        return [Understood(code, failure.upper() if failure else None, text) for code in wanted]

    def search(self, words: str, most: int = 20) -> list[GenericCode]:
        """Codes in which all words stand, by any name of the part, each word a beginning; shortest meaning first."""
        wanted = _WORD.findall(words.lower())
        if not wanted:
            return []
        found = [
            self.codes[code]
            for code, has in self._words.items()
            if all(any(one.startswith(word) for one in has) for word in wanted)
        ]
        return sorted(found, key=lambda item: (len(item.meaning), item.code))[:most]

    def nearest(self, text: str, failure_type: str | None = None, most: int = 3) -> list[GenericCode]:
        """Codes whose meaning shares most with a scan tool's text, for a code that is not held; empty if too little is shared.

        Each word counts by how few meanings have it, and a short meaning more than a long one that happens to have the words too.
        """
        wanted = set(_WORD.findall(f"{text} {self.failure_type(failure_type)}".lower())) - _EMPTY_WORDS
        count: dict[str, int] = {}
        for has in self._words.values():
            for word in wanted & has:
                count[word] = count.get(word, 0) + 1
        scored = [
            (sum(1.0 / count[word] ** 0.5 for word in wanted & has) / len(has) ** 0.5, code) for code, has in self._words.items()
        ]
        best = sorted(((score, code) for score, code in scored if score > 0.0), key=lambda one: (-one[0], one[1]))
        enough = [
            code for score, code in best if score >= 0.6 * best[0][0] and len(wanted & self._words[code]) >= min(2, len(wanted))
        ]
        return [self.codes[code] for code in enough[:most]]

    def _names_of(self, item: GenericCode) -> frozenset[str]:
        text = " ".join((item.part, *item.aka)).lower()
        for group in self._names:
            if any(re.search(rf"\b{re.escape(name)}\b", text) for name in group):
                text = " ".join((text, *group))
        return frozenset(_WORD.findall(text))


_EMPTY_WORDS = frozenset(("a", "an", "the", "of", "or", "and", "in", "to", "is", "at", "fault", "system", "circuit"))


def read_codes(
    subjects: Iterable[Mapping[str, Any]], manners: Mapping[str, Mapping[str, Any]], electrically: Mapping[str, Electrically]
) -> dict[str, GenericCode]:
    """Codes from the library's data.

    Args:
        subjects: ``part``; ``codes`` (first code: manners) or ``each`` (place: first code) with ``manners``; and what differs from usual.
        electrically: by template.

    Raises:
        GenericCodesError: a code is claimed twice, a manner or code named is not there, or a family runs over its end.
    """
    known = {name: Manner(item["words"], item["kind"], item["sets"], tuple(item["looks"])) for name, item in manners.items()}
    found: dict[str, GenericCode] = {}
    related: dict[str, tuple[Sequence[str], Sequence[str]]] = {}
    problems: list[str] = []
    for subject in subjects:
        runs = [(place, first, subject["manners"]) for place, first in subject.get("each", {}).items()]
        runs += [("", first, names) for first, names in subject.get("codes", {}).items()]
        for place, first, names in runs:
            for step, manner in enumerate(names):
                code = following(first, step)
                if code is None or not CODE.fullmatch(code):
                    problems.append(f"{subject['part']}: {first} and {step} more is no code")
                elif code in found:
                    problems.append(f"{code} is both '{found[code].meaning}' and one of '{subject['part']}'")
                else:
                    made = _made(code, str(place), str(manner), subject, known, electrically)
                    if isinstance(made, str):
                        problems.append(made)
                    else:
                        found[code] = made
                        related[code] = (subject.get("with", ()), subject.get("mistaken", ()))
    for code, (beside, mistaken) in related.items():
        problems += [f"{code}: {other} is not there" for other in (*beside, *mistaken) if other not in found]
    if problems:
        raise GenericCodesError(problems)
    return _related(found, related)


def following(first: str, step: int) -> str | None:
    """The code so many after another: plain numbers count in tens, as the standard's families do, those with a letter in sixteens.

    None past the end.
    """
    digits = first[2:]
    if digits.isdigit():
        return f"{first[:2]}{int(digits) + step:03d}" if int(digits) + step <= 999 else None
    return f"{first[:2]}{int(digits, 16) + step:03X}" if int(digits, 16) + step <= 0xFFF else None


def _made(
    code: str,
    place: str,
    manner: str,
    subject: Mapping[str, Any],
    known: Mapping[str, Manner],
    electrically: Mapping[str, Electrically],
) -> GenericCode | str:
    words, _, kind = manner.removeprefix("= ").partition(" | ")
    if manner.startswith("= "):
        told = Manner(words, "system", "", ())
    elif manner in known:
        told = known[manner]
        words = told.words
    else:
        return f"{code}: no manner '{manner}'"
    wanted = kind or subject.get("kind") or told.kind
    what = next((one for one in NOT_SAID if one == wanted), None)
    if what is None:
        return f"{code}: no kind '{wanted}'"
    template = subject.get("template", "")
    told_by = electrically.get(template)
    meant = "" if told_by is None else told_by.low if words.endswith(" low") else told_by.high if words.endswith(" high") else ""
    said = f"{subject['part']}{f', {place}' if place else ''}: {words}"
    return GenericCode(
        code, subject["part"], place, manner if manner in known else words, said[0].upper() + said[1:], what, template,
        subject.get("sets") or told.sets or "The conditions are the maker's; the freeze frame says when it was set.", NOT_SAID[what],
        tuple(subject.get("looks") or told.looks or known["performance"].looks), meant, aka=tuple(subject.get("aka", ())),
    )  # fmt: skip


def _related(found: dict[str, GenericCode], related: Mapping[str, tuple[Sequence[str], Sequence[str]]]) -> dict[str, GenericCode]:
    """Companions: the other codes of the same part and place, those named, then the same manner elsewhere."""
    by_part: dict[tuple[str, str], list[str]] = {}
    by_manner: dict[tuple[str, str], list[str]] = {}
    for code, item in found.items():
        by_part.setdefault((item.part, item.place), []).append(code)
        by_manner.setdefault((item.part, item.manner), []).append(code)
    made = {}
    for code, item in found.items():
        named, mistaken = related[code]
        beside = dict.fromkeys([*by_part[item.part, item.place], *named, *by_manner[item.part, item.manner]])
        companions = tuple(other for other in beside if other != code)[:MOST_COMPANIONS]
        template = item.template or next((found[other].template for other in named if found[other].template), "")
        made[code] = replace(item, companions=companions, template=template, mistaken_for=tuple(m for m in mistaken if m != code))
    return made
