"""What is found out without a meter, as evidence: a close look, a wiggle, a known-good part, a cleaned contact, a gauge.

A finding is a test like any other: it has a place, minutes, words, and a chance of each word under each hypothesis, so belief,
plan, record and retraction treat it as they treat a reading. The chances are estimates from practice, coarse on purpose and kept
in one table each; measurements outweigh them.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.families import Contact, Fuse, Part, Wire
from sondar.core.circuit.families.base import SYSTEM
from sondar.core.circuit.model import Fault
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.hypotheses import Suspect
from sondar.core.instruments import CLEAN, FINDINGS, GAUGE, INSTRUMENTS, LOOK, SWAP, WIGGLE, Display, Instrument, found_words

Array = npt.NDArray[np.float64]

SEEN: Mapping[str, float] = {"open": 0.45, "resistance": 0.6, "to_ground": 0.6, "to_supply": 0.5}
"""Chance that a close look shows a wiring fault of that mode where it is: corrosion and chafe show, a broken strand often does not."""

FUSE_SEEN = 0.97
LOOKS_BAD, LOOKS_BAD_EXPOSED = 0.03, 0.1
"""Chance that a sound place looks damaged: stains and surface rust mislead more where it is wet."""

REACTS: Mapping[str, float] = {"open": 0.35, "resistance": 0.35}
REACTS_NEAR, REACTS_ELSEWHERE = 0.15, 0.02
"""Chance that a reading moves when a connector is wiggled: a bad contact in it, a broken wire at it, anything else."""

CURED, CURED_BY_MOVING, CURED_BY_CHANCE = 0.96, 0.25, 0.03
"""Chance that a known-good part cures the complaint: the part was at fault, a contact of its plug was moved, neither."""

CLEANED: Mapping[str, float] = {"resistance": 0.8, "open": 0.3, "stuck": 0.5, "blocked": 0.5, "weak": 0.3}
GAUGE_RIGHT = 0.9
"""Chance that a gauge tells a sensor that lies from a system that really is so."""


@dataclass(frozen=True)
class _Place:
    """Where one looks: the parts and contacts there, and the wires that end there."""

    parts: frozenset[str]
    near: frozenset[str]
    exposed: bool


def finders(circuit: Circuit, ref: str) -> tuple[Instrument, ...]:
    """Which findings make sense at a target."""
    if ref in circuit.document.connectors:
        return (LOOK, WIGGLE, CLEAN)
    part = circuit.parts.get(ref)
    if part is None or ref == circuit.battery or part.module is not None:
        return ()
    if isinstance(part, Wire):
        return (LOOK,)
    if part.GROUP == "wiring":
        return (LOOK, CLEAN) if part.access_min is not None else (LOOK,)
    faults = [fault for fault in circuit.faults.values() if fault.part == ref]
    listed = [SWAP]
    if any(fault.unit == ref + SYSTEM for fault in faults):
        listed.append(CLEAN if part.acts(ref, circuit.rest_setup()) is not None else GAUGE)
    return tuple(listed)


def extra_minutes(circuit: Circuit, instrument: str, ref: str) -> float:
    """Minutes beyond reaching the place: fitting the known-good part."""
    return circuit.parts[ref].fit_min if instrument == SWAP.id and ref in circuit.parts else 0.0


def finding_display(circuit: Circuit, instrument: str, refs: Sequence[str], suspects: Sequence[Suspect]) -> Display:
    """Display (H, P) of one kind of finding at several targets under hypotheses; *not on the drawing* is left to the belief."""
    device = INSTRUMENTS[instrument]
    chance = _CHANCES[device.kind]
    columns = []
    for ref in refs:
        place = _place(circuit, ref)
        columns.append([chance(circuit, ref, place, circuit.faults.get(s.fault)) for s in suspects])
    return found_words(device, np.array(columns, dtype=float).T.reshape(len(suspects), len(refs)))


def _place(circuit: Circuit, ref: str) -> _Place:
    connector = circuit.document.connectors.get(ref)
    if connector is None:
        part: Part = circuit.parts[ref]
        return _Place(frozenset({ref}), frozenset(), bool(getattr(part, "exposed", False)))
    contacts = frozenset(f"{ref}.{cavity}" for cavity in connector.cavities)
    ends = {end.removesuffix("/c") for end in contacts}
    wires = frozenset(
        name for name, wire in circuit.document.wires.items() if {wire.from_.removesuffix("/c"), wire.to.removesuffix("/c")} & ends
    )
    return _Place(contacts, wires, connector.exposed)


def _looks(circuit: Circuit, ref: str, place: _Place, fault: Fault | None) -> float:
    clean = LOOKS_BAD_EXPOSED if place.exposed else LOOKS_BAD
    if fault is None or fault.part not in place.parts:
        return clean
    if isinstance(circuit.parts[fault.part], Fuse) and fault.mode == "open":
        return FUSE_SEEN
    return max(clean, SEEN.get(fault.mode, clean))


def _wiggles(circuit: Circuit, ref: str, place: _Place, fault: Fault | None) -> float:
    if fault is None:
        return REACTS_ELSEWHERE
    if fault.part in place.parts:
        return REACTS.get(fault.mode, REACTS_ELSEWHERE)
    return REACTS_NEAR if fault.part in place.near and fault.mode in REACTS else REACTS_ELSEWHERE


def _swaps(circuit: Circuit, ref: str, place: _Place, fault: Fault | None) -> float:
    if fault is None:
        return CURED_BY_CHANCE
    if fault.unit == ref:
        return CURED
    part = circuit.parts[fault.part]
    moved = isinstance(part, Contact) and part.connector in circuit.plugs_of(ref)
    return CURED_BY_MOVING if moved else CURED_BY_CHANCE


def _cleans(circuit: Circuit, ref: str, place: _Place, fault: Fault | None) -> float:
    if fault is None:
        return CURED_BY_CHANCE
    here = fault.part in place.parts and (fault.group == "wiring" or fault.unit == ref + SYSTEM)
    return CLEANED.get(fault.mode, CURED_BY_CHANCE) if here else CURED_BY_CHANCE


def _gauges(circuit: Circuit, ref: str, place: _Place, fault: Fault | None) -> float:
    """Chance that the gauge agrees with what the sensor claims."""
    if fault is None or fault.group in ("system", "setting"):
        return GAUGE_RIGHT
    return 1.0 - GAUGE_RIGHT


_CHANCES: dict[str, Callable[[Circuit, str, _Place, Fault | None], float]] = {
    "look": _looks, "wiggle": _wiggles, "swap": _swaps, "clean": _cleans, "gauge": _gauges,
}  # fmt: skip
assert set(_CHANCES) == set(FINDINGS)


def by_substitution(tests: Sequence[tuple[str, str | None]]) -> bool:
    """True if a complaint was cured by a known-good part: a fault found by substitution only is to be said as such."""
    return any(instrument == SWAP.id and word == "cured" for instrument, word in tests)
