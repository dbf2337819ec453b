"""Fuses have a history: what a fault has blown before the technician arrives."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from sondar.core.circuit.families.supply import FUSE_BLOWS_AT
from sondar.core.circuit.model import OPEN_OHM, Change, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.solving.operating_points import Hypothesis, Mask
from sondar.core.solving.solver import SetupSolver, changed_branches


def blown_fuses(circuit: Circuit, hypotheses: Sequence[Hypothesis], temperature_c: float = 20.0) -> Mask:
    """Which fuses each hypothesis has opened (H, n_fuses), with the vehicle in normal use and all plugged in.

    A fault that overloads a fuse in any position of the controls has blown it before the technician arrives. Of two
    overloaded fuses in series, the one with the greater overload opens.
    """
    hindering = np.array([all(_only_hinders(change) for change in changes) for changes in hypotheses], dtype=bool)
    asked = [(), *(changes for changes, may_not in zip(hypotheses, hindering, strict=True) if not may_not)]
    blown = _blown(circuit, asked, temperature_c)
    if blown[0].any():  # the healthy vehicle blows one, so what is in the way may save it
        return _blown(circuit, hypotheses, temperature_c)
    found = np.zeros((len(hypotheses), blown.shape[1]), dtype=bool)
    found[~hindering] = blown[1:]
    return found


def _blown(circuit: Circuit, hypotheses: Sequence[Hypothesis], temperature_c: float) -> Mask:
    blown: Mask | None = None
    paths = changed_branches(hypotheses)
    for controls in circuit.distinct_networks:
        solver = SetupSolver(circuit, Setup(controls, frozenset(), temperature_c), [], samples=1, paths=paths)
        if not solver.fuses:
            return np.zeros((len(hypotheses), 0), dtype=bool)
        ratings = np.array([solver.branches[i].fuse_rating_a for i in solver.fuses], dtype=float)
        ratio = np.abs(solver.solve(hypotheses, blown).fuse_amps[0]) / ratings
        worst = ratio == ratio.max(axis=1, keepdims=True)
        now = (ratio > FUSE_BLOWS_AT) & worst
        blown = now if blown is None else blown | now
    assert blown is not None
    return blown


def _only_hinders(change: Change) -> bool:
    """True for a resistance in the way: that overloads no fuse, and most faults are of this kind."""
    if not change.is_electrical:
        return True
    return (change.add_ohm is not None and change.add_ohm > 0.0) or (change.set_ohm is not None and change.set_ohm >= OPEN_OHM)
