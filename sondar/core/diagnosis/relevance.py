"""Which faults change what a vehicle does, and not only what a meter shows.

A vehicle comes in because something does not work, a lamp is on, or the battery is flat. A contact with twenty ohms in front of an input
of a hundred kilohms is a fault that a good meter may find, and nobody brings a vehicle for it. Such faults stay suspects, since a contact
that has some resistance today may have been open yesterday, but they come in far less often than those that matter.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.families import Battery, PulledInput
from sondar.core.circuit.model import Branch, Change, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.base import Population

Array = npt.NDArray[np.float64]
Flags = npt.NDArray[np.bool_]

HARDLY = 0.3
"""How often a fault that changes nothing in what the vehicle does comes in, beside the same fault that does."""
CURRENT_SHARE, CURRENT_A = 0.1, 0.02
"""A part works differently if its current changes by more than this share of it and by more than this; twenty milliamperes are also what
a parked vehicle's battery can bear."""
VOLTAGE_SHARE, VOLTAGE_V = 0.02, 0.1
"""A module sees something else, and a part is supplied badly, if a voltage changes by more than this share of it and this much: of a
battery's voltage a quarter of a volt, about what the trade lets a good line lose."""
MOST_SOLVED = 4_000_000
"""Hypotheses times control positions times branches from which on it is not asked: every fault then counts as one that matters."""


def matters(circuit: Circuit, changes: Sequence[tuple[Change, ...]], blown: Flags, temperature_c: float) -> Flags:
    """(H,) hypotheses under which a part is supplied or acts differently, or a module sees something else, in some usual state.

    Everything is connected. A fuse that blows, a part that is blocked, and one that begins late or moves slowly always matter.

    Args:
        changes: (H,) of each hypothesis, the first a sound vehicle, for which the answer means nothing. blown: (H, n_fuses) fuses that each
            has opened. temperature_c: of the parts.

    Raises:
        UnsolvableNetworkError: a curve did not converge.
    """
    states = circuit.distinct_networks
    if len(changes) * len(states) * len(circuit.branches(Setup(states[0]))) > MOST_SOLVED:
        return np.ones(len(changes), dtype=bool)
    found = np.array([any(c.blocks or c.lag_scale or c.dead_s for c in change) for change in changes], dtype=bool)
    if blown.size:
        found |= blown.any(axis=1)
    pins = [
        (circuit.node(f"{name}.pin"), circuit.node(f"{name}.gnd"))
        for name, part in circuit.parts.items()
        if isinstance(part, PulledInput)
    ]
    working = {name for name, part in circuit.parts.items() if part.GROUP != "wiring" or isinstance(part, Battery)}
    for state in states:
        left = np.concatenate([[0], 1 + np.flatnonzero(~found[1:])])
        if len(left) == 1:
            break
        setup = Setup(state, frozenset(), temperature_c)
        branches = [branch for branch in circuit.branches(setup) if branch.part in working and _is_there(branch)]
        pairs = [*pins, *((circuit.node(branch.a), circuit.node(branch.b)) for branch in branches)]
        population = Population(circuit, setup, [changes[i] for i in left], blown[left], samples=1)
        waves = population.solve(pairs, [branch.id for branch in branches])
        volts = waves.mean([points.volts for points in waves.states])[0]
        amps = waves.mean([points.flow_amps for points in waves.states])[0]
        found[left] |= _differs(volts, VOLTAGE_SHARE, VOLTAGE_V) | _differs(amps, CURRENT_SHARE, CURRENT_A)
    return found


def _is_there(branch: Branch) -> bool:
    """False for a path that only a fault makes."""
    return branch.curve is not None or math.isfinite(branch.resistance_ohm)


def _differs(figures: Array, share: float, floor: float) -> Flags:
    """(H,) rows in which some figure (H, P) is further from that of the first row than a share of it and a floor."""
    if not figures.shape[1]:
        return np.zeros(len(figures), dtype=bool)
    apart = np.abs(figures - figures[:1])
    return np.asarray((apart > np.maximum(floor, share * np.abs(figures[:1]))).any(axis=1))
