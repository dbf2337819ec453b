"""Automatic drawing of a circuit from supply (top) to ground (bottom), from the document alone.

The circuit is cut into *paths* by an ear decomposition (Whitney, 1932): the first path runs from a supply to ground, every
further one starts and ends on what is already drawn, or at ground. Oriented from supply to ground the paths form an acyclic graph, so
that depth is its longest-path layering (Sugiyama, Tagawa and Toda, 1981). Each path is one vertical line; joints are horizontal.
Columns are ordered to cross as few lines as possible. Units: one depth unit is the height of a wire, one column the pitch.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import networkx as nx

from sondar.core.circuit.families import (
    BusTransceiver,
    Contact,
    Fuse,
    GroundPoint,
    Part,
    PulledInput,
    RatiometricSensor,
    Reference,
    Relay,
    Splice,
    Switch,
    Wire,
)
from sondar.core.circuit.model import CHASSIS
from sondar.core.circuit.network import Circuit

HEIGHT = {"wire": 1.0, "contact": 0.55, "ground": 0.8, "joint": 0.9}
PART_HEIGHT = 1.35
EXHAUSTIVE_COLUMNS = 7


@dataclass(frozen=True)
class Element:
    """One symbol on a vertical line.

    Attributes:
        id: branch id; part: part id; unit: replaceable unit; symbol: what to draw.
        column: x; top, bottom: y of its two ends; a, b: nodes at top and bottom.
        label, detail: text beside it; connector: for contacts; module: if sealed in one.
        control: the control that moves it, other than the key.
    """

    id: str
    part: str
    unit: str
    symbol: str
    column: int
    top: float
    bottom: float
    a: str
    b: str
    label: str
    detail: str
    connector: str | None
    module: str | None
    control: str | None = None


@dataclass(frozen=True)
class Link:
    """A horizontal joint at depth y between two columns."""

    y: float
    start: int
    end: int


@dataclass(frozen=True)
class Mark:
    """A probe point, ground symbol, supply or region label at a place."""

    kind: str
    ref: str
    label: str
    column: int
    y: float


@dataclass(frozen=True)
class Region:
    """Outline of a module's sealed parts in one column."""

    module: str
    title: str
    column: int
    top: float
    bottom: float


@dataclass(frozen=True)
class Drawing:
    """The laid-out circuit.

    Attributes:
        columns: number of columns; depth: height in units; crossings: joints that cross a line.
    """

    columns: int
    depth: float
    crossings: int
    elements: tuple[Element, ...]
    links: tuple[Link, ...]
    marks: tuple[Mark, ...]
    regions: tuple[Region, ...]


@dataclass(frozen=True)
class _Edge:
    id: str
    part: str
    symbol: str
    a: str
    b: str


def draw(circuit: Circuit) -> Drawing:
    """Lay out a circuit."""
    edges = _edges(circuit)
    supplies = [circuit.node(f"{circuit.battery}.pos"), *(f"supply:{e.part}" for e in edges if e.a.startswith("supply:"))]
    paths = _paths(edges, list(dict.fromkeys(supplies)))
    depth = _depths(paths, supplies)
    order, crossings = _order_columns(paths, depth)
    return _place(circuit, paths, depth, order, crossings, supplies)


def _edges(circuit: Circuit) -> list[_Edge]:
    found = []
    rest = circuit.rest_setup()

    def add(branch: str, part: str, symbol: str, a: str, b: str) -> None:
        if circuit.node(a) != circuit.node(b) or a.startswith("supply:"):
            found.append(_Edge(branch, part, symbol, a if a.startswith("supply:") else circuit.node(a), circuit.node(b)))

    for part_id, part in circuit.parts.items():
        if part_id == circuit.battery:
            continue
        if isinstance(part, Wire):
            add(part_id, part_id, "wire", part.from_, part.to)
        elif isinstance(part, Contact):
            add(part_id, part_id, "contact", part_id, f"{part_id}/c")
        elif isinstance(part, GroundPoint):
            add(part_id, part_id, "ground", f"{part_id}.stud", CHASSIS)
        elif isinstance(part, Splice):
            for branch in part.branches(part_id, rest):
                if branch.a in circuit.used_terminals:  # other legs lead out of this circuit
                    add(branch.id, part_id, "joint", branch.a, branch.b)
        else:
            there = {branch.id for branch in circuit.branches(rest)}
            for branch_id, symbol, upper, lower in part.sketch(part_id):
                if symbol != "relay-break" or branch_id in there:
                    add(branch_id, part_id, symbol, upper, lower)
    return found


def _height(edge: _Edge) -> float:
    return HEIGHT.get(edge.symbol, PART_HEIGHT)


