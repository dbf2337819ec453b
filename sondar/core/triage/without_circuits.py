"""Which part to test first on a vehicle of which nothing is known but its codes and what was noticed.

What the standard's structure gives: electrical codes before those that only say that a value or a function does not fit; several codes of
sensors on one reference speak of the reference; modules that are missed together speak of the bus or of one supply; a code whose cause
is another one's waits. After
the codes come the parts of which the quick reference names a symptom that was noticed. Shares are weights of these rules, not
probabilities.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sondar.core.generic_codes import GenericCode
from sondar.core.part_kinds import PartKind
from sondar.core.word_match import as_id, words_of

ON_A_REFERENCE = frozenset(
    ("pressure-three-wire", "position-three-wire", "throttle-body-six-wire", "pedal-six-wire", "pressure-temperature-four-wire")
)
REFERENCES = frozenset(("reference-5v",))
FIRST = {"electrical": 3.0, "rationality": 1.5, "system": 1.0}
EXPLAINED, SHARED, SUPPLY = 0.25, 2.5, 4.0
"""Factor of a code that another code on the list would explain; of what several codes have in common; of the supply voltage."""


@dataclass(frozen=True)
class PartFirst:
    """A part to test: its typical circuit, the codes that speak of it, and why it stands where it stands.

    ``code`` is the one that names the part; empty where several codes point at what they share.
    """

    part: str
    template: str
    code: str
    codes: tuple[str, ...]
    reason: str
    weight: float


def parts_by_codes(items: Sequence[GenericCode]) -> list[PartFirst]:
    """Parts with a typical circuit, the one to test first in front; empty if no code has one."""
    stored = {item.code: item for item in items}
    found = [*_shared(items), *_single(stored)]
    return sorted(found, key=lambda one: (-one.weight, one.codes))


def _single(stored: dict[str, GenericCode]) -> list[PartFirst]:
    by_part: dict[tuple[str, str], list[GenericCode]] = {}
    for item in stored.values():
        if item.template:
            by_part.setdefault((item.part, item.place), []).append(item)
    found = []
    for (part, place), items in by_part.items():
        best = max(items, key=lambda item: FIRST[item.kind])
        # Only what is no code of the same part, and an electrical one, explains a code that says less.
        causes = [
            other for item in items for other in (*item.companions, *item.mistaken_for)
            if other in stored and stored[other].part != part and FIRST[stored[other].kind] > FIRST[best.kind]
        ]  # fmt: skip
        weight = FIRST[best.kind] * (EXPLAINED if causes else 1.0) * (1.0 + 0.2 * (len(items) - 1))
        if best.template == "charging" and best.kind == "electrical":
            weight *= SUPPLY / FIRST["electrical"]
        reason = {
            "electrical": "an electrical code: its circuit can be measured",
            "rationality": "its value does not fit; the circuit may be sound",
            "system": "a function failed; the part named may be sound",
        }[best.kind]
        if causes:
            reason += f"; {', '.join(dict.fromkeys(causes))} may be its cause and comes first"
        name = f"{part}{f', {place}' if place else ''}"
        found.append(PartFirst(name, best.template, best.code, tuple(item.code for item in items), reason, weight))
    return found


def _shared(items: Sequence[GenericCode]) -> list[PartFirst]:
    """What several codes have in common: a reference, a return, a bus."""
    found = []
    sensors = [item for item in items if item.template in ON_A_REFERENCE and item.kind == "electrical"]
    said = [item.code for item in items if item.template in REFERENCES]
    for manner, reason in (
        ("low", "several sensors low at once: their common reference, one of its users or its wire"),
        ("high", "several sensors high at once: their common return, or a reference too high"),
    ):
        alike = [item.code for item in sensors if item.manner == manner]
        if len({item.part for item in sensors if item.manner == manner}) > 1 and not said:
            found.append(PartFirst("sensor reference", "reference-5v", "", tuple(alike), reason, SHARED * FIRST["electrical"]))
    lost = [item.code for item in items if item.manner == "lost"]
    if len(lost) > 1:
        found.append(
            PartFirst(
                "bus",
                "bus-pair",
                "",
                tuple(lost),
                "several modules are missed at once: the bus, or a supply that they share",
                SHARED * FIRST["electrical"],
            )
        )
    return found


MOST_BY_COMPLAINT, MOST_SYMPTOMS = 5, 16
NOTICED, SAID, NAMED = 1.0, 0.6, 0.8
"""Weights of a symptom that was picked, of one that the complaint has in it, and of a part that the complaint names."""
ENOUGH_OF_IT = 0.6
"""Share of a symptom's words that a complaint must have to be taken for it."""
SMALL_WORDS = frozenset(words_of("a an and as at by for from in is it its not of off on or the to when with"))


def symptoms_of(kinds: Sequence[PartKind], complaint: str, picked: Sequence[str]) -> dict[str, tuple[str, list[str]]]:
    """What may be noticed: key -> (in words, kinds of parts it can come from). Picked ones, those of the complaint, then those of several kinds."""
    causes: dict[str, list[str]] = {}
    for kind in kinds:
        for symptom in kind.symptoms:
            causes.setdefault(symptom, []).append(kind.title)
    said = _words(complaint)
    order = sorted(causes, key=lambda one: (as_id(one) not in picked, -_share(said, one), -len(causes[one]), one))
    return {as_id(one): (one[:1].upper() + one[1:], causes[one]) for one in order[:MOST_SYMPTOMS]}


def parts_by_complaint(kinds: Sequence[PartKind], complaint: str, picked: Sequence[str]) -> list[PartFirst]:
    """Kinds of parts with a typical circuit that what was noticed can come from, the likeliest in front."""
    said, found = _words(complaint), []
    phrase = f" {' '.join(words_of(complaint))} "
    for kind in kinds:
        noticed = [one for one in kind.symptoms if as_id(one) in picked]
        heard = {one: share for one in kind.symptoms if one not in noticed and (share := _share(said, one))}
        named = [one for one in kind.words if f" {' '.join(words_of(one))} " in phrase]
        weight = NOTICED * len(noticed) + SAID * sum(heard.values()) + NAMED * bool(named)
        if weight and kind.templates:
            what = [*noticed, *heard] or [f"the {named[0]} is named in the complaint"]
            found.append(PartFirst(kind.title, kind.templates[0], "", (), "; ".join(what), weight))
    return sorted(found, key=lambda one: (-one.weight, one.part))[:MOST_BY_COMPLAINT]


def _words(text: str) -> frozenset[str]:
    return frozenset(word.removesuffix("s") for word in words_of(text) if word not in SMALL_WORDS)


def _share(said: frozenset[str], symptom: str) -> float:
    """Share of a symptom's words that were said; 0 if that is too little to be it."""
    words = _words(symptom)
    both = len(words & said)
    return both / len(words) if words and both >= max(ENOUGH_OF_IT * len(words), min(2, len(words))) else 0.0
