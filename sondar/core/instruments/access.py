"""What may touch what in a circuit, and between which points a reading means something.

Rules held here: an ohmmeter only where the circuit is dead and nothing electronic is in the way, no lamp or other load on a line of a
module's input, output, reference or bus nor on a sensor's return, supply only into a ground path, only points that a probe can reach
as things stand. What is conductor to what is worked out once per circuit.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache

import networkx as nx

from sondar.core.circuit.document.fields import behind
from sondar.core.circuit.families import BusTransceiver, Contact, HBridge, Part, PulledInput, Reference, Splice, Wire
from sondar.core.circuit.families.module import Driver
from sondar.core.circuit.model import CHASSIS, Point, Setup
from sondar.core.circuit.network import Circuit

DEPENDABLE_BELOW_OHM = 1e6
LOGIC_BELOW_V = 8.0
"""A module's regulated output below this is a reference, above it the supply of a sensor."""


class Access:
    """Points, pairs and rules of one circuit, asked by the instruments."""

    def __init__(self, circuit: Circuit) -> None:
        self.circuit = circuit
        self._lines_known: dict[frozenset[str], dict[str, int]] = {}
        self._nearer_known: dict[tuple[str, str, str], int | None] = {}
        self.black = circuit.black_reference
        self.positive = f"{circuit.battery}.pos"
        graph = self._conductors()
        studs = [circuit.node(f"{i}.stud") for i, p in circuit.parts.items() if p.family == "ground_point"]  # type: ignore[attr-defined]
        grounds = [CHASSIS, circuit.node(self.black), *studs]
        pins = {
            circuit.node(f"{part_id}.{terminal}")
            for part_id, part in circuit.parts.items()
            if part.module is not None
            for terminal in part.TERMINALS
        } - set(grounds)
        outside = graph.copy()
        outside.remove_nodes_from(pins)
        # What comes to ground only through a module is a sensor's return: thin tracks inside, and never a load on it.
        self._ground_net = _reach(outside, grounds)
        self._delicate = {kind: _reach(graph, starts) - self._ground_net for kind, starts in self._lines().items()}
        others = set().union(*self._delicate.values())
        returns = _reach(graph, grounds) - self._ground_net - others
        self._delicate |= {"sensor's return": returns - pins, "module's pin": returns & pins}
        self._delicate_net = others | returns

    def _lines(self) -> dict[str, list[str]]:
        """Nodes of the lines that take no load, by what they are called."""
        found: dict[str, list[str]] = {}
        for part_id, part in self.circuit.parts.items():
            for kind, terminals in _delicate_terminals(part).items():
                found.setdefault(kind, []).extend(self.circuit.node(f"{part_id}.{terminal}") for terminal in terminals)
        return found

    # -- points -------------------------------------------------------------------------------------

    def reachable(self, setup: Setup) -> list[Point]:
        """Points that a probe can touch in a set-up, in the order of the circuit file."""
        return [point for point in self.circuit.points.values() if point.reachable(setup)]

    def test_points(self, setup: Setup) -> list[Point]:
        """The same without the body and the battery's own posts, which are the reference, and without a module's pins that are dead."""
        battery = self.circuit.battery
        return [
            p
            for p in self.reachable(setup)
            if p.ref != CHASSIS and not (p.connector is None and p.place == battery) and not self.is_dead(p.ref, setup)
        ]

    def is_ground(self, point: Point) -> bool:
        """True on a path that should be ground and nothing else."""
        return point.node in self._ground_net

    def is_delicate(self, point: Point) -> bool:
        """True on the line of a module's input, output, reference or bus, or on a sensor's return."""
        return point.node in self._delicate_net

    def is_dead(self, ref: str, setup: Setup) -> bool:
        """True at a module's own pin while its plug is apart: without supply it shows a meter nothing that means something."""
        place, _, cavity = ref.removesuffix("/c").partition(".")
        connector = self.circuit.document.connectors.get(place)
        if connector is None or not ref.endswith("/c") or place not in setup.unplugged:
            return False
        owners = {target.split(".")[0] for target in behind(connector.cavities[cavity])}
        return bool(owners) and all(self.circuit.parts[owner].module is not None for owner in owners)

    def line_of(self, ref: str) -> str:
        """What kind of line takes no load at a point, e.g. ``5 V reference``; empty if none does."""
        node = self.circuit.node(ref)
        return next((kind for kind, nodes in self._delicate.items() if node in nodes), "")

    def is_key_off(self, setup: Setup) -> bool:
        """True with the key at its first position."""
        return setup["key"] == self.circuit.controls["key"][0]

    def is_pulsing(self, setup: Setup) -> bool:
        """True if some part pulses in the set-up."""
        return len(self.circuit.phases(setup)) > 1

    def may_load(self, red: str, black: str) -> bool:
        """True if a load such as a test lamp may go between two points.

        It would overload a module's input, output, reference or bus, or a sensor's return. From battery positive it may only go to a ground path.
        """
        nodes = {self.circuit.node(red), self.circuit.node(black)}
        if nodes & self._delicate_net:
            return False
        supply = self.circuit.node(self.positive)
        return supply not in nodes or nodes - {supply} <= self._ground_net

    def loads(self, setup: Setup) -> Iterable[tuple[str, str]]:
        """(red, black) of every point that a load may draw from or supply: supplies against ground, grounds against the supply."""
        battery = self.circuit.battery
        for point in (p for p in self.reachable(setup) if p.connector is not None or p.place != battery):
            if self.is_ground(point) and point.ref != self.black:
                yield self.positive, point.ref
            elif self.may_load(point.ref, self.black) and not self.is_dead(point.ref, setup):
                yield point.ref, self.black

    def dependable_in_ohms(self, setup: Setup) -> set[str]:
        """Points where an ohmmeter shows something dependable: not into a module, through a sensor's electronics, nor what ends there."""
        electronics = [
            self.circuit.node(f"{part_id}.{terminal}")
            for part_id, part in self.circuit.parts.items()
            for terminal in _electronic_terminals(part)
        ]
        through = _reach(self._paths_outside_modules(setup), electronics)
        return {point.ref for point in self.reachable(setup) if point.node not in through and not self.is_dead(point.ref, setup)}

    def lines(self, setup: Setup) -> dict[str, int]:
        """Node -> number of the line it belongs to in a set-up: what is one conductor along wires, splices and connected contacts."""
        if setup.unplugged not in self._lines_known:
            graph = self._conductors(setup.unplugged)
            members = enumerate(nx.connected_components(graph))
            self._lines_known[setup.unplugged] = {node: number for number, nodes in members for node in nodes}
        return self._lines_known[setup.unplugged]

    # -- pairs --------------------------------------------------------------------------------------

    def component_pairs(self, setup: Setup) -> Iterable[tuple[str, str]]:
        """Across each part whose two ends can be reached, and along each wire whose two ends can."""
        refs = {point.ref: point for point in self.reachable(setup)}
        places: dict[str, list[str]] = {}
        for ref, point in refs.items():
            places.setdefault(point.place, []).append(ref)
        document = self.circuit.document
        for place, members in places.items():
            if place in document.connectors:
                yield from self.cavity_pairs(place, members)
            elif len(members) == 2 and place != self.circuit.battery:
                yield members[0], members[1]
        for wire in document.wires.values():
            if wire.from_ in refs and wire.to in refs:
                yield wire.from_, wire.to

    def cavity_pairs(self, connector: str, members: list[str]) -> Iterable[tuple[str, str]]:
        """Cavities that lead into the same part, on the same side of the connector, supply side first."""
        for side in ("", "/c"):
            listed = [m for m in members if m.endswith("/c") == bool(side)]
            for index, red in enumerate(listed):
                for other in listed[index + 1 :]:
                    one, two = (m.split(".", 1)[1].removesuffix("/c") for m in (red, other))
                    nearer = self._nearer_the_supply(connector, one, two)
                    if nearer is not None:
                        yield (red, other) if nearer == 0 else (other, red)

    def _nearer_the_supply(self, connector: str, one: str, two: str) -> int | None:
        """Which of two cavities is nearer the supply, see ``_supply_side``; the same in every set-up, so it is kept."""
        key = (connector, one, two)
        if key not in self._nearer_known:
            cavities = self.circuit.document.connectors[connector].cavities
            self._nearer_known[key] = _supply_side(self.circuit, cavities[one], cavities[two])
        return self._nearer_known[key]

    # -- networks of conductors ---------------------------------------------------------------------

    def _conductors(self, unplugged: frozenset[str] = frozenset()) -> nx.Graph[str]:
        """Nodes joined by wires, splices and connected contacts."""
        graph: nx.Graph[str] = nx.Graph()
        setup = self.circuit.rest_setup().with_unplugged(unplugged)
        for part_id, part in self.circuit.parts.items():
            if isinstance(part, Wire | Splice | Contact):
                for branch in part.branches(part_id, setup):
                    if branch.resistance_ohm < 1e3:
                        graph.add_edge(self.circuit.node(branch.a), self.circuit.node(branch.b))
        return graph

    def _paths_outside_modules(self, setup: Setup) -> nx.Graph[str]:
        """Nodes joined by anything that conducts in this set-up and is not inside a module."""
        graph: nx.Graph[str] = nx.Graph()
        inside = {i for i, part in self.circuit.parts.items() if isinstance(part, Driver | PulledInput | Reference)}
        for branch in self.circuit.branches(setup):
            conducts = branch.curve is not None or branch.resistance_ohm < DEPENDABLE_BELOW_OHM
            to_body = CHASSIS in (branch.a, branch.b)
            if conducts and not to_body and branch.part not in inside and branch.part != self.circuit.battery:
                graph.add_edge(branch.a, branch.b)
        return graph


