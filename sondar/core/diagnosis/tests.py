"""Which measurements make sense and are allowed in a set-up.

Rules held here: an ohmmeter only where the circuit is dead, a lamp never on a signal or driver line, never supply into
anything but a ground path, only points a probe can reach as things stand.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import networkx as nx

from sondar.core.circuit.document import behind
from sondar.core.circuit.families import Contact, Part, PulledInput, Splice, Wire
from sondar.core.circuit.families.module import Driver, LowSideDriver
from sondar.core.circuit.model import CHASSIS, Point, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.circuit.probing import driven_part
from sondar.core.diagnosis.findings import finders
from sondar.core.instruments import (
    AC_VOLTMETER,
    ANSWERS,
    CLAMP,
    DUTY,
    FEED_TEST,
    FINDINGS,
    FREQUENCY,
    LAMP_5W,
    LAMP_21W,
    LED_PROBE,
    OHMMETER,
    PROBE_GROUND,
    PROBE_SUPPLY,
    SCAN_VALUE,
    SCOPE_BOTTOM,
    SCOPE_TOP,
    SENSES,
    VOLTMETER,
    WEAK_PULL,
    Instrument,
)

CLAMP_FROM_MM2 = 1.0
"""Wires thinner than this carry currents that a clamp does not resolve."""


@dataclass(frozen=True)
class Test:
    """One measurement: instrument, where the two leads go, and the set-up."""

    __test__ = False  # not a pytest class

    instrument: str
    red: str
    black: str
    setup: Setup

    def key(self) -> tuple[str, str, str, Setup]:
        """What makes two readings repeats of one another."""
        return (self.instrument, self.red, self.black, self.setup)


def lookers(circuit: Circuit, ref: str) -> tuple[Instrument, ...]:
    """What can look at a target: a clamp for wires, the scan tool for inputs, the senses for what acts, and findings."""
    if ref in circuit.document.modules:
        return (ANSWERS,)
    found = finders(circuit, ref)
    part = circuit.parts.get(ref)
    if isinstance(part, Wire):
        return (CLAMP, *found)
    if isinstance(part, PulledInput):
        return (SCAN_VALUE, *found)
    acts = part is not None and part.acts(ref, circuit.rest_setup()) is not None
    return (SENSES, *found) if acts else found


class TestFinder:
    """Lists the sensible tests of a circuit; what is conductor to what is worked out once."""

    __test__ = False

    def __init__(self, circuit: Circuit) -> None:
        self.circuit = circuit
        graph = self._conductors(frozenset())
        grounds = [circuit.node(f"{i}.stud") for i, p in circuit.parts.items() if p.family == "ground_point"]  # type: ignore[attr-defined]
        self._ground_net = _reach(graph, [CHASSIS, circuit.node(circuit.black_reference), *grounds])
        delicate: list[str] = []
        for part_id, part in circuit.parts.items():
            if isinstance(part, PulledInput):
                delicate.append(circuit.node(f"{part_id}.pin"))
            if isinstance(part, Driver):
                delicate.append(circuit.node(f"{part_id}.out"))
        self._delicate = delicate
        self._delicate_net = _reach(graph, delicate) - self._ground_net

    def _conductors(self, unplugged: frozenset[str]) -> nx.Graph[str]:
        """Nodes joined by wires, splices and mated contacts."""
        graph: nx.Graph[str] = nx.Graph()
        for part_id, part in self.circuit.parts.items():
            if isinstance(part, Wire | Splice) or (isinstance(part, Contact) and part.connector not in unplugged):
                for branch in part.branches(part_id, self.circuit.rest_setup()):
                    if branch.resistance_ohm < 1e3:
                        graph.add_edge(self.circuit.node(branch.a), self.circuit.node(branch.b))
        return graph

    def _paths_outside_modules(self, setup: Setup) -> nx.Graph[str]:
        """Nodes joined by anything that conducts in this set-up and is not inside a module."""
        graph: nx.Graph[str] = nx.Graph()
        inside = {i for i, part in self.circuit.parts.items() if isinstance(part, Driver | PulledInput)}
        for branch in self.circuit.branches(setup):
            conducts = branch.law is not None or branch.resistance_ohm < 1e6
            if (
                conducts
                and branch.part not in inside
                and CHASSIS not in (branch.a, branch.b)
                and branch.part != self.circuit.battery
            ):
                graph.add_edge(branch.a, branch.b)
        return graph

    def lamp_allowed(self, red: str, black: str) -> bool:
        """True if a test lamp may load these two points.

        A lamp would overload a module's input or driver. From battery positive it may only go to a ground path.
        """
        nodes = {self.circuit.node(red), self.circuit.node(black)}
        if nodes & self._delicate_net:
            return False
        feed = self.circuit.node(f"{self.circuit.battery}.pos")
        other = nodes - {feed}
        return feed not in nodes or other <= self._ground_net

    def tests(self, setup: Setup) -> list[Test]:
        """All sensible tests in a set-up, in the order of the circuit file."""
        reachable = [p for p in self.circuit.points.values() if p.reachable(setup)]
        black = self.circuit.black_reference
        found: list[Test] = []
        seen: set[tuple[str, frozenset[str]]] = set()

        def add(device: Instrument, red: str, other: str) -> None:
            nodes = frozenset((self.circuit.node(red), self.circuit.node(other)))
            if len(nodes) == 2 and (device.id, nodes) not in seen:
                seen.add((device.id, nodes))
                found.append(Test(device.id, red, other, setup))

        pairs = list(self._component_pairs(reachable))
        for point in reachable:
            if point.ref != CHASSIS:
                add(VOLTMETER, point.ref, black)
        for red, other in pairs:
            add(VOLTMETER, red, other)
        positive = f"{self.circuit.battery}.pos"
        for point in reachable:
            if point.connector is None and point.place == self.circuit.battery:
                continue
            for device in (LAMP_5W, LAMP_21W):
                if point.node in self._ground_net and self.circuit.black_reference != point.ref:
                    add(device, positive, point.ref)
                elif self.lamp_allowed(point.ref, black):
                    add(device, point.ref, black)
            if point.node in self._ground_net and black != point.ref:
                add(FEED_TEST, positive, point.ref)
            elif self.lamp_allowed(point.ref, black):
                add(FEED_TEST, point.ref, black)
            if point.node in self._delicate_net and point.connector in setup.unplugged:
                add(WEAK_PULL, point.ref, black)
        if setup["key"] == self.circuit.controls["key"][0]:
            # Through a module's transistors an ohmmeter shows nothing dependable, nor through a coil that ends at one.
            through_module = _reach(self._paths_outside_modules(setup), self._delicate)
            dependable = {p.ref for p in reachable if p.node not in through_module}
            for red, other in pairs:
                if {red, other} <= dependable:
                    add(OHMMETER, red, other)
            for point in reachable:
                if point.connector is not None and point.ref in dependable:
                    add(OHMMETER, point.ref, black)
        pulsing = len(self.circuit.phases(setup)) > 1
        for point in reachable:
            if point.ref == CHASSIS or (point.connector is None and point.place == self.circuit.battery):
                continue
            add(LED_PROBE, point.ref, black)
            if pulsing:
                for device in (AC_VOLTMETER, FREQUENCY, DUTY, SCOPE_TOP, SCOPE_BOTTOM):
                    add(device, point.ref, black)
        if pulsing:
            for red, other in pairs:
                add(AC_VOLTMETER, red, other)
        return [*found, *self._looks(setup)]

    def drives(self, setup: Setup) -> list[Test]:
        """What a powered probe may run here: a part through its own open plug, or a load by standing in for a low-side driver.

        Only with one plug apart and nothing commanded. Supply never goes to a harness, a reference, a signal or a module; ground
        goes only to a pin that the module itself would ground.
        """
        rest = self.circuit.rest_setup(setup.temperature_c)
        if len(setup.unplugged) != 1 or any(value != rest[name] for name, value in setup.controls if name != "key"):
            return []
        connector = next(iter(setup.unplugged))
        spec = self.circuit.document.connectors[connector]
        black, found = self.circuit.black_reference, []
        for cavity, target in spec.cavities.items():
            owner = self.circuit.parts[behind(target)[0].split(".")[0]] if target else None
            ref = f"{connector}.{cavity}"
            if isinstance(owner, LowSideDriver) and driven_part(self.circuit, setup, "ground", ref, black) is not None:
                found.append(Test(PROBE_GROUND.id, ref, black, setup))
        members = [f"{connector}.{cavity}/c" for cavity in spec.cavities]
        for red, other in () if spec.inline or spec.restraint else self._cavity_pairs(connector, members):
            owners = {
                r.split(".")[0] for ref in (red, other) for r in behind(spec.cavities[ref.split(".", 1)[1].removesuffix("/c")])
            }
            sealed = any(self.circuit.parts[owner].module is not None for owner in owners)
            acts = any(self.circuit.parts[owner].acts(owner, setup) is not None for owner in owners)
            if acts and not sealed and driven_part(self.circuit, setup, "supply", red, other) is not None:
                found.append(Test(PROBE_SUPPLY.id, red, other, setup))
        return found

    def _looks(self, setup: Setup) -> list[Test]:
        """Tests without leads: what parts do, currents in wires, values in modules."""
        black = self.circuit.black_reference
        awake = setup["key"] != self.circuit.controls["key"][0]
        found = []
        at_rest = setup == self.circuit.rest_setup(setup.temperature_c)
        for ref in self.circuit.targets:
            part = self.circuit.parts.get(ref)
            for device in lookers(self.circuit, ref):
                if device is CLAMP and isinstance(part, Wire) and part.gauge_mm2 < CLAMP_FROM_MM2:
                    continue
                if device is SCAN_VALUE and not awake:
                    continue
                if device is SENSES and setup.controls == self.circuit.rest_setup().controls:
                    continue
                if device.kind in FINDINGS and not at_rest:
                    continue
                if device is ANSWERS and setup != self._asked_in(ref, setup.temperature_c):
                    continue
                found.append(Test(device.id, ref, black, setup))
        return found

    def asked_states(self) -> list[tuple[tuple[str, str], ...]]:
        """Control positions in which some module is asked by the scan tool."""
        return [self._asked_in(name, 20.0).controls for name, module in self.circuit.document.modules.items() if module.answers]

    def _asked_in(self, module: str, temperature_c: float) -> Setup:
        """The set-up in which a module is asked: everything plugged in, the key as its answering needs it."""
        key = self.circuit.document.modules[module].answers[0].when.get("key")
        return self.circuit.setup({"key": key} if key else {}, frozenset(), temperature_c)

    def _component_pairs(self, reachable: Iterable[Point]) -> Iterable[tuple[str, str]]:
        """Across each part whose two ends can be reached, and along each wire whose two ends can."""
        refs = {point.ref: point for point in reachable}
        places: dict[str, list[str]] = {}
        for ref, point in refs.items():
            places.setdefault(point.place, []).append(ref)
        for place, members in places.items():
            document = self.circuit.document
            if place in document.connectors:
                yield from self._cavity_pairs(place, members)
            elif len(members) == 2 and place != self.circuit.battery:
                yield members[0], members[1]
        for wire in self.circuit.document.wires.values():
            if wire.from_ in refs and wire.to in refs:
                yield wire.from_, wire.to

    def _cavity_pairs(self, connector: str, members: list[str]) -> Iterable[tuple[str, str]]:
        """Cavities that lead into the same part, on the same side of the connector."""
        cavities = self.circuit.document.connectors[connector].cavities
        for side in ("", "/c"):
            listed = [m for m in members if m.endswith("/c") == bool(side)]
            for index, red in enumerate(listed):
                for other in listed[index + 1 :]:
                    one, two = (cavities[m.split(".", 1)[1].removesuffix("/c")] for m in (red, other))
                    nearer = _feed_side(self.circuit, one, two)
                    if nearer is not None:
                        yield (red, other) if nearer == 0 else (other, red)


def _feed_side(circuit: Circuit, one: str | list[str] | None, two: str | list[str] | None) -> int | None:
    """Which of two cavities is nearer the feed through the part behind them (0 or 1); None if no part joins them."""
    if one is None or two is None:
        return 0  # in-line: the pair of wires going to the same place
    sides = [{circuit.node(r) for r in ([item] if isinstance(item, str) else item)} for item in (one, two)]
    for owner in dict.fromkeys(r.split(".")[0] for r in ([one] if isinstance(one, str) else one)):
        part: Part = circuit.parts[owner]
        inside: nx.DiGraph[str] = nx.DiGraph()
        for branch in part.branches(owner, circuit.rest_setup()):
            inside.add_edge(circuit.node(branch.a), circuit.node(branch.b))
        for first, second, answer in ((0, 1, 0), (1, 0, 1)):
            starts, ends = sides[first] & set(inside), sides[second] & set(inside)
            if any(nx.has_path(inside, a, b) for a in starts for b in ends):
                return answer
    return None


def _reach(graph: nx.Graph[str], starts: Iterable[str]) -> set[str]:
    found: set[str] = set()
    for start in starts:
        found.add(start)
        if start in graph:
            found |= nx.node_connected_component(graph, start)
    return found
