"""A circuit document as a network: joined nodes, branches in a set-up, probe points, faults, units.

``Circuit`` is built once per document; it holds no set-up. Everything it returns is a plain value.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping
from dataclasses import replace
from functools import cached_property

from sondar.core.circuit.document.fields import CircuitDocument, behind, goes_with
from sondar.core.circuit.families import Contact, HBridge, ModuleSupply, Part, Plug, PulledInput, RatiometricSensor, Splice, Wire
from sondar.core.circuit.families.base import SYSTEM
from sondar.core.circuit.families.module import Driver
from sondar.core.circuit.model import AIR_OHM, CHASSIS, Branch, Fault, Point, RelayContact, Setup, Unit
from sondar.core.errors import UnknownReferenceError

PROBE, PROBE_OHM, PROBE_TRIPS_A = "probe", 0.08, 8.0
"""A powered probe: its name among the parts, the resistance of its test lead and tip, and the current that opens its breaker."""

AWAKE_SHARE, DRIVES_BELOW_OHM = 0.45, 1e3
"""Share of its usual current below which a module does nothing, and the resistance up to which a transistor counts as switched on."""

SMALL_PLUG = 4
"""Cavities up to which all pairs of a plug may be bridged or exchanged, not only those listed side by side."""

MANY_STATES = 48
"""Above this many combinations of control positions only one control at a time is moved."""

ControlState = tuple[tuple[str, str], ...]
"""A position of every control."""


class Circuit:
    """A checked circuit: parts (wires and contacts included), nodes, points, faults and units."""

    def __init__(self, document: CircuitDocument) -> None:
        self.document = document
        self.parts: dict[str, Part] = dict(document.parts)
        self.parts.update(document.wires)
        for connector_id, connector in document.connectors.items():
            for cavity in connector.cavities:
                self.parts[f"{connector_id}.{cavity}"] = Contact(
                    cavity=cavity, connector=connector_id, place=connector.place, rate=2.5 if connector.exposed else 1.0
                )
        self._joined = _join(document)
        for connector_id, connector in document.connectors.items():
            pairs = [
                (one, two)
                for one, two in itertools.combinations(connector.cavities, 2)
                if self.node(f"{connector_id}.{one}") != self.node(f"{connector_id}.{two}")
            ]
            near = tuple(pair for pair in itertools.pairwise(connector.cavities) if pair in pairs)
            others = tuple(pair for pair in pairs if pair not in near) if len(connector.cavities) <= SMALL_PLUG else ()
            if pairs and not connector.restraint:
                self.parts[connector_id] = Plug(
                    connector=connector_id, title=connector.title, place=connector.place, neighbours=near, others=others,
                    exposed=connector.exposed,
                )  # fmt: skip
        self.battery = next(i for i, part in self.parts.items() if part.family == "battery")  # type: ignore[attr-defined]
        self.controls = document.control_values()

    # -- nodes and branches -------------------------------------------------------------------------

    def node(self, terminal: str) -> str:
        """Network node of a terminal reference; joined terminals share one."""
        if terminal == Wire.SUPPLY:
            terminal = f"{self.battery}.pos"
        return self._joined.get(terminal, terminal)

    @cached_property
    def doubts(self) -> dict[str, tuple[str, str, float]]:
        """Figures that the file gives as a range: name -> (part, field, standard deviation of the logarithm)."""
        return {
            f"{part_id}: {field}": (part_id, field, sd) for part_id, part in self.parts.items() for field, sd in part.doubts.items()
        }

    def branches(self, setup: Setup) -> list[Branch]:
        """Every branch of the healthy circuit in a set-up, its ends given as nodes."""
        asleep = replace(self.rest_setup(), unplugged=setup.unplugged, temperature_c=setup.temperature_c)
        made = itertools.chain.from_iterable(
            self._supplied(part, self._carried(part_id, part, asleep if self._is_cut_off(part_id, setup) else setup))
            for part_id, part in self.parts.items()
        )
        found = []
        for branch in (*made, *self._driven(setup)):
            a, b = self.node(branch.a), self.node(branch.b)
            if a != b and not branch.a.endswith(".87a") and not self._is_unused(branch):
                # Made by hand: dataclasses.replace and a comparison of every field take longer than solving.
                found.append(branch if (a, b) == (branch.a, branch.b) else Branch(**{**branch.__dict__, "a": a, "b": b}))
        return found

    def _carried(self, part_id: str, part: Part, setup: Setup) -> list[Branch]:
        """What an actuator carries along moves only where that acts; elsewhere it stays at rest."""
        found = part.branches(part_id, setup)
        mover = self.parts.get(part.follows) if isinstance(part, RatiometricSensor) else None
        acts = mover.acts(part.follows, setup) if mover is not None and isinstance(part, RatiometricSensor) else None
        if acts is None or not isinstance(part, RatiometricSensor):
            return found
        return [
            moved if moved == still
            else replace(moved, resistance_ohm=AIR_OHM,
                         contact=RelayContact(acts.branch, acts.weak_a, False, moved.resistance_ohm, still.resistance_ohm))
            for moved, still in zip(found, part.at_rest().branches(part_id, setup), strict=True)
        ]  # fmt: skip

    @cached_property
    def _supplies(self) -> dict[str, tuple[str, float]]:
        """Per module whose own supply is in the drawing: the branch of its inner supply and the current below which it does nothing."""
        return {
            part.module: (f"{part_id}.draw", AWAKE_SHARE * part.draw_a)
            for part_id, part in reversed(self.document.parts.items())
            if isinstance(part, ModuleSupply) and part.module is not None
        }

    def _supplied(self, part: Part, branches: list[Branch]) -> list[Branch]:
        """What a module drives or holds up, it does only while it is supplied itself."""
        supply = self._supplies.get(part.module or "")
        if supply is None or isinstance(part, ModuleSupply):
            return branches
        coil, least_a = supply
        switches = isinstance(part, Driver | HBridge)
        return [
            replace(branch, resistance_ohm=AIR_OHM, contact=RelayContact(coil, least_a, False, branch.resistance_ohm))
            if branch.contact is None
            and branch.curve is None
            and (branch.emf_v or (switches and branch.resistance_ohm < DRIVES_BELOW_OHM))
            else branch
            for branch in branches
        ]

    def _driven(self, setup: Setup) -> list[Branch]:
        """The powered probe's own two leads to the battery, through its tip."""
        post = {"supply": f"{self.battery}.pos", "ground": f"{self.battery}.neg"}
        return [
            Branch(f"{PROBE}.{kind}", PROBE, post[kind], ref, PROBE_OHM)
            if kind == "supply"
            else Branch(f"{PROBE}.{kind}", PROBE, ref, post[kind], PROBE_OHM)
            for ref, kind in setup.drives
        ]

    def _is_cut_off(self, part_id: str, setup: Setup) -> bool:
        """True for what is sealed in a module whose plug with these pins is apart: without it the module has no supply."""
        return self.parts[part_id].module is not None and bool(self.plugs_of(part_id) & setup.unplugged)

    @cached_property
    def _plugs(self) -> dict[str, frozenset[str]]:
        """Connectors that carry a terminal of each part."""
        found: dict[str, set[str]] = {}
        for name, connector in self.document.connectors.items():
            for target in connector.cavities.values():
                for ref in behind(target):
                    found.setdefault(ref.split(".")[0], set()).add(name)
        return {part_id: frozenset(names) for part_id, names in found.items()}

    def plugs_of(self, part_id: str) -> frozenset[str]:
        """Connectors that carry a terminal of a part."""
        return self._plugs.get(part_id, frozenset())

    def _is_unused(self, branch: Branch) -> bool:
        return branch.b.endswith(".87a") and branch.b not in self.used_terminals

    @cached_property
    def used_terminals(self) -> frozenset[str]:
        """Terminals that a wire, a cavity or a join uses in this circuit."""
        used = {wire.from_ for wire in self.document.wires.values()} | {wire.to for wire in self.document.wires.values()}
        for connector in self.document.connectors.values():
            used.update(ref for target in connector.cavities.values() for ref in behind(target))
        used.update(ref for join in self.document.joins for ref in join)
        return frozenset(used)

    def phases(self, setup: Setup) -> list[tuple[float, Setup]]:
        """Instants of a set-up with their shares of the time: one if nothing pulses, else every combination of the phases.

        Parts that pulse are taken as independent of each other; the shares of a part's two phases follow its duty.
        """
        instants = [(1.0, setup)]
        if setup.pulses:
            return instants  # it is an instant already
        for part_id, part in self.parts.items():
            duty = None if self._is_cut_off(part_id, setup) else part.duty(part_id, setup)
            if duty is not None:
                instants = [
                    (share * weight, replace(instant, pulses=(*instant.pulses, (part_id, high))))
                    for share, instant in instants
                    for weight, high in ((duty, True), (1.0 - duty, False))
                ]
        return instants

    def pulse_frequencies_hz(self, setup: Setup) -> dict[str, float]:
        """Frequency of every part that pulses in a set-up."""
        return {i: part.frequency_hz(setup) for i, part in self.parts.items() if part.duty(i, setup) is not None}

    # -- set-ups ------------------------------------------------------------------------------------

    def rest_setup(self, temperature_c: float = 20.0) -> Setup:
        """Everything plugged in, every control at its first position."""
        return Setup(tuple(sorted((name, values[0]) for name, values in self.controls.items())), frozenset(), temperature_c)

    def setup(self, controls: dict[str, str], unplugged: frozenset[str] = frozenset(), temperature_c: float = 20.0) -> Setup:
        """A set-up from the controls that differ from rest.

        Raises:
            UnknownReferenceError: a control, position or connector the circuit does not have.
        """
        made = self.rest_setup(temperature_c).with_unplugged(frozenset(unplugged))
        for name, value in controls.items():
            if name not in self.controls:
                raise UnknownReferenceError("control", name, list(self.controls))
            if value not in self.controls[name]:
                raise UnknownReferenceError(f"position of control {name}", value, list(self.controls[name]))
            made = made.with_control(name, value)
        for connector in unplugged:
            if connector not in self.document.connectors:
                raise UnknownReferenceError("connector", connector, list(self.document.connectors))
        return made

    def named_setup(self, name: str) -> Setup:
        """A set-up of the document's ``setups`` section, or ``rest``."""
        if name == "rest":
            return self.rest_setup()
        if name not in self.document.setups:
            raise UnknownReferenceError("set-up", name, ["rest", *self.document.setups])
        named = self.document.setups[name]
        return self.setup(named.controls, frozenset(named.unplugged), named.temperature_c)

    def goes_with(self, name: str, position: str, others: Mapping[str, str]) -> bool:
        """True if a position of a control is possible while the others stand where they do."""
        control = self.document.controls.get(name)
        return control is None or goes_with(control, position, others)

    def impossible(self, setup: Setup) -> str:
        """Why no vehicle can be in a set-up, in words; empty if it can."""
        others = dict(setup.controls)
        for name, position in setup.controls:
            if not self.goes_with(name, position, others):
                return f"{self.control_title(name)} {position} does not go with the other controls"
            for needed in sorted(self.needed_by(name, position) & setup.unplugged):
                return f"{self.control_title(name)} {position} needs {needed} connected"
        return ""

    def control_title(self, name: str) -> str:
        """A control's name for people."""
        control = self.document.controls.get(name)
        return (control.title if control is not None else "") or name

    def needed_by(self, name: str, position: str) -> frozenset[str]:
        """Connectors that must be connected for a position of a control."""
        control = self.document.controls.get(name)
        found: set[str] = set()
        for needed in control.needs.get(position, []) if control is not None else []:
            found |= {needed} if needed in self.document.connectors else self.module_plugs(needed)
        return frozenset(found)

    def module_plugs(self, module: str) -> frozenset[str]:
        """Connectors that carry a pin of a module."""
        return frozenset().union(*(self.plugs_of(part_id) for part_id, part in self.parts.items() if part.module == module))

    def control_states(self) -> list[ControlState]:
        """All possible combinations of control positions, each as sorted pairs."""
        names = sorted(self.controls)
        combined = itertools.product(*(self.controls[n] for n in names))
        states = [tuple(zip(names, combo, strict=True)) for combo in combined]
        return [state for state in states if not self.impossible(Setup(state))]

    def usual_states(self) -> list[ControlState]:
        """Control positions of normal use: all combinations if they are few, else each control moved alone at each key position."""
        if math.prod(len(values) for values in self.controls.values()) <= MANY_STATES:
            return self.control_states()
        found: dict[ControlState, None] = {}
        for key in self.controls["key"]:
            rest = self.rest_setup().with_control("key", key)
            found[rest.controls] = None
            for name, values in self.controls.items():
                for value in values[1:] if name != "key" else ():
                    found[rest.with_control(name, value).controls] = None
        return [state for state in found if not self.impossible(Setup(state))]

    @cached_property
    def _usual_networks(self) -> list[tuple[ControlState, tuple[object, ...], tuple[float, ...]]]:
        """Each usual position of the controls with all that the network is there, and the battery's voltages apart from it."""
        found: list[tuple[ControlState, tuple[object, ...], tuple[float, ...]]] = []
        for state in self.usual_states():
            branches = self.branches(Setup(state))
            network = (
                *((b.id, b.resistance_ohm, b.curve, b.contact, b.emf_v if b.part != self.battery else 0.0) for b in branches),
                *sorted(self.pulse_frequencies_hz(Setup(state)).items()),
            )
            found.append((state, network, tuple(b.emf_v for b in branches if b.part == self.battery)))
        return found

    @cached_property
    def distinct_states(self) -> tuple[ControlState, ...]:
        """Usual positions that differ in what they switch, sense or move; of equal ones the first is kept, nearest to rest."""
        found: dict[object, ControlState] = {}
        for state, network, _ in self._usual_networks:
            found.setdefault(network, state)
        return tuple(found.values())

    @cached_property
    def distinct_networks(self) -> tuple[ControlState, ...]:
        """Usual positions of which no two are the same network with the same battery voltage."""
        found: dict[object, ControlState] = {}
        for state, network, battery in self._usual_networks:
            found.setdefault((network, battery), state)
        return tuple(found.values())

    # -- points -------------------------------------------------------------------------------------

    @cached_property
    def points(self) -> dict[str, Point]:
        """Everywhere a probe can go, by reference."""
        found: dict[str, Point] = {CHASSIS: Point(CHASSIS, self.node(CHASSIS), "clean metal of the body", "body", 0.0)}
        for part_id, part in self.document.parts.items():
            if part.access_min is None or isinstance(part, Splice):
                continue
            for terminal in part.TERMINALS:
                ref = f"{part_id}.{terminal}"
                found[ref] = Point(ref, self.node(ref), f"{part.name(part_id)} terminal {terminal}", part_id, part.access_min)
        for connector_id, connector in self.document.connectors.items():
            for cavity in () if connector.restraint else connector.cavities:
                ref = f"{connector_id}.{cavity}"
                pin = f" (pin {connector.pins[cavity]})" if cavity in connector.pins else ""
                label = f"{connector.title or 'Connector'} {connector_id}, cavity {cavity}{pin}"
                sealed, far = not connector.back_probe, "any" if connector.inline else "unplugged"
                side = "far side" if connector.inline else "part side"
                found[ref] = Point(
                    ref, self.node(ref), f"{label}, wire side", connector_id, connector.access_min, "any", connector_id, sealed
                )  # fmt: skip
                found[f"{ref}/c"] = Point(
                    f"{ref}/c", self.node(f"{ref}/c"), f"{label}, {side}", connector_id, connector.access_min,
                    far, connector_id, sealed,  # type: ignore[arg-type]
                )  # fmt: skip
        return found

    @cached_property
    def targets(self) -> dict[str, Point]:
        """What can be looked at without probes: parts and wires, connectors, and inputs whose value a scan tool shows."""
        found: dict[str, Point] = {}
        rest = self.rest_setup()
        for part_id, part in self.parts.items():
            if part.acts(part_id, rest) is not None:
                found[part_id] = Point(
                    part_id, self.node(f"{part_id}.{part.TERMINALS[0]}"), part.name(part_id), f"{part_id}, by eye and ear", 0.0
                )
            elif isinstance(part, PulledInput):
                found[part_id] = Point(part_id, self.node(f"{part_id}.pin"), part.name(part_id), "scan tool", 0.0)
            elif isinstance(part, Wire):
                ends = [self.points[ref] for ref in (part.from_, part.to) if ref in self.points]
                if ends:
                    near = min(ends, key=lambda p: p.access_min)
                    found[part_id] = Point(
                        part_id, self.node(part.from_), f"around {part.name(part_id)}", near.place, near.access_min
                    )
            elif part.module is None and not isinstance(part, Contact | Splice | Plug):
                found[part_id] = self._part_target(part_id, part)
        for module_id, module in self.document.modules.items():
            for condition in module.answers[:1]:
                terminal = condition.measures[0] if condition.measures else CHASSIS
                title = f"{module.title or 'Module'} ({module_id})"
                found[module_id] = Point(module_id, self.node(terminal), title, "diagnostic socket", 0.0)
        for connector_id, connector in self.document.connectors.items():
            if not connector.restraint:
                name = f"{connector.title or 'Connector'} ({connector_id})"
                found[connector_id] = Point(
                    connector_id,
                    self.node(f"{connector_id}.{next(iter(connector.cavities))}"),
                    name,
                    connector_id,
                    connector.access_min,
                )
        return found

    def _part_target(self, part_id: str, part: Part) -> Point:
        """A part as something to look at: where its terminals are probed, or where its plug is."""
        terminal = f"{part_id}.{part.TERMINALS[0]}"
        if part.access_min is not None:
            return Point(part_id, self.node(terminal), part.name(part_id), part_id, part.access_min)
        plugs = [self.document.connectors[name] for name in sorted(self.plugs_of(part_id))]
        access = min((plug.access_min for plug in plugs), default=0.0)
        return Point(part_id, self.node(terminal), part.name(part_id), part_id, access)

    def point(self, ref: str) -> Point:
        """A point, or something that is looked at without probes.

        Raises:
            UnknownReferenceError: nothing a probe can reach, and nothing to look at, has this reference.
        """
        found = self.points.get(ref) or self.targets.get(ref)
        if found is None:
            raise UnknownReferenceError("point", ref, list(self.points))
        return found

    @property
    def black_reference(self) -> str:
        """Where the black probe stays by default: the battery's negative post."""
        return f"{self.battery}.neg"

    # -- faults and units ---------------------------------------------------------------------------

    @cached_property
    def faults(self) -> dict[str, Fault]:
        """Every single fault of the circuit, by id."""
        return {
            fault.id: fault
            for part_id, part in self.parts.items()
            for fault in (*part.faults(part_id), *part.faults_of_time(part_id))
        }

    @cached_property
    def units(self) -> dict[str, Unit]:
        """Everything that is repaired or replaced as one, by id."""
        made: dict[str, Unit] = {}
        for fault in self.faults.values():
            if fault.unit in made:
                continue
            if fault.unit in self.document.modules:
                module = self.document.modules[fault.unit]
                title = f"{module.title or 'Module'} ({fault.unit})"
                made[fault.unit] = Unit(fault.unit, title, "module", module.price, module.fit_min, module.coded, module.place)
            elif fault.unit.endswith(SYSTEM):
                part = self.parts[fault.part]
                made[fault.unit] = Unit(
                    fault.unit, part.system_title(fault.part), fault.group, 0.0, part.fit_min, False, part.place, part.CAUTIONS
                )
            else:
                part = self.parts[fault.unit]
                made[fault.unit] = Unit(
                    fault.unit, part.name(fault.unit), fault.group, part.price, part.fit_min, False, part.place, part.CAUTIONS
                )
        return made


def _join(document: CircuitDocument) -> dict[str, str]:
    """Union of joined terminals: terminal -> representative; ``chassis`` represents its own set."""
    parent: dict[str, str] = {}

    def find(item: str) -> str:
        while parent.get(item, item) != item:
            item = parent[item]
        return item

    def union(first: str, second: str) -> None:
        a, b = find(first), find(second)
        if a == CHASSIS:
            a, b = b, a
        parent[a] = b

    for connector_id, connector in document.connectors.items():
        for cavity, target in connector.cavities.items():
            for ref in behind(target):
                union(ref, f"{connector_id}.{cavity}/c")
    for join in document.joins:
        for ref in join[1:]:
            union(join[0], ref)
    return {name: find(name) for name in parent}
