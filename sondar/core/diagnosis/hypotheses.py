"""What may be wrong: no fault now, every single fault at every severity, something not on the drawing.

Index 0 is *no fault now*, the last index is *not on the drawing*; between them come (fault, severity) pairs. Faults that
no instrument shows in any usual set-up are not suspects and are left out.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Change, Fault, Setup, Severity
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.base_rates import base_rates
from sondar.core.diagnosis.relevance import HARDLY, matters
from sondar.core.diagnosis.thresholds import divided_at_thresholds
from sondar.core.instruments import INSTRUMENTS, displays, sensible_tests
from sondar.core.instruments.base import Display, Population
from sondar.core.solving.fuses import blown_fuses

Array = npt.NDArray[np.float64]
Ints = npt.NDArray[np.intp]

NONE, UNKNOWN = "none", "unknown"
PRIOR_NONE = 0.06
PRIOR_UNKNOWN = 0.04
SEEN_ERRORS, SEEN_WORD = 2.0, 0.3
"""A fault is a suspect if some instrument shows a figure this many standard errors away, or a word that much more or less often."""


MANY_SOLVED = 20_000
"""Above this many set-ups times branches only the set-ups with everything connected are looked at."""

MANY_LISTED = 2500
"""Above this many faults and severities the grids of severities are made coarser: every other cell, which then stands for its neighbour."""


@dataclass(frozen=True)
class Suspect:
    """One hypothesis: a fault at a severity, or one of the two that are not faults of the drawing; ``id`` is what it is stored under."""

    fault: str
    severity: str
    unit: str
    group: str
    id: str = ""


@dataclass(frozen=True, eq=False)
class HypothesisSet:
    """All hypotheses of a circuit at a temperature.

    Attributes:
        suspects: (H,) what each index means.
        changes: (H − 1,) branch changes, for the solver; *not on the drawing* has none.
        blown: (H − 1, n_fuses) fuses that each has opened.
        prior: (H,) sums to 1.
        units: ids in the order of the columns of ``member``; the first is ``none``, the last ``unknown``.
        member: (H, U) one-hot membership of hypotheses in units.
        milder, worse: (H − 1,) the next cell of the same fault either way, itself where there is none: severities of a resistance
            are points of a grid that stand for everything between.
        share: (H − 1,) of the difference between those two, how much lies within the hypothesis' own cell.
        second: the same for the second fault of two, where hypotheses are pairs of faults.
    """

    suspects: tuple[Suspect, ...]
    changes: tuple[tuple[Change, ...], ...]
    blown: npt.NDArray[np.bool_]
    prior: Array
    units: tuple[str, ...]
    member: Array
    milder: Ints
    worse: Ints
    share: Array
    second: tuple[Ints, Ints] | None = None

    def index(self, fault: str, severity: str | None = None) -> list[int]:
        """Indices of a fault, or of one of its severities."""
        return [i for i, s in enumerate(self.suspects) if s.fault == fault and severity in (None, s.severity)]


def suspect_id(fault: Fault, severity: Severity) -> str:
    """What a fault at a severity is stored under."""
    return f"{fault.id}:{severity.key}"


def build_hypotheses(circuit: Circuit, temperature_c: float = 20.0, only: frozenset[str] | None = None) -> HypothesisSet:
    """All hypotheses that could bring a vehicle to the workshop.

    Args:
        only: ids of the faults that are considered; all if left out. A whole vehicle has thousands, of which a triage leaves few.
    """
    listed = [(f, severity) for f in circuit.faults.values() if only is None or f.id in only for severity in f.severities]
    while len(listed) > MANY_LISTED and len(coarser := _coarser(listed)) < len(listed):
        listed = coarser
    listed = divided_at_thresholds(circuit, listed, temperature_c)
    changes = [(), *(severity.changes for _, severity in listed)]
    blown = blown_fuses(circuit, changes, temperature_c)
    seen = _noticeable(circuit, changes, [None, *(fault for fault, _ in listed)], blown, temperature_c)
    kept = [i for i, noticed in enumerate(seen[1:]) if noticed]
    rows = [0, *(i + 1 for i in kept)]
    brought_in = np.where(matters(circuit, [changes[i] for i in rows], blown[rows], temperature_c)[1:], 1.0, HARDLY)
    rates = base_rates(
        circuit, [listed[i][0] for i in kept], [listed[i][1].weight * w for i, w in zip(kept, brought_in, strict=True)]
    )
    prior = np.concatenate([[PRIOR_NONE], (1 - PRIOR_NONE - PRIOR_UNKNOWN) * rates, [PRIOR_UNKNOWN]])
    suspects = [Suspect(NONE, "", NONE, NONE, NONE)]
    suspects += [
        Suspect(fault.id, severity.label, fault.unit, fault.group, suspect_id(fault, severity))
        for fault, severity in (listed[i] for i in kept)
    ]
    suspects += [Suspect(UNKNOWN, "", UNKNOWN, UNKNOWN, UNKNOWN)]
    units = tuple(dict.fromkeys(s.unit for s in suspects))
    member = np.array([[1.0 if s.unit == unit else 0.0 for unit in units] for s in suspects])
    found = tuple(changes[i] for i in rows)
    return HypothesisSet(
        tuple(suspects), found, blown[rows], prior, units, member, *_neighbours(suspects, [None, *(listed[i][1] for i in kept)])
    )


def _coarser(listed: Sequence[tuple[Fault, Severity]]) -> list[tuple[Fault, Severity]]:
    """Every other cell of each grid, the ends among them; what is left out adds its weight to the cell below."""
    axes: dict[tuple[str, str], list[int]] = {}
    for index, (fault, severity) in enumerate(listed):
        if severity.grade is not None:
            axes.setdefault((fault.id, severity.grade[0]), []).append(index)
    found: list[tuple[Fault, Severity] | None] = list(listed)
    for members in axes.values():
        order = sorted(members, key=lambda index: listed[index][1].grade or ("", 0.0))
        for below, dropped in zip(order[:-2:2], order[1:-1:2], strict=True):
            fault, severity = listed[below]
            found[below] = (fault, replace(severity, weight=severity.weight + listed[dropped][1].weight))
            found[dropped] = None
    return [item for item in found if item is not None]


def _neighbours(suspects: list[Suspect], severities: Sequence[Severity | None]) -> tuple[Ints, Ints, Array]:
    """Indices of the next milder and the next worse cell of the same fault on the same axis, and the share of their difference."""
    milder, worse = np.arange(len(severities)), np.arange(len(severities))
    axes: dict[tuple[str, str], list[tuple[float, int]]] = {}
    for index, (suspect, severity) in enumerate(zip(suspects, severities, strict=False)):
        if severity is not None and severity.grade is not None:
            axes.setdefault((suspect.fault, severity.grade[0]), []).append((severity.grade[1], index))
    for members in axes.values():
        order = [index for _, index in sorted(members)]
        for below, above in itertools.pairwise(order):
            worse[below], milder[above] = above, below
    share = cell_share(milder, worse)
    for members in axes.values():
        places = {index: place for place, index in members}
        for index in places:
            severity, apart = severities[index], places[int(worse[index])] - places[int(milder[index])]
            if severity is not None and severity.width is not None and apart > 0.0:
                share[index] = severity.width / apart
    return milder, worse, share


def cell_share(milder: Ints, worse: Ints) -> Array:
    """(H,) share of the difference between a cell's neighbours that lies within it, on an even grid.

    At an end of the grid half the cell lies beyond it, where readings change less: three quarters of one step.
    """
    own = np.arange(len(milder))
    return np.where((milder != own) & (worse != own), 0.5, 0.75)


def _noticeable(
    circuit: Circuit,
    changes: list[tuple[Change, ...]],
    faults: Sequence[Fault | None],
    blown: npt.NDArray[np.bool_],
    temperature_c: float,
) -> npt.NDArray[np.bool_]:
    """(F,) what some instrument shows beyond its own error in some usual set-up, everything connected or one connector apart.

    Faults that have been seen are not asked about again, so that the many set-ups are solved for few.
    """
    seen: npt.NDArray[np.bool_] = np.zeros(len(changes), dtype=bool)
    if blown.size:
        seen = np.any(blown, axis=1)
    for index, change in enumerate(changes):  # what does not act any more is noticed, whatever the voltages are
        seen[index] |= any(c.blocks for c in change)
    seen[0] = True
    tools = frozenset(name for name, device in INSTRUMENTS.items() if not device.finding)
    states = circuit.distinct_states
    apart = [frozenset[str](), *(frozenset({c}) for c, spec in circuit.document.connectors.items() if not spec.restraint)]
    made = [Setup(state, unplugged, temperature_c) for unplugged in apart for state in states]
    setups = [setup for setup in made if not circuit.impossible(setup)]
    if (
        len(setups) * len(circuit.branches(setups[0])) > MANY_SOLVED
    ):  # a large circuit: what nothing shows with everything connected is left out
        setups = setups[: len(states)]
    for setup in setups:
        left = np.concatenate([[0], np.flatnonzero(~seen)])
        if len(left) == 1:
            break
        tests = sensible_tests(circuit, setup, tools)
        population = Population(circuit, setup, [changes[i] for i in left], blown[left], [faults[i] for i in left], samples=1)
        for shown in displays(population, tests).values():
            seen[left] |= _is_seen(shown).any(axis=1)
    return seen


def _is_seen(shown: Display) -> npt.NDArray[np.bool_]:
    """(H, P) where a display differs from that of the first hypothesis."""
    if shown.words.shape[2] and (not shown.instrument.figures):
        return np.asarray(np.abs(shown.words - shown.words[:1]).max(axis=2) > SEEN_WORD)
    figure = 1.0 - shown.words.sum(axis=2)
    words = np.abs(figure - figure[:1]) > SEEN_WORD
    both = (figure > SEEN_WORD) & (figure[:1] > SEEN_WORD)
    return np.asarray(words | (both & (np.abs(shown.mean - shown.mean[:1]) > SEEN_ERRORS * shown.sd[:1])))
