"""What is wrong or doubtful about a whole circuit, beyond what its fields can show: found before anybody measures by it.

``problems_of`` lists what makes a circuit unusable; ``warnings_of`` what may be meant and should be looked at.
"""

from __future__ import annotations

import difflib
import itertools
import math
from collections.abc import Iterator, Mapping, Sequence

import networkx as nx
import numpy as np
from pydantic import BaseModel

from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.circuit.network import Circuit
from sondar.core.errors import FieldProblem, SondarError
from sondar.core.instruments import INSTRUMENTS, displays, instrument
from sondar.core.instruments.base import Population
from sondar.core.limits.condition import limit_test
from sondar.core.quantities import format_si
from sondar.core.solving.fuses import blown_fuses

PLAUSIBLE = {
    "_ohm": (0.0, 1e9, "Ω"), "_v": (-200.0, 1000.0, "V"), "_a": (0.0, 2000.0, "A"), "_w": (0.0, 20_000.0, "W"), "_m": (0.0, 60.0, "m"),
    "_mm2": (0.03, 150.0, "mm²"), "_min": (0.0, 3000.0, "min"), "_c": (-80.0, 1300.0, "°C"), "_hz": (0.0, 1e7, "Hz"), "price": (0.0, 200_000.0, ""),
    "rate": (0.0, 1000.0, ""),
}  # fmt: skip
"""By the end of a field's name: least and greatest figure that any road vehicle has, and the unit."""
CANNOT_BE_DEAD = ("splice", "ground_point", "battery")
"""What may lead into another circuit of the vehicle and carry nothing in this one; a signal circuit needs the battery for the probe only."""
LOAD_OHM = 1.0
"""Between the battery's posts there is more than this in any state of use, a starter apart, which is no wire."""
SAMPLED = 24
CONTRADICTS_SDS = 3.0
"""A limit contradicts the prediction if it leaves out what a healthy vehicle shows by so many standard deviations."""


def problems_of(document: CircuitDocument) -> list[FieldProblem]:
    """Everything that makes a checked document unusable, with the path to its field."""
    found = [*_figures(document), *_limits(document)]
    if found:
        return found
    circuit = Circuit(document)
    shorted = list(_shorted(circuit))
    return shorted or list(_dead(circuit))


def warnings_of(circuit: Circuit) -> list[FieldProblem]:
    """What may be meant and should be looked at: fuses that blow in a healthy vehicle, limits that a healthy vehicle breaks."""
    return [*_blowing(circuit), *_contradicted(circuit)]


def _figures(document: CircuitDocument) -> Iterator[FieldProblem]:
    sections: tuple[tuple[str, Mapping[str, BaseModel]], ...] = (
        ("parts", document.parts), ("wires", document.wires), ("connectors", document.connectors), ("modules", document.modules),
    )  # fmt: skip
    for section, entries in sections:
        for name, entry in entries.items():
            for field in type(entry).model_fields:
                yield from _figure((section, name, field), field, getattr(entry, field))


def _figure(path: tuple[str, ...], field: str, value: object) -> Iterator[FieldProblem]:
    if isinstance(value, bool) or not isinstance(value, int | float):
        return
    # The longest ending counts: mm² and minutes are no metres.
    ending = max((e for e in PLAUSIBLE if field.endswith(e)), key=len, default=None)
    if ending is None:
        return
    low, high, unit = PLAUSIBLE[ending]
    if not low <= value <= high and not (math.isinf(value) and ending == "_ohm"):
        yield FieldProblem(path, f"{value:g} {unit} is in no road vehicle; expected {low:g} to {high:g} {unit}".replace("  ", " "))


def _limits(document: CircuitDocument) -> Iterator[FieldProblem]:
    for name, limit in document.limits.items():
        device = INSTRUMENTS.get(limit.instrument)
        if device is None:
            yield FieldProblem(("limits", name, "with"), _unknown("instrument", limit.instrument, list(INSTRUMENTS)))
        elif limit.word and limit.word not in {*device.words, *device.soft_words}:
            yield FieldProblem(
                ("limits", name, "word"), _unknown(f"word of the {device.title.lower()}", limit.word, list(device.words))
            )
        elif not limit.word and not device.figures:
            said = f"the {device.title.lower()} shows words, not figures: give 'word', one of {', '.join(device.words)}"
            yield FieldProblem(("limits", name), said)


