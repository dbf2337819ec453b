"""What a repair consists of, from what is read out before anything is undone to what a new part must be taught: the list that the diagnosis makes.

Maker's instructions, local codes and licensed practice come first; the list is there so that nothing is skipped without a word.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from sondar.core.circuit.document.fields import ServiceNote
from sondar.core.circuit.families.base import SYSTEM
from sondar.core.circuit.model import Unit
from sondar.core.circuit.network import Circuit
from sondar.core.circuit.vehicle import RoutineItem
from sondar.core.errors import UnknownReferenceError
from sondar.core.part_kinds import PartKind, kind_of

Stage = Literal["before", "repair", "after"]
FORMS = {"clean": "Clean", "replace": "Replace", "repair": "Repair", "clean or replace": "Clean or replace", "set up": "Set up"}
CLEANED_BY_MAKER = ("what its maker allows", "brake cleaner or pressure where its maker does not allow them")

MILEAGE_NOTE = "Note the mileage; a replacement must show the vehicle's, and altering it otherwise is an offence."


@dataclass(frozen=True)
class RepairStep:
    """One thing to do.

    Attributes:
        key: the same as long as the circuit is, for what is ticked off. caution: it can hurt, or spoil what cannot be undone.
        routine: id of the vehicle's routine that does it, which can be started from here; empty for what hands do.
    """

    key: str
    stage: Stage
    text: str
    caution: bool = False
    routine: str = ""


def repair_plan(
    circuit: Circuit,
    units: Sequence[str],
    routines: Mapping[str, RoutineItem] | None = None,
    kinds: Mapping[str, PartKind] | None = None,
) -> list[RepairStep]:
    """Steps for repairing some units of a circuit, in order: all that comes before, the repairs, all that comes after.

    Args:
        routines: the vehicle's own, by id; those of the units come after the repair. kinds: kinds of parts, for with what they are cleaned.

    Raises:
        UnknownReferenceError: a unit that this circuit does not have.
    """
    steps: list[RepairStep] = []
    for name in units:
        if name not in circuit.units:
            raise UnknownReferenceError("unit", name, list(circuit.units))
        steps += _of_unit(circuit, circuit.units[name], kinds or {})
    steps += [_of_routine(name, item) for name, item in (routines or {}).items() if set(item.parts) & set(units)]
    steps += [
        RepairStep(
            "codes", "after", "Clear the codes, let their monitors run under the conditions in which they set, and read again."
        )
    ]
    order = {"before": 0, "repair": 1, "after": 2}
    return sorted(dict.fromkeys(steps), key=lambda step: order[step.stage])


def _of_routine(name: str, item: RoutineItem) -> RepairStep:
    needs = "".join(f", {control} {position}" for control, position in item.requires.items())
    text = f"{item.title} ({item.kind}, {item.module}{needs}). {item.moves} {item.caution}".strip()
    return RepairStep(f"routine:{name}", "after", text, bool(item.caution), name)


def _of_unit(circuit: Circuit, unit: Unit, kinds: Mapping[str, PartKind]) -> list[RepairStep]:
    notes = [note for note in circuit.document.service if note.part == unit.id]
    title = unit.title
    place = "the place of the damage" if unit.id in circuit.document.wires else "its plug"
    found = [RepairStep(f"{unit.id}:picture", "before", f"Photograph {title} and {place} before anything is undone.")]
    found += [
        RepairStep(f"caution:{text}", "before", text, True) for text in (*circuit.document.cautions, *unit.cautions) if " " in text
    ]
    if unit.coded:
        found += [
            RepairStep(
                f"{unit.id}:read-out", "before", f"Read coding and learned values out of {title} and keep them with the job. {MILEAGE_NOTE}", True
            ),
            RepairStep(
                f"{unit.id}:matching", "before",
                f"{title}: compare hardware and software numbers before it is bought; a used one may be locked to its former vehicle.", True,
            ),
            RepairStep(f"{unit.id}:coding", "after", f"Write the coding into {title}, and confirm that it was taken."),
        ]  # fmt: skip
    if unit.id in circuit.document.wires:
        found += _of_wire(circuit, unit)
    elif unit.id.endswith(SYSTEM):
        found.append(RepairStep(f"{unit.id}:do", "repair", f"{title}: find out why, and put it right."))
        carrier = unit.id.removesuffix(SYSTEM)
        for note in circuit.document.service:
            if note.part == carrier and "clean" in note.do:
                found.append(RepairStep(f"{unit.id}:note", "repair", f"{circuit.parts[carrier].name(carrier)}: {note.note}"))
                found += _cleaning(unit, kind_of(kinds, circuit, circuit.units[carrier]))
            if note.part == carrier and note.teach_in:
                found.append(RepairStep(f"{unit.id}:set-up", "after", f"{title}: {note.teach_in}"))
    else:
        found += _of_part(unit, notes, kind_of(kinds, circuit, unit))
    return found


def _of_wire(circuit: Circuit, unit: Unit) -> list[RepairStep]:
    title = f"{unit.title}, {circuit.document.wires[unit.id].gauge_mm2:g} mm²"
    join = "cut back to bright copper, join with the same cross-section, crimp and seal"
    apart = "no joint where the harness bends, and joints of neighbouring wires apart from one another"
    return [
        RepairStep(
            f"{unit.id}:do",
            "repair",
            f"{title}: {join}; {apart}. Say where, by how much it was lengthened, how it was joined and sealed.",
        ),
        RepairStep(f"{unit.id}:strain", "repair", f"{unit.title}: fasten it as it was, with slack, away from edges and heat."),
        RepairStep(f"{unit.id}:water", "after", f"{unit.title}: look where water or chafing came from, and stop it."),
    ]


def _of_part(unit: Unit, notes: Sequence[ServiceNote], kind: PartKind | None) -> list[RepairStep]:
    found = []
    for note in notes:
        said = f"{FORMS[note.do]} {unit.title}{f', {unit.place}' if unit.place else ''} ({note.difficulty}). {note.note}".strip()
        more = [f"Tools: {note.tools}."] if note.tools else []
        more += [f"Torque: {note.torque}."] if note.torque else []
        found.append(RepairStep(f"{unit.id}:do", "repair", " ".join((said, *more))))
        if "clean" in note.do:
            found += _cleaning(unit, kind)
        if note.teach_in:
            found.append(RepairStep(f"{unit.id}:set-up", "after", f"{unit.title}: {note.teach_in}"))
    if not notes:
        found.append(
            RepairStep(f"{unit.id}:do", "repair", f"Repair or replace {unit.title}{f', {unit.place}' if unit.place else ''}.")
        )
    found.insert(
        0,
        RepairStep(
            f"{unit.id}:new",
            "before",
            f"{unit.title}: check the new part by the same figures before it is fitted, or plugged in and commanded.",
        ),
    )
    return found


def _cleaning(unit: Unit, kind: PartKind | None) -> list[RepairStep]:
    """With what, with what never, dry, and checked: a repair of its own."""
    agent, never = (kind.cleaned_with, kind.never) if kind is not None and kind.cleaned_with else CLEANED_BY_MAKER
    dry = f"{unit.title}: let it dry completely before it gets power, then repeat what failed: cleaning has its own check."
    return [
        RepairStep(f"{unit.id}:clean", "repair", f"{unit.title}: clean it with {agent}; never {never}.", True),
        RepairStep(f"{unit.id}:dry", "after", dry),
    ]
