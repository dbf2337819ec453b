"""Who hears whom: from which modules answered the scan tool and which codes of lost contact the others keep.

Each module on a bus misses the messages of those it needs. What the others say about a silent module tells its own supply, ground and
leg of the bus from the bus itself and from the scan tool's way to it; live data of another module tell whether it still sends.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from sondar.core.codes import is_stored
from sondar.core.word_match import words_of

COMMON = frozenset(("module", "control", "unit", "a", "the", "with", "lost", "contact", "no", "message", "from", "communication"))
"""Words that name no module in particular."""
FAILING = 0x01
"""Bit of a status byte: the test fails now (ISO 14229-1)."""

SUPPLIED = (
    "Look in another module's live data for a value that comes from it: if that value lives, it still sends, and only the scan tool's way"
    " to it is interrupted.",
    "Its fuses, and every supply pin at its plug under load (a lamp or a loaded test), key off and key on: a meter alone shows full voltage"
    " through a single strand.",
    "Every ground pin under the same load: less than 0.2 V against the battery's minus.",
    "What wakes it: the key's line, a door or the bus, at its plug.",
    "The bus at its plug, battery disconnected: 60 Ω between the two wires; 120 Ω means that one end is cut off.",
    "The bus, key on: 2.5 V on each wire at rest, about 2.7 and 2.3 V by a meter while messages run.",
)
EXCHANGED = (
    "Only when all of that is good, another module: read out the coding first. A used one may be locked to its former vehicle, and a new one"
    " may lock itself to this one at the first start; never on trial where the immobiliser is in it."
)
ASKED = ("Read all modules with the scan tool.",)
AGAIN = ("Clear the codes and read again: what comes back is there now.",)
EARLIER = ("Test the battery under load, then move harness and plug while live data of it are watched.",)
TOOL = (
    "The diagnostic socket: supply at pin 16 under load, grounds at pins 4 and 5.",
    "The scan tool on another vehicle, and its cable; key on, nothing asleep.",
    "The bus at the socket, battery disconnected: 60 Ω between the two wires of the diagnostic bus; 0 Ω is a short, 120 Ω one end cut off.",
    "If it is shorted: disconnect modules one after another until it is not, those that are easy to reach first.",
)
VARIANT = (
    "Ask first whether it is fitted at all: the equipment list, its place, its fuse. Then its address and the bus that it is on."
)


@dataclass(frozen=True)
class SeenCode:
    """A stored code: who keeps it, what it says it is about, and its status byte if it is known."""

    code: str
    module: str
    about: str
    status: int | None = None


@dataclass(frozen=True)
class Heard:
    """One module.

    Attributes:
        answers: True, False, or None if nobody asked it. missed_by: modules that miss it now; missed_before: that did.
    """

    id: str
    title: str
    answers: bool | None
    missed_by: tuple[str, ...] = ()
    missed_before: tuple[str, ...] = ()

    @property
    def state(self) -> Literal["answers", "silent", "not asked"]:
        """In a word."""
        return "not asked" if self.answers is None else "answers" if self.answers else "silent"


@dataclass(frozen=True)
class Contact:
    """What follows for one or several modules: the sentence, why, and what to measure in order."""

    modules: tuple[str, ...]
    sentence: str
    why: str
    checks: tuple[str, ...]


def who_hears_whom(titles: Mapping[str, str], answered: Mapping[str, bool | str], codes: Sequence[SeenCode]) -> list[Heard]:
    """Every module that is known, was asked, or is missed by another.

    Args:
        titles: module -> what it is, of the vehicle. answered: of the last reading of the codes; a word is one that is there and refused.
        codes: stored codes of lost contact.
    """
    names = {**dict.fromkeys(answered, ""), **titles}
    names = {key: title or key for key, title in names.items()}
    now: dict[str, list[str]] = {}
    before: dict[str, list[str]] = {}
    for code in codes:
        if not is_stored(code.status):
            continue
        missed = module_meant(names, code.about)
        if missed is None:
            missed = code.about
            names[missed] = missed[:1].upper() + missed[1:]
        where = now if code.status is None or code.status & FAILING else before
        if code.module != missed and code.module not in where.setdefault(missed, []):
            where[missed].append(code.module)
    return [
        Heard(
            key, title, None if key not in answered else answered[key] is not False, tuple(now.get(key, ())), tuple(before.get(key, ()))
        )
        for key, title in names.items()
    ]  # fmt: skip


def module_meant(titles: Mapping[str, str], about: str) -> str | None:
    """The module that a code of lost contact is about: all its own words stand in the code's; None if none or several fit."""
    said = set(words_of(about))
    fits = [
        key
        for key, title in titles.items()
        if ((own := set(words_of(title)) - COMMON) and own <= said) or (key.lower() in said and len(key) > 1)
    ]
    return fits[0] if len(fits) == 1 else None


