"""What differs between one healthy vehicle and the next, and what nobody has measured yet: names, and directions in the network.

A *parameter* is a standard normal deviate with a name: the tolerance of one branch (its id, and its state where it
has several), of one source (``ID#emf``), a cause that
several sources share (battery charge), or the temperature of the parts. A *direction* says how far every branch's resistance (as a
natural logarithm) and source voltage move per unit of it, so that the network can be linearised around the nominal vehicle once and
followed along as many directions as one likes (GUM, JCGM 100:2008, 5.1.3; adjoint of a network after Director and Rohrer,
*The generalized adjoint network and network sensitivities*, IEEE Trans. CT-16, 1969).
"""

from __future__ import annotations

import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from scipy.special import ndtri

from sondar.core.circuit.model import OPEN_OHM, Branch, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.solving.operating_points import Array

TEMPERATURE = "temperature"
"""Name of the parameter of the parts' temperature; its unit is one kelvin."""

BATTERY = "battery"
"""Name of the direction along the battery's voltage, whatever moves it; its unit is one volt."""

SHARED = (BATTERY, TEMPERATURE)
"""Directions that every reading of a vehicle shares and that a technician can measure by themselves."""


MANY_BRANCHES, CONDUCTOR_OHM = 800, 0.05
"""In the network of a whole vehicle the tolerances of conductors below this are left out."""


DOUBT_STEP = 0.02
"""Step of a figure's logarithm by which it is seen how the network follows it."""


def source_name(branch: Branch) -> str:
    """Parameter of a branch's own source voltage."""
    return f"{branch.id}#emf"


@dataclass(frozen=True, eq=False)
class Directions:
    """How branches move along C directions.

    Attributes:
        log_ohm: (Q, C) change of the natural logarithm of each branch's healthy resistance.
        emf: (Q, C) change of each branch's source voltage in volts.
    """

    log_ohm: Array
    emf: Array

    def along(self, weights: Array) -> Directions:
        """Combined directions; ``weights`` (C, N)."""
        return Directions(self.log_ohm @ weights, self.emf @ weights)


def parameter_names(circuit: Circuit, branches: Sequence[Branch]) -> list[str]:
    """Parameters that some branch of a set-up depends on, the temperature last."""
    found: dict[str, None] = dict.fromkeys(circuit.doubts)
    least = CONDUCTOR_OHM if len(branches) > MANY_BRANCHES else 0.0
    for branch in branches:
        if _varies(branch) and _nominal_ohm(branch) >= least:
            found[branch.tolerance] = None
        if branch.emf_spread_v:
            found[source_name(branch)] = None
        found.update((name, None) for name, _ in branch.causes)
    return [*found, TEMPERATURE]


def _nominal_ohm(branch: Branch) -> float:
    return branch.resistance_ohm if branch.contact is None else branch.contact.closed_ohm


def _varies(branch: Branch) -> bool:
    ohms = _nominal_ohm(branch)
    return bool(branch.spread) and branch.curve is None and np.isfinite(ohms) and ohms < OPEN_OHM


def directions(circuit: Circuit, setup: Setup, branches: Sequence[Branch], names: Sequence[str]) -> Directions:
    """One direction per parameter, in the order of ``names``; those that a set-up does not know move nothing in it."""
    column = {name: index for index, name in enumerate(names)}
    log_ohm, emf = np.zeros((len(branches), len(names))), np.zeros((len(branches), len(names)))
    for row, branch in enumerate(branches):
        if branch.tolerance in column and _varies(branch):
            log_ohm[row, column[branch.tolerance]] = np.sinh(branch.spread)  # wide spreads are skewed: ×3 is further than ÷3
        if source_name(branch) in column:
            emf[row, column[source_name(branch)]] = branch.emf_spread_v
        for name, volts in branch.causes:
            if name in column:
                emf[row, column[name]] += volts
        if BATTERY in column and branch.part == circuit.battery and branch.emf_v:
            emf[row, column[BATTERY]] = 1.0
    rows = {branch.id: row for row, branch in enumerate(branches)}
    for name, (part_id, field, sd) in circuit.doubts.items():
        if name in column:
            part = circuit.parts[part_id]
            other = part.otherwise(field, float(np.exp(DOUBT_STEP))).branches(part_id, setup)
            for here, there in zip(part.branches(part_id, setup), other, strict=True):
                if here.id in rows:
                    log_ohm[rows[here.id], column[name]] = np.sinh(sd) * _log_ratio(here, there) / DOUBT_STEP
                    emf[rows[here.id], column[name]] = sd * (there.emf_v - here.emf_v) / DOUBT_STEP
    if TEMPERATURE in column:
        warmer = {branch.id: branch for branch in circuit.branches(replace(setup, temperature_c=setup.temperature_c + 1.0))}
        log_ohm[:, column[TEMPERATURE]] = [_log_ratio(cold, warmer[cold.id]) for cold in branches]
    return Directions(log_ohm, emf)


def _log_ratio(one: Branch, other: Branch) -> float:
    """Logarithm of how much more resistance a branch has otherwise; 0 where it has none or no figure."""
    before, after = _nominal_ohm(one), _nominal_ohm(other)
    usable = np.isfinite(before) and np.isfinite(after) and before > 0.0 and after > 0.0
    return float(np.log(after / before)) if usable else 0.0


@lru_cache(maxsize=4096)
def sample_normals(name: str, samples: int) -> Array:
    """Standard normal deviates (samples,) for one parameter; entry 0 is 0, the nominal vehicle.

    Stratified and shuffled by a seed from the parameter's name, so results do not depend on order or process.
    """
    if samples == 1:
        return np.zeros(1)
    strata = ndtri((np.arange(samples - 1) + 0.5) / (samples - 1))
    order = np.random.default_rng(zlib.crc32(name.encode())).permutation(samples - 1)
    deviates: Array = np.concatenate([[0.0], strata[order]])
    deviates.setflags(write=False)
    return deviates


def sample_matrix(names: Sequence[str], samples: int, scale: Mapping[str, float]) -> Array:
    """(D, samples − 1) deviates of every parameter without the nominal vehicle, each times its scale (1 if not given)."""
    if not names:
        return np.zeros((0, samples - 1))
    return np.stack([sample_normals(name, samples)[1:] * scale.get(name, 1.0) for name in names])