def _paths(edges: list[_Edge], supplies: list[str]) -> list[list[tuple[str, _Edge, str]]]:
    """Ears, each a list of (upper node, edge, lower node) from supply to ground."""
    left = dict.fromkeys(edges)
    drawn = list(supplies)
    order: nx.DiGraph[str] = nx.DiGraph()
    order.add_nodes_from(drawn)
    paths = []
    while left:
        start = next((n for n in drawn if any(n in (e.a, e.b) for e in left)), None)
        if start is None:  # an island without a supply: begin at its first edge
            start = next(iter(left)).a
            drawn.append(start)
            order.add_node(start)
        path = _walk(left, start, set(drawn))
        nodes = [start]
        for edge in path:
            nodes.append(edge.b if edge.a == nodes[-1] else edge.a)
            del left[edge]
        end = nodes[-1]
        if end != CHASSIS and end in order and nx.has_path(order, end, start):
            nodes.reverse()
            path.reverse()
        paths.append([(nodes[i], edge, nodes[i + 1]) for i, edge in enumerate(path)])
        position = drawn.index(nodes[0]) + 1 if nodes[0] in drawn else len(drawn)
        for offset, node in enumerate(n for n in nodes if n not in drawn and n != CHASSIS):
            drawn.insert(position + offset, node)
        for upper, lower in itertools.pairwise(nodes):
            if lower != CHASSIS:
                order.add_edge(upper, lower)
    return paths


def _walk(left: dict[_Edge, None], start: str, drawn: set[str]) -> list[_Edge]:
    """Path of undrawn edges from ``start`` to ground, else to something drawn, else as far as it goes.

    Among paths to the same kind of end the longest of the breadth-first tree wins, so that loads come before by-passes.
    """
    graph: nx.MultiGraph[str] = nx.MultiGraph()
    for edge in left:
        graph.add_edge(edge.a, edge.b, key=edge)
    best: tuple[int, int, list[_Edge]] | None = None
    stack: list[tuple[str, list[_Edge], frozenset[str]]] = [(start, [], frozenset({start}))]
    visits = 0
    while stack and visits < 4000:
        visits += 1
        node, path, seen = stack.pop()
        if path:
            rank = 2 if node == CHASSIS else 1 if node in drawn else 0
            if best is None or (rank, len(path)) > (best[0], best[1]):
                best = (rank, len(path), path)
            if rank:
                continue
        for _, other, edge in graph.edges(node, keys=True):
            if other not in seen:
                stack.append((other, [*path, edge], seen | {other}))
    assert best is not None
    return best[2]


def _depths(paths: list[list[tuple[str, _Edge, str]]], supplies: list[str]) -> dict[str, float]:
    graph: nx.DiGraph[str] = nx.DiGraph()
    graph.add_nodes_from(supplies)
    for index, path in enumerate(paths):
        for upper, edge, lower in path:
            low = f"{CHASSIS}#{index}" if lower == CHASSIS else lower
            known = graph.edges[upper, low]["height"] if graph.has_edge(upper, low) else 0.0
            graph.add_edge(upper, low, height=max(known, _height(edge)))
    depth: dict[str, float] = {}
    for node in nx.topological_sort(graph):
        depth[node] = max((depth[p] + graph.edges[p, node]["height"] for p in graph.predecessors(node)), default=0.0)
    return depth


def _order_columns(paths: list[list[tuple[str, _Edge, str]]], depth: dict[str, float]) -> tuple[list[int], int]:
    """Column of each path, fewest crossings first, then shortest joints."""
    home: dict[str, int] = {}
    spans, joints = [], []
    for index, path in enumerate(paths):
        nodes = [path[0][0], *(lower for _, _, lower in path)]
        for end in (nodes[0], nodes[-1]):
            if end in home and home[end] != index:
                joints.append((home[end], index, depth[end]))
        for node in nodes:
            if node != CHASSIS:
                home.setdefault(node, index)
        bottom = f"{CHASSIS}#{index}" if nodes[-1] == CHASSIS else nodes[-1]
        spans.append((depth[nodes[0]], depth[bottom]))

    def cost(columns: tuple[int, ...]) -> tuple[int, float]:
        at = {path: column for column, path in enumerate(columns)}
        crossings, length = 0, 0.0
        for one, two, y in joints:
            low, high = sorted((at[one], at[two]))
            length += high - low
            crossings += sum(1 for k in range(low + 1, high) if spans[columns[k]][0] < y < spans[columns[k]][1])
        return crossings, length

    count = len(paths)
    best = tuple(range(count))
    if count <= EXHAUSTIVE_COLUMNS:
        best = min(itertools.permutations(range(count)), key=lambda c: (*cost(c), c))
    else:
        improved = True
        while improved:
            improved = False
            for i, j in itertools.combinations(range(count), 2):
                trial = list(best)
                trial[i], trial[j] = trial[j], trial[i]
                if cost(tuple(trial)) < cost(best):
                    best, improved = tuple(trial), True
    column = [0] * count
    for x, path_index in enumerate(best):
        column[path_index] = x
    return column, cost(best)[0]


