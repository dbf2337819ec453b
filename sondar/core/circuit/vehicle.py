"""Several circuits of one vehicle as one network.

Ids are the vehicle's own designations: the same id in two circuits is the same thing, and the vehicle file names it as shared,
so that an id used twice by mistake is caught. Connectors and modules are joined cavity by cavity and field by field; everything
else must read the same in every circuit. The joined network is an ordinary ``CircuitDocument``: one solve serves all circuits.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Annotated, Any, Literal

import networkx as nx
from pydantic import Field, ValidationError, field_validator

from sondar.core.circuit.document.fields import CircuitDocument, VehicleModel, behind
from sondar.core.circuit.families.base import Fields
from sondar.core.circuit.model import CHASSIS, Fault
from sondar.core.circuit.network import Circuit
from sondar.core.diagnostic_address import HIGHEST_29_BIT, ModuleAddress
from sondar.core.errors import CircuitDocumentError, FieldProblem
from sondar.core.monitor_results import SCALES

SECTIONS = ("modules", "parts", "connectors", "wires")
ANCHORS = (
    "fuse",
    "ground_point",
    "splice",
    "switch",
    "module_supply",
    "reference_5v",
    "relay",
    "bus_transceiver",
    "bus_end",
    "battery",
)
"""Families that give a shared section its name, the most telling first."""


class DataItem(Fields):
    """A figure that a module tells on request (UDS service 0x22): ``raw · factor + offset`` in ``unit``.

    ``measures`` or ``flows`` say what it is in the circuits: the voltage between two nodes, or the current in a branch.
    """

    title: str = Field(min_length=1, max_length=80)
    module: str
    did: int = Field(ge=0, le=0xFFFF, description="Data identifier.")
    unit: str = Field("", max_length=20)
    length: Literal[1, 2, 4] = Field(2, description="Bytes, the highest first.")
    signed: bool = False
    factor: float = Field(1.0, gt=0.0)
    offset: float = 0.0
    measures: list[str] = Field(default_factory=list, max_length=2)
    flows: str = ""
    pid: int | None = Field(None, ge=0x02, le=0xFF, description="Its number in OBD service 01, if it has one; scaled as that is.")
    lag_s: float = Field(0.05, ge=0.0, le=60.0, description="Time constant with which it follows, in seconds.")


class CommandItem(Fields):
    """Something that a module does on request (UDS service 0x2F): a control of the circuits and the byte of each of its positions."""

    title: str = Field(min_length=1, max_length=80)
    module: str
    did: int = Field(ge=0, le=0xFFFF, description="Data identifier.")
    control: str
    positions: dict[str, int] = Field(
        min_length=2, max_length=12, description="Position of the control -> its byte; the first is rest."
    )
    moves: str = Field(min_length=1, max_length=200, description="What will move, as a sentence.")
    caution: str = Field("", max_length=300)
    hold: bool = Field(False, description="It may hurt someone: it runs only while a finger holds it.")
    requires: dict[str, str] = Field(default_factory=dict, description="Controls and positions without which the module refuses.")
    locked_by: list[str] = Field(
        default_factory=list,
        max_length=20,
        description="Codes with which the module keeps to its default reaction and refuses, until they are cleared.",
    )


class RoutineItem(Fields):
    """Something that a module carries out by itself when it is started (UDS service 0x31), with a result: coding, bleeding, learning."""

    title: str = Field(min_length=1, max_length=80)
    module: str
    rid: int = Field(ge=0, le=0xFFFF, description="Routine identifier.")
    kind: Literal["coding", "basic setting", "adaptation reset", "bleeding", "initialisation", "threshold"]
    parts: list[str] = Field(default_factory=list, max_length=20, description="Parts whose repair asks for it.")
    moves: str = Field(min_length=1, max_length=200, description="What it does, as a sentence.")
    caution: str = Field("", max_length=300)
    requires: dict[str, str] = Field(default_factory=dict, description="Controls and positions without which the module refuses.")
    seconds: float = Field(gt=0.0, le=600.0, description="How long it takes at most.")
    running: int = Field(0, ge=0, le=255, description="Byte of its result while it goes on.")
    results: dict[str, int] = Field(min_length=1, max_length=12, description="Result in words -> its byte; the first is success.")


class MonitorTest(Fields):
    """A test of a monitor as the simulated vehicle reports it (OBD service 06)."""

    monitor: int = Field(ge=1, le=0xFF)
    test: int = Field(ge=0, le=0xFF)
    scale: int = Field(ge=1, le=0xFE)
    value: float
    least: float
    most: float
    of: str = Field("", description="The monitor in words that must be complete before it has a result.")

    @field_validator("scale")
    @classmethod
    def _known(cls, scale: int) -> int:
        if scale not in SCALES:
            raise ValueError(f"scale {scale:02X} is not held here")
        return scale


class OnBoardDiagnostics(Fields):
    """The module that answers OBD services 01, 02, 06 and 09, and its monitors."""

    module: str
    compression: bool = Field(False, description="Compression ignition.")
    figures: dict[int, float] = Field(
        default_factory=dict, description="Number in service 01 -> figure of the simulated vehicle, key on and engine off."
    )
    monitors: dict[str, float] = Field(
        default_factory=dict,
        description="Monitor -> seconds of running, on the simulated vehicle, until it is complete after clearing.",
    )
    tests: list[MonitorTest] = Field(
        default_factory=list, max_length=60, description="Results of the monitors, on the simulated vehicle."
    )


CanIds = tuple[Annotated[int, Field(ge=0, le=HIGHEST_29_BIT)], Annotated[int, Field(ge=0, le=HIGHEST_29_BIT)]]


class VehicleDocument(Fields):
    """A vehicle: which circuits it has and what they share. Format version 1."""

    sondar_vehicle: Literal[1] = Field(description="Version of this format.")
    id: str = Field(pattern=r"^[A-Za-z][A-Za-z0-9_-]*$")
    title: str = Field(min_length=1)
    vehicle: VehicleModel
    circuits: list[str] = Field(min_length=1, description="Ids of the circuits.")
    addresses: dict[str, int] = Field(default_factory=dict, description="Module -> its logical diagnostic address.")
    can_ids: dict[str, CanIds] = Field(
        default_factory=dict,
        description="Module -> the CAN identifiers of a request to it and of its answer; without, the 29-bit ones by the low byte of its address.",
    )
    data: dict[str, DataItem] = Field(default_factory=dict, description="Live data by id.")
    commands: dict[str, CommandItem] = Field(default_factory=dict, description="Commands by id.")
    routines: dict[str, RoutineItem] = Field(default_factory=dict, description="Routines by id.")
    obd: OnBoardDiagnostics | None = None
    shared: dict[str, str] = Field(description="Id -> what it is to people, for everything that stands in more than one circuit.")

    @property
    def module_addresses(self) -> dict[str, ModuleAddress]:
        """Where each module is reached."""
        return {name: ModuleAddress(logical, *self.can_ids.get(name, ())) for name, logical in self.addresses.items()}


@dataclass(frozen=True)
class Section:
    """Things that stand or fall together: one circuit's own, or what the same circuits share around one anchor.

    Attributes:
        id: ``circuit:ID`` or ``shared:ANCHOR``.
        title: for people.
        circuits: ids of the circuits it belongs to, sorted.
    """

    id: str
    title: str
    circuits: tuple[str, ...]


class VehicleNetwork:
    """The joined network of a vehicle, and who owns what.

    Attributes:
        document: the vehicle document.
        circuits: the circuit documents by id.
        network: all of it as one circuit.
    """

    def __init__(self, document: VehicleDocument, circuits: Mapping[str, CircuitDocument], newer: Sequence[str] = ()) -> None:
        """Join the circuits.

        Args:
            newer: circuits in the order in which they were last changed. What is shared may then read differently in them, because
                something was filled in while one of them was measured: the newest is right. Without it, they must agree.

        Raises:
            CircuitDocumentError: a circuit is missing, or an id means two things.
        """
        self.document = document
        self.circuits = {name: circuits[name] for name in document.circuits if name in circuits}
        self.network = Circuit(_join(document, self.circuits, newer))
        if problems := _unknown_places(document, self.network):
            raise CircuitDocumentError(problems)

    @cached_property
    def owners(self) -> dict[str, tuple[str, ...]]:
        """Part id (contacts included) -> circuits it stands in."""
        found: dict[str, list[str]] = {}
        for name, document in self.circuits.items():
            for part in Circuit(document).parts:
                found.setdefault(part, []).append(name)
        return {part: tuple(sorted(names)) for part, names in found.items()}

    @cached_property
    def sections(self) -> dict[str, Section]:
        """Part id -> the section it belongs to."""
        shared: Any = nx.Graph()
        for part in self.network.parts:
            if len(self.owners[part]) > 1:
                shared.add_node(part)
        touching: dict[str, list[str]] = {}
        for branch in self.network.branches(self.network.rest_setup()):
            if branch.part in shared:
                for node in (branch.a, branch.b):
                    if node != CHASSIS:
                        touching.setdefault(node, []).append(branch.part)
        for parts in touching.values():
            for one in parts:
                shared.add_edges_from((one, other) for other in parts if self.owners[one] == self.owners[other])
        found = {}
        for part in self.network.parts:
            if len(self.owners[part]) == 1:
                circuit = self.owners[part][0]
                found[part] = Section(f"circuit:{circuit}", self.circuits[circuit].title, (circuit,))
            else:
                anchor = self._anchor(shared, part)
                title = self.document.shared.get(anchor) or self.network.parts[anchor].name(anchor)
                found[part] = Section(f"shared:{anchor}", title, self.owners[part])
        return found

    def section_of(self, fault: Fault) -> Section:
        """Where a fault lies."""
        return self.sections[fault.part]

    def _anchor(self, shared: Any, part: str) -> str:
        """The most telling part within a shared section, the nearest of equals."""
        distance: dict[str, int] = nx.single_source_shortest_path_length(shared, part)

        def order(other: str) -> tuple[int, int, str]:
            family = self.network.parts[other].family  # type: ignore[attr-defined]
            return (ANCHORS.index(family), distance[other], other) if family in ANCHORS else (len(ANCHORS), 0, other)

        own = self.network.parts[part].family  # type: ignore[attr-defined]
        return part if own in ANCHORS else min(distance, key=order)


def read_vehicle(data: object) -> VehicleDocument:
    """Check plain data and return the vehicle document.

    Raises:
        CircuitDocumentError: lists every problem found.
    """
    try:
        return VehicleDocument.model_validate(data)
    except ValidationError as error:
        raise CircuitDocumentError(
            [FieldProblem(tuple(item["loc"]), item["msg"].removeprefix("Value error, ")) for item in error.errors()]
        ) from error


def _join(vehicle: VehicleDocument, circuits: Mapping[str, CircuitDocument], newer: Sequence[str]) -> CircuitDocument:
    """The union of the circuits, or every disagreement between them.

    Raises:
        CircuitDocumentError: a circuit is missing, or an id means two things.
    """
    problems = [
        FieldProblem(("circuits", index), f"no circuit '{name}': load its file first")
        for index, name in enumerate(vehicle.circuits)
        if name not in circuits
    ]
    problems += _disagreements(vehicle, circuits, filled_in=bool(newer))
    problems += _unknown_modules(vehicle)
    if problems:
        raise CircuitDocumentError(problems)
    documents = [circuits[name] for name in sorted(circuits, key=lambda name: newer.index(name) if name in newer else -1)]
    first = documents[0]
    merged: dict[str, Any] = {section: {} for section in (*SECTIONS, "controls", "codes", "symptoms")}
    for document in documents:
        for section, items in merged.items():
            for name, item in getattr(document, section).items():
                if name not in items:
                    items[name] = item
                elif newer and not _agree(section, items[name], item):
                    items[name] = _both(section, item, items[name])
                else:
                    items[name] = _both(section, items[name], item)
    joins = {tuple(join): join for document in documents for join in document.joins}
    return first.model_copy(
        update={
            "id": vehicle.id, "title": vehicle.title, "vehicle": vehicle.vehicle, "joins": list(joins.values()), "setups": {},
            "responses": {f"{d.id}-{name}": response for d in documents for name, response in d.responses.items()},
            "cautions": list(dict.fromkeys(c for d in documents for c in d.cautions)), **merged,
        }
    )  # fmt: skip


def _unknown_places(vehicle: VehicleDocument, network: Circuit) -> list[FieldProblem]:
    """Live data of nodes and branches, and commands of controls and positions, that the circuits do not have."""
    found = []
    branches = {branch.id: branch for branch in network.branches(network.rest_setup())}
    nodes = {node for branch in branches.values() for node in (branch.a, branch.b)}
    controls = network.document.controls
    for name, item in vehicle.data.items():
        found += [
            FieldProblem(("data", name, "measures", at), f"no terminal '{place}' in these circuits")
            for at, place in enumerate(item.measures)
            if network.node(place) not in nodes
        ]
        if item.flows and item.flows not in branches:
            found.append(FieldProblem(("data", name, "flows"), f"no branch '{item.flows}' in these circuits"))
    for name, command in vehicle.commands.items():
        control = controls.get(command.control)
        if control is None:
            found.append(
                FieldProblem(("commands", name, "control"), f"no control '{command.control}'; there are: {', '.join(controls)}")
            )
            continue
        wrong = [position for position in command.positions if position not in control.values]
        if wrong:
            said = f"control '{command.control}' has no position '{wrong[0]}': {', '.join(control.values)}"
            found.append(FieldProblem(("commands", name, "positions"), said))
        found += [
            FieldProblem(("commands", name, "locked_by", at), f"no code '{code}' of {command.module} in these circuits")
            for at, code in enumerate(command.locked_by)
            if code not in network.document.codes or network.document.codes[code].module != command.module
        ]
    for name, routine in vehicle.routines.items():
        found += [
            FieldProblem(("routines", name, "parts", at), f"no part '{part}' in these circuits")
            for at, part in enumerate(routine.parts)
            if part not in network.units
        ]
        if routine.running in routine.results.values():
            found.append(FieldProblem(("routines", name, "running"), "the byte while it goes on is also one of its results"))
    return found


def _unknown_modules(vehicle: VehicleDocument) -> list[FieldProblem]:
    """Data, commands and routines of modules that have no address."""
    asked: list[tuple[tuple[str, ...], str]] = [(("data", name), item.module) for name, item in vehicle.data.items()]
    asked += [(("commands", name), item.module) for name, item in vehicle.commands.items()]
    asked += [(("routines", name), item.module) for name, item in vehicle.routines.items()]
    asked += [(("obd",), vehicle.obd.module)] if vehicle.obd else []
    return [
        FieldProblem((*place, "module"), f"'{module}' has no diagnostic address: give it under addresses")
        for place, module in asked
        if module not in vehicle.addresses
    ]


def _both(section: str, one: Any, other: Any) -> Any:
    """One thing told twice: a connector has the cavities of both, a module answers as either says, a control needs what either says."""
    if section == "connectors":
        cavities = {
            name: list(dict.fromkeys([*behind(one.cavities.get(name)), *behind(other.cavities.get(name))])) or None
            for name in [*one.cavities, *(c for c in other.cavities if c not in one.cavities)]
        }
        return one.model_copy(update={"cavities": cavities, "pins": {**other.pins, **one.pins}})
    if section == "modules":
        return one.model_copy(update={"answers": [*one.answers, *(c for c in other.answers if c not in one.answers)]})
    if section in ("codes", "symptoms"):
        sets = [*one.sets, *(condition for condition in other.sets if condition not in one.sets)]
        return one.model_copy(update={"sets": sets, "faults": list(dict.fromkeys([*one.faults, *other.faults]))})
    if section == "controls":
        conditions = {
            field: {position: {**theirs.get(position, {}), **others.get(position, {})} for position in {**theirs, **others}}
            for field in ("requires", "excludes")
            for theirs, others in ((getattr(one, field), getattr(other, field)),)
        }
        needs = {p: list(dict.fromkeys([*one.needs.get(p, []), *other.needs.get(p, [])])) for p in {**one.needs, **other.needs}}
        return one.model_copy(update={**conditions, "needs": needs})
    return one


def _disagreements(vehicle: VehicleDocument, circuits: Mapping[str, CircuitDocument], *, filled_in: bool) -> Iterator[FieldProblem]:
    for section in (*SECTIONS, "controls", "codes", "symptoms"):
        first: dict[str, tuple[str, Any]] = {}
        for circuit, document in circuits.items():
            for name, item in getattr(document, section).items():
                if name not in first:
                    first[name] = (circuit, item)
                    continue
                other, known = first[name]
                if section in SECTIONS and name not in vehicle.shared:
                    yield FieldProblem(
                        ("shared",), f"'{name}' stands in {other} and in {circuit}: name it as shared, or rename one"
                    )
                elif not _agree(section, known, item) and not (
                    filled_in and name in vehicle.shared and _of_one_family(known, item)
                ):
                    yield FieldProblem((section, name), f"'{name}' does not read the same in {other} and in {circuit}")


def _agree(section: str, one: Any, other: Any) -> bool:
    """A connector may carry more in one circuit than in another, a control may need more, a symptom or code may have more causes there."""
    blank = {
        "connectors": {"cavities": {}, "pins": {}}, "modules": {"answers": []}, "controls": {"requires": {}, "excludes": {}, "needs": {}},
        "codes": {"sets": [], "faults": []}, "symptoms": {"sets": [], "faults": []},
    }.get(section, {})  # fmt: skip
    return bool(one.model_copy(update=blank) == other.model_copy(update=blank))


def _of_one_family(one: Any, other: Any) -> bool:
    """True unless one is another sort of part: that is no figure that was filled in."""
    return getattr(one, "family", "") == getattr(other, "family", "")


def years_of(text: str) -> tuple[int, int] | None:
    """``2014-2021`` or ``2014`` as first and last year; None if nothing is said."""
    numbers: Sequence[int] = [int(part) for part in text.replace("–", "-").split("-") if part.strip().isdigit()]
    return (numbers[0], numbers[-1]) if numbers else None
