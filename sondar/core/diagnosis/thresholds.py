"""Where a growing resistance changes something over: a relay that no longer pulls in, a module that no longer wakes, a fuse that blows.

A cell of a fault's grid stands for everything halfway to its neighbours, along a straight line. Where a contact changes over inside it
there is no such line: the cell is divided there, and the two sides are no neighbours of each other.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.families.supply import FUSE_BLOWS_AT
from sondar.core.circuit.model import Change, Fault, Setup, Severity
from sondar.core.circuit.network import Circuit
from sondar.core.quantities import format_si
from sondar.core.solving.operating_points import Hypothesis
from sondar.core.solving.solver import SetupSolver, changed_branches

PARTS, ROUNDS = 8, 2
"""A threshold is found to a 64th of the step between two cells."""
NARROW = 0.08
"""Decades; what is left of a cell beside a threshold belongs to the next cell if it is narrower."""
MOST_SOLVED = 400_000
"""Hypotheses times control positions times branches from which on thresholds are not looked for."""

Listed = list[tuple[Fault, Severity]]
States = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class _Span:
    """Two strengths (log10 of ohms) of a fault that is a cell of the list, and what is switched there."""

    cell: int
    low: float
    high: float
    first: States
    last: States


def divided_at_thresholds(circuit: Circuit, listed: Listed, temperature_c: float) -> Listed:
    """The same faults, with a cell on either side of every threshold between two cells; the weight of each fault stays what it is."""
    branches = len(circuit.branches(circuit.rest_setup(temperature_c)))
    steps = _steps(listed)
    if not steps or len(listed) * len(circuit.distinct_networks) * branches > MOST_SOLVED:
        return listed
    switching = _Switching(circuit, [severity.changes for _, severity in listed], temperature_c)
    if not switching:
        return listed
    return _divided(listed, _thresholds(listed, steps, switching))


def _steps(listed: Listed) -> list[tuple[int, int]]:
    """Places in the list of every two cells next to each other on a grid of a single resistance that is added or set."""
    axes: dict[tuple[str, str], list[tuple[float, int]]] = {}
    for index, (fault, severity) in enumerate(listed):
        if severity.grade is not None and severity.grade[0] in ("add", "set") and len(severity.changes) == 1:
            axes.setdefault((fault.id, severity.grade[0]), []).append((severity.grade[1], index))
    return [(a, b) for members in axes.values() for (_, a), (_, b) in itertools.pairwise(sorted(members))]


class _Switching:
    """What is switched under a fault, in every usual position of the controls, everything connected; empty where nothing can change over."""

    def __init__(self, circuit: Circuit, hypotheses: Sequence[Hypothesis], temperature_c: float) -> None:
        paths = changed_branches(hypotheses)
        self._solvers: list[SetupSolver] = []
        for controls in circuit.distinct_networks:
            solver = SetupSolver(circuit, Setup(controls, frozenset(), temperature_c), [], samples=1, paths=paths)
            if solver.contacts or solver.fuses:
                self._solvers.append(solver)

    def __bool__(self) -> bool:
        return bool(self._solvers)

    def states(self, hypotheses: Sequence[Hypothesis]) -> States:
        """(H, …) coils that pull in, and fuses that are overloaded."""
        found = []
        for solver in self._solvers:
            points = solver.solve(hypotheses)
            ratings = np.array([solver.branches[i].fuse_rating_a for i in solver.fuses], dtype=float)
            found += [np.abs(points.coil_amps[0]) >= solver.pull_in, np.abs(points.fuse_amps[0]) > FUSE_BLOWS_AT * ratings]
        return np.concatenate(found, axis=1)


def _thresholds(listed: Listed, steps: Sequence[tuple[int, int]], switching: _Switching) -> dict[tuple[str, str], list[float]]:
    """Strengths (log10 of ohms) at which something changes over, of each (fault, axis)."""
    asked = sorted({index for step in steps for index in step})
    states = dict(zip(asked, switching.states([listed[i][1].changes for i in asked]), strict=True))
    spans = [_Span(mild, _place(listed[mild][1]), _place(listed[worse][1]), states[mild], states[worse]) for mild, worse in steps]
    for _ in range(ROUNDS):
        spans = _narrowed(listed, [span for span in spans if (span.first != span.last).any()], switching)
    found: dict[tuple[str, str], list[float]] = {}
    for span in spans:
        if (span.first != span.last).any():
            fault, severity = listed[span.cell]
            found.setdefault((fault.id, _grade(severity)[0]), []).append((span.low + span.high) / 2.0)
    return {key: _apart(sorted(places)) for key, places in found.items()}


def _apart(places: Sequence[float]) -> list[float]:
    """Without those that follow closely on another: nothing fits between them."""
    found: list[float] = []
    for place in places:
        if not found or place - found[-1] > NARROW:
            found.append(place)
    return found


def _narrowed(listed: Listed, spans: Sequence[_Span], switching: _Switching) -> list[_Span]:
    """Each span in ``PARTS`` parts, with what is switched at their ends."""
    if not spans:
        return []
    inner = [np.linspace(span.low, span.high, PARTS + 1)[1:-1] for span in spans]
    tried = [_at(listed[span.cell][1], float(at)).changes for span, places in zip(spans, inner, strict=True) for at in places]
    between = switching.states(tried).reshape(len(spans), PARTS - 1, -1)
    found = []
    for span, places, states in zip(spans, inner, between, strict=True):
        ends = zip([span.low, *map(float, places), span.high], [span.first, *states, span.last], strict=True)
        found += [_Span(span.cell, low, high, first, last) for (low, first), (high, last) in itertools.pairwise(ends)]
    return found


def _divided(listed: Listed, thresholds: dict[tuple[str, str], list[float]]) -> Listed:
    """The list with the cells of every grid on which something changes over cut there; each side is an axis of its own."""
    grids: dict[tuple[str, str], list[int]] = {}
    for index, (fault, severity) in enumerate(listed):
        if severity.grade is not None and (fault.id, severity.grade[0]) in thresholds:
            grids.setdefault((fault.id, severity.grade[0]), []).append(index)
    inserted: dict[int, list[Severity]] = {}
    for key, members in grids.items():
        members.sort(key=lambda i: _place(listed[i][1]))
        made = _cut([listed[i][1] for i in members], sorted(thresholds[key]))
        inserted |= {index: [] for index in members}
        inserted[members[0]] = made
    return [(fault, made) for i, (fault, severity) in enumerate(listed) for made in inserted.get(i, [severity])]


def _cut(cells: Sequence[Severity], thresholds: Sequence[float]) -> list[Severity]:
    """Cells of one grid, cut at thresholds: each piece is a cell of its own, at its middle, with its share of the weight."""
    places = [_place(cell) for cell in cells]
    borders = [(a + b) / 2.0 for a, b in itertools.pairwise(places)]
    edges = [2.0 * places[0] - borders[0], *borders, 2.0 * places[-1] - borders[-1]]
    found: list[Severity] = []
    for side, (begin, end) in enumerate(itertools.pairwise([edges[0], *thresholds, edges[-1]])):
        inside = [begin, *(b for b in borders if begin + NARROW < b < end - NARROW), end]
        if len(inside) == 2:  # one piece has no neighbour to tell how what is shown changes within it
            inside.insert(1, (begin + end) / 2.0)
        axis = f"{_grade(cells[0])[0]}, beyond {side}" if side else _grade(cells[0])[0]
        for low, high in itertools.pairwise(inside):
            found.append(_piece(cells, edges, low, high, axis))
    return found


def _piece(cells: Sequence[Severity], edges: Sequence[float], low: float, high: float, axis: str) -> Severity:
    """What lies between two strengths: the cell of the grid if it is just that, else a new one at their middle."""
    weight = 0.0
    for cell, (begin, end) in zip(cells, itertools.pairwise(edges), strict=True):
        weight += cell.weight * max(0.0, min(high, end) - max(low, begin)) / (end - begin)
        if (begin, end) == (low, high):
            return replace(cell, grade=(axis, _place(cell)))
    made = _at(cells[0], (low + high) / 2.0)
    return replace(made, weight=weight, grade=(axis, (low + high) / 2.0), width=high - low)


def _grade(severity: Severity) -> tuple[str, float]:
    assert severity.grade is not None
    return severity.grade


def _place(severity: Severity) -> float:
    return _grade(severity)[1]


def _at(like: Severity, place: float) -> Severity:
    """The same change at another strength."""
    ohms = 10.0**place
    [change] = like.changes
    made = Change(change.branch, add_ohm=ohms) if change.add_ohm is not None else Change(change.branch, set_ohm=ohms)
    return Severity(format_si(ohms, "Ω", 2), like.weight, (made,), (_grade(like)[0], place))
