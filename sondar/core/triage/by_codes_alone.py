"""Which part to test first on a vehicle of which nothing is known but its codes.

What the standard's structure gives: electrical codes before those that only say that a value or a function does not fit; several codes of
sensors on one reference speak of the reference; modules that are missed together speak of the bus or of one supply; a code whose cause
is another one's waits. Shares are weights of these rules, not probabilities.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sondar.core.generic_codes import GenericCode

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
