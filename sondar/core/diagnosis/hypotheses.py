"""What may be wrong: no fault now, every single fault at every severity, something not on the drawing.

Index 0 is *no fault now*, the last index is *not on the drawing*; between them come (fault, severity) pairs. Faults that
change nothing anyone could notice in normal use are not suspects and are left out.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import OPEN_OHM, Change, Fault, Setup, Severity
from sondar.core.circuit.network import Circuit
from sondar.core.solving.fuses import blown_fuses
from sondar.core.solving.solver import SetupSolver

Array = npt.NDArray[np.float64]
Ints = npt.NDArray[np.intp]

NONE, UNKNOWN = "none", "unknown"
PRIOR_NONE = 0.06
PRIOR_UNKNOWN = 0.04
NOTICEABLE_V = 0.2
"""A fault is a suspect if it moves some voltage of the plugged-in circuit by this much in some position of the controls."""


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
        milder, worse: (H − 1,) the next severity of the same fault either way, itself where there is none: severities of a resistance
            are points of a grid that stand for everything between.
    """

    suspects: tuple[Suspect, ...]
    changes: tuple[tuple[Change, ...], ...]
    blown: npt.NDArray[np.bool_]
    prior: Array
    units: tuple[str, ...]
    member: Array
    milder: Ints
    worse: Ints

    def index(self, fault: str, severity: str | None = None) -> list[int]:
        """Indices of a fault, or of one of its severities."""
        return [i for i, s in enumerate(self.suspects) if s.fault == fault and severity in (None, s.severity)]


def suspect_id(fault: Fault, severity: Severity) -> str:
    """What a fault at a severity is stored under."""
    return f"{fault.id}:{severity.key}"


def distinct_control_states(circuit: Circuit) -> list[tuple[tuple[str, str], ...]]:
    """Control positions that differ in what they switch; of equal ones the first is kept, nearest to rest."""
    seen: dict[tuple[object, ...], tuple[tuple[str, str], ...]] = {}
    for state in circuit.usual_states():
        branches = circuit.branches(Setup(state))
        signature = tuple((b.id, b.resistance_ohm, b.emf_v if b.part != circuit.battery else 0.0) for b in branches)
        seen.setdefault(signature, state)
    return list(seen.values())


def build_hypotheses(circuit: Circuit, temperature_c: float = 20.0, only: frozenset[str] | None = None) -> HypothesisSet:
    """All hypotheses that could bring a vehicle to the workshop.

    Args:
        only: ids of the faults that are considered; all if left out. A whole vehicle has thousands, of which a triage leaves few.
    """
    listed = [(f, severity) for f in circuit.faults.values() if only is None or f.id in only for severity in f.severities]
    changes = [(), *(severity.changes for _, severity in listed)]
    blown = blown_fuses(circuit, changes, temperature_c)
    audible = _noticeable(circuit, changes, blown, temperature_c)
    kept = [i for i, heard in enumerate(audible[1:]) if heard]
    rates = np.array([listed[i][0].rate * listed[i][1].weight for i in kept])
    prior = np.concatenate([[PRIOR_NONE], (1 - PRIOR_NONE - PRIOR_UNKNOWN) * rates / rates.sum(), [PRIOR_UNKNOWN]])
    suspects = [Suspect(NONE, "", NONE, NONE, NONE)]
    suspects += [
        Suspect(fault.id, severity.label, fault.unit, fault.group, suspect_id(fault, severity))
        for fault, severity in (listed[i] for i in kept)
    ]
    suspects += [Suspect(UNKNOWN, "", UNKNOWN, UNKNOWN, UNKNOWN)]
    units = tuple(dict.fromkeys(s.unit for s in suspects))
    member = np.array([[1.0 if s.unit == unit else 0.0 for unit in units] for s in suspects])
    rows = [0, *(i + 1 for i in kept)]
    found = tuple(changes[i] for i in rows)
    return HypothesisSet(tuple(suspects), found, blown[rows], prior, units, member, *_neighbours(suspects, found))


def _neighbours(suspects: list[Suspect], changes: tuple[tuple[Change, ...], ...]) -> tuple[Ints, Ints]:
    """Indices of the next milder and the next worse resistance of the same fault."""
    milder, worse = np.arange(len(changes)), np.arange(len(changes))
    graded: dict[tuple[str, str], list[tuple[float, int]]] = {}
    for index, (suspect, change) in enumerate(zip(suspects, changes, strict=False)):
        if len(change) == 1:
            for kind, ohms in (("add", change[0].add_ohm), ("set", change[0].set_ohm)):
                if ohms is not None and ohms < OPEN_OHM / 2:
                    graded.setdefault((suspect.fault, kind), []).append((ohms, index))
    for members in graded.values():
        order = [index for _, index in sorted(members)]
        for below, above in itertools.pairwise(order):
            worse[below], milder[above] = above, below
    return milder, worse


def _noticeable(
    circuit: Circuit, changes: list[tuple[Change, ...]], blown: npt.NDArray[np.bool_], temperature_c: float
) -> npt.NDArray[np.bool_]:
    ground = circuit.node(circuit.black_reference)
    heard: npt.NDArray[np.bool_] = np.zeros(len(changes), dtype=bool)
    if blown.size:
        heard = np.any(blown, axis=1)
    pairs = [(node, ground) for node in sorted({point.node for point in circuit.points.values()}) if node != ground]
    for state in distinct_control_states(circuit):
        solver = SetupSolver(circuit, Setup(state, frozenset(), temperature_c), pairs, samples=1)
        volts = solver.solve(changes, blown).volts[0]
        heard = np.logical_or(heard, (np.abs(volts - volts[0]) > NOTICEABLE_V).any(axis=1))
    for index, change in enumerate(changes):  # what does not act any more is noticed, whatever the voltages are
        heard[index] |= any(c.blocks for c in change)
    heard[0] = True
    return heard