def _delicate_terminals(part: Part) -> dict[str, tuple[str, ...]]:
    """Terminals of a part whose lines take no load, by the name of the line."""
    if isinstance(part, PulledInput):
        return {"module's input": ("pin",)}
    if isinstance(part, Driver):
        return {"module's output": ("out",)}
    if isinstance(part, Reference):
        return {"5 V reference" if part.supply_v < LOGIC_BELOW_V else "sensor's supply": ("out",)}
    if isinstance(part, BusTransceiver):
        return {"bus line": ("h", "l")}
    if isinstance(part, HBridge):
        return {"module's output": ("a", "b")}
    return {}


def _electronic_terminals(part: Part) -> tuple[str, ...]:
    """Terminals behind which an ohmmeter meets electronics."""
    if isinstance(part, PulledInput):
        return ("pin",)
    if isinstance(part, Driver | Reference):
        return ("out",)
    if isinstance(part, HBridge):
        return ("a", "b")
    return part.TERMINALS if part.is_electronic else ()


@lru_cache(maxsize=256)
def access_of(circuit: Circuit) -> Access:
    """The rules of a circuit, worked out once."""
    return Access(circuit)


def _supply_side(circuit: Circuit, one: str | list[str] | None, two: str | list[str] | None) -> int | None:
    """Which of two cavities is nearer the supply through the part behind them (0 or 1); None if no part joins them."""
    if one is None or two is None:
        return 0  # in-line: the pair of wires going to the same place
    sides = [{circuit.node(ref) for ref in behind(item)} for item in (one, two)]
    for owner in dict.fromkeys(ref.split(".")[0] for ref in behind(one)):
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