def _unknown(kind: str, name: str, known: Sequence[str]) -> str:
    near = difflib.get_close_matches(name, known, 2, 0.5)
    hint = f"did you mean {' or '.join(near)}?" if near else f"there are {', '.join(known)}"
    return f"no {kind} '{name}'; {hint}"


def _shorted(circuit: Circuit) -> Iterator[FieldProblem]:
    """The battery's posts joined by nothing but wires, connectors, splices and fuses."""
    graph: nx.Graph[str] = nx.Graph()
    for branch in circuit.branches(circuit.rest_setup()):
        part = circuit.document.parts.get(branch.part)  # None for a wire
        if (part is None or part.family in ("splice", "ground_point", "fuse")) and branch.resistance_ohm < LOAD_OHM:
            graph.add_edge(branch.a, branch.b, part=branch.part)
    ends = [circuit.node(f"{circuit.battery}.{post}") for post in ("pos", "neg")]
    if ends[0] == ends[1]:
        yield FieldProblem(("joins",), "the battery's two posts are joined: one join too many")
    elif all(end in graph for end in ends) and nx.has_path(graph, *ends):
        way = nx.shortest_path(graph, *ends)
        parts = [graph[a][b]["part"] for a, b in itertools.pairwise(way)]
        section = "wires" if parts[0] in circuit.document.wires else "parts"
        yield FieldProblem(
            (section, parts[0]), f"the supply is shorted to ground by {', '.join(parts)} alone: a load is missing between them"
        )


def _dead(circuit: Circuit) -> Iterator[FieldProblem]:
    """Parts that carry no current in any state, because their circuit closes nowhere: no branch of theirs lies on a loop."""
    graph: nx.Graph[str] = nx.Graph()
    branches = [branch for branch in circuit.branches(circuit.rest_setup()) if math.isfinite(branch.resistance_ohm) or branch.curve]
    for branch in branches:
        count = graph[branch.a][branch.b]["count"] if graph.has_edge(branch.a, branch.b) else 0
        graph.add_edge(branch.a, branch.b, count=count + 1)
    open_ends = {frozenset(edge) for edge in nx.bridges(graph) if graph[edge[0]][edge[1]]["count"] == 1}
    alive: dict[str, bool] = {}
    for branch in branches:
        alive[branch.part] = alive.get(branch.part, False) or frozenset((branch.a, branch.b)) not in open_ends
    for name, lives in alive.items():
        if not lives and name in circuit.document.parts and circuit.document.parts[name].family not in CANNOT_BE_DEAD:
            yield FieldProblem(
                ("parts", name),
                "no current can flow through it: one side leads neither to a supply nor to ground. Add the missing wire or join",
            )


def _blowing(circuit: Circuit) -> Iterator[FieldProblem]:
    blown = blown_fuses(circuit, [()])[0]
    fuses = [name for name, part in circuit.document.parts.items() if part.family == "fuse"]
    for name, is_blown in zip(fuses, blown, strict=True):
        if is_blown:
            yield FieldProblem(
                ("parts", name), "this fuse would blow in a healthy vehicle: its rating is too low, or a load is too large"
            )


def _contradicted(circuit: Circuit) -> Iterator[FieldProblem]:
    """Limits of figures that leave out what a healthy vehicle of this document shows."""
    for name, limit in circuit.document.limits.items():
        if limit.converting or limit.word or (limit.min is None and limit.max is None):
            continue
        try:
            test = limit_test(circuit, limit)
            device = instrument(test.instrument)
            healthy = Population(circuit, test.setup, [()], np.zeros((1, _fuses(circuit)), dtype=bool), [None], SAMPLED)
            shown = displays(healthy, (test,))[device.id]
        except SondarError:
            continue
        if float(shown.words[0, 0].sum()) > 0.5:
            continue
        mean, sd = float(shown.mean[0, 0]), float(shown.sd[0, 0])
        low = -math.inf if limit.min is None else float(device.working(limit.min))
        high = math.inf if limit.max is None else float(device.working(limit.max))
        if mean < low - CONTRADICTS_SDS * sd or mean > high + CONTRADICTS_SDS * sd:
            figure = format_si(device.from_working(mean), device.unit)
            said = f"a healthy vehicle of this file shows about {figure} here, outside this limit: one of the two is wrong"
            yield FieldProblem(("limits", name), said)


def _fuses(circuit: Circuit) -> int:
    return sum(part.family == "fuse" for part in circuit.document.parts.values())