def _place(
    circuit: Circuit, paths: list[list[tuple[str, _Edge, str]]], depth: dict[str, float], column: list[int], crossings: int,
    supplies: list[str],
) -> Drawing:  # fmt: skip
    elements, links, marks = [], [], []
    where: dict[str, tuple[int, float]] = {}
    for index, path in enumerate(paths):
        x = column[index]
        nodes = [path[0][0], *(lower for _, _, lower in path)]
        for end in (nodes[0], nodes[-1]):
            if end in where and where[end][0] != x:
                links.append(Link(depth[end], *sorted((where[end][0], x))))
        for node in nodes:
            if node != CHASSIS:
                where.setdefault(node, (x, depth[node]))
        for upper, edge, lower in path:
            bottom = depth[f"{CHASSIS}#{index}"] if lower == CHASSIS else depth[lower]
            elements.append(_element(circuit, edge, x, depth[upper], bottom, upper, lower))
        if nodes[-1] == CHASSIS:
            marks.append(Mark("ground", CHASSIS, "", x, depth[f"{CHASSIS}#{index}"]))
    for supply in supplies:
        if supply not in where:
            continue
        part_id = supply.removeprefix("supply:")
        part = circuit.parts.get(part_id)
        inside = _inside(part)
        name = inside or circuit.parts[circuit.battery].name(circuit.battery)
        marks.append(Mark("supply" if inside else "battery", supply, name, *where[supply]))
    for point in circuit.points.values():
        if point.node in where:
            marks.append(Mark("point", point.ref, point.title, *where[point.node]))
    height = max(depth.values(), default=1.0)
    return Drawing(len(paths), height, crossings, tuple(elements), tuple(links), tuple(marks), tuple(_regions(circuit, elements)))


def _inside(part: Part | None) -> str:
    """What a supply inside a module is called; empty for the battery."""
    if isinstance(part, PulledInput | Reference):
        return f"{part.supply_v:g} V inside"
    return "bus drive inside" if isinstance(part, BusTransceiver) else ""


def _element(circuit: Circuit, edge: _Edge, x: int, top: float, bottom: float, upper: str, lower: str) -> Element:
    part = circuit.parts[edge.part]
    label, detail, connector = edge.part, part.title, None
    if isinstance(part, Wire):
        detail = " ".join(filter(None, [part.colour, f"{part.gauge_mm2:g} mm²"]))
    elif isinstance(part, Contact):
        pin = circuit.document.connectors[part.connector].pins.get(part.cavity, "")
        label, detail, connector = f"{part.connector}·{part.cavity}", f"pin {pin}" if pin else "", part.connector
    elif isinstance(part, Fuse):
        detail = f"{part.rating_a:g} A"
    elif isinstance(part, Relay):
        detail = f"{part.title or 'relay'}, {'coil' if edge.symbol == 'coil' else 'contact'}"
    elif isinstance(part, Switch):
        detail = part.title or "switch"
    elif isinstance(part, Splice):
        used = [leg for leg in part.legs if f"{edge.part}.{leg}" in circuit.used_terminals]
        label, detail = (edge.part, part.title) if edge.id.endswith(f".leg_{used[0]}") else ("", "")
    elif isinstance(part, RatiometricSensor):
        label, detail = (edge.part, part.title) if edge.id.endswith(".upper") else ("", "")
    unit = next((f.unit for f in circuit.faults.values() if f.part == edge.part), edge.part)
    control = next((name for name in part.control_values() if name != "key"), None)
    return Element(
        edge.id, edge.part, unit, edge.symbol, x, top, bottom, upper, lower, label, detail, connector, part.module, control
    )


def _regions(circuit: Circuit, elements: list[Element]) -> list[Region]:
    """Outlines of what is sealed in a module; a line that leaves the module and comes back has two in its column."""
    found: list[Region] = []
    open_at: dict[int, Region] = {}
    for element in sorted(elements, key=lambda e: (e.column, e.top)):
        before = open_at.pop(element.column, None)
        if element.module is None:
            continue
        if before is not None and before.module == element.module:
            found.remove(before)
            top = before.top
        else:
            top = element.top
        title = circuit.document.modules[element.module].title or element.module
        region = Region(element.module, title, element.column, top, element.bottom)
        found.append(region)
        open_at[element.column] = region
    return found