def conclusions(heard: Sequence[Heard]) -> list[Contact]:
    """What follows, the most telling first; nothing if every module that was asked answers and none is missed."""
    asked = [one for one in heard if one.answers is not None]
    silent = [one for one in asked if not one.answers]
    if len(asked) > 1 and len(silent) == len(asked):
        why = "Not one module answers: that is hardly several modules, but what they and the scan tool have in common."
        return [Contact(tuple(one.id for one in silent), "No module answers the scan tool.", why, TOOL)]
    title = {one.id: one.title for one in heard}
    hearing = [title[one.id] for one in asked if one.answers and not one.missed_by]
    missed = [one for one in silent if one.missed_by]
    found = [_together(missed, hearing)] if len(missed) > 1 else [_off_the_bus(one, hearing, title) for one in missed]
    found += [_not_missed(one) for one in silent if not one.missed_by]
    found += [_missed_all_the_same(one, title) for one in heard if one.answers is not False and one.missed_by]
    return [
        *found,
        *(_earlier(one, title) for one in heard if one.answers is not False and one.missed_before and not one.missed_by),
    ]


def _together(missed: Sequence[Heard], hearing: Sequence[str]) -> Contact:
    names = _named(one.title for one in missed)
    alive = f"{_named(hearing)} can be asked, so the bus is alive there. " if hearing else ""
    why = f"{alive}What these have in common comes first: fuse, ground, wake line, a joint of the bus, a gateway."
    return Contact(tuple(one.id for one in missed), f"{names} are off the bus together.", why, (*SUPPLIED, EXCHANGED))


def _off_the_bus(one: Heard, hearing: Sequence[str], title: Mapping[str, str]) -> Contact:
    others = f" {_named(hearing)} hear each other, so the bus between them is good." if len(hearing) > 1 else ""
    why = f"It does not answer, and {_reported(one.missed_by, title)} it.{others}"
    sentence = f"{one.title} is off the bus: its supply, its ground, its leg of the bus, or itself."
    return Contact((one.id,), sentence, why, (*SUPPLIED, EXCHANGED))


def _not_missed(one: Heard) -> Contact:
    sentence = f"{one.title} may not be fitted, or only the scan tool's way to it is interrupted."
    why = "It does not answer the scan tool, and no other module misses its messages."
    return Contact((one.id,), sentence, why, (VARIANT, *SUPPLIED))


def _missed_all_the_same(one: Heard, title: Mapping[str, str]) -> Contact:
    if one.answers is None:
        sentence = f"{one.title} is missed, and nobody has asked it yet."
        return Contact((one.id,), sentence, f"{_reported(one.missed_by, title)} it.", (*ASKED, *SUPPLIED, EXCHANGED))
    why = "It is supplied and sends. The gap lies between the two, in a gateway, or is over by now."
    return Contact(
        (one.id,), f"{one.title} answers, and {_reported(one.missed_by, title)} it all the same.", why, (*AGAIN, *SUPPLIED[4:])
    )


def _earlier(one: Heard, title: Mapping[str, str]) -> Contact:
    kept = _named(title.get(key) or key or "Another module" for key in one.missed_before)
    why = (
        f"{kept} kept it from an earlier time: a battery that was flat or disconnected, cranking, or a contact that comes and goes."
    )
    return Contact((one.id,), f"Contact with {_in_sentence(one.title)} was lost at some time, and is there now.", why, EARLIER)


def _named(names: Iterable[str]) -> str:
    found = list(names)
    return " and ".join([", ".join(found[:-1]), found[-1]] if len(found) > 1 else found)


def _reported(ids: Sequence[str], title: Mapping[str, str]) -> str:
    names = _named(title.get(key) or key or "another module" for key in ids)
    return f"{names} miss{'es' if len(ids) == 1 else ''}"


def _in_sentence(title: str) -> str:
    return title if title.isupper() else title[:1].lower() + title[1:]
