"""How often what fails, before anything is known of a vehicle.

A drawing has many more wires and contacts than parts, and counting places would make nearly every fault a wiring fault. What comes in
is not like that: parts wear by working, and are replaced; wiring fails by where it runs. So each *group* has a share of its own,
whatever the drawing shows, and within its group a fault counts by the rates of its part: wires by length and exposure, contacts by
exposure, parts by what their family goes through. The shares are estimates from practice, coarse on purpose, and the workshop lead may
set others (``Answers.group_shares``).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Fault, Group
from sondar.core.circuit.network import Circuit

Array = npt.NDArray[np.float64]

GROUP_SHARES: Mapping[Group, float] = {"wiring": 0.55, "component": 0.3, "module": 0.06, "system": 0.06, "setting": 0.03}
"""Share of the faults that come in, by whose they are, of those groups that a circuit has."""

GROUP_REASONS: Mapping[Group, str] = {
    "wiring": "wires, contacts, fuses, splices and grounds: the commonest cause of circuit codes, and what a new part never cures",
    "component": "sensors, actuators, switches, relays: they wear by working",
    "module": "control units: sealed and rarely at fault, and the dearest to be wrong about",
    "system": "what a part moves or senses: seized, blocked, worn, damaged, while its circuit is good",
    "setting": "what is taught, coded or adjusted: mostly after work on the vehicle",
}

FAMILY_RATES: Mapping[str, float] = {
    "lamp": 4.0, "fuse": 3.0, "heater": 1.5, "oxygen_sensor": 1.5, "relay": 1.3, "dc_motor": 1.2, "switch": 1.2, "battery": 0.5,
    "bus_end": 0.3, "resistor": 0.6,
}  # fmt: skip
"""How often a part fails relative to an ordinary one of its group: filaments burn out, fuses are made to open, brushes and heaters wear,
a resistor lasts."""


def base_rates(circuit: Circuit, faults: Sequence[Fault], weights: Sequence[float]) -> Array:
    """(F,) how often each of some faults is what comes in, as shares that sum to 1.

    Args:
        weights: (F,) of each entry within its fault, without a unit: one entry per severity.
    """
    rates = np.array([
        fault.rate * FAMILY_RATES.get(circuit.parts[fault.part].family, 1.0) * weight  # type: ignore[attr-defined]
        for fault, weight in zip(faults, weights, strict=True)
    ])  # fmt: skip
    for group, share in GROUP_SHARES.items():
        own = np.array([fault.group == group for fault in faults], dtype=bool)
        if own.any():
            rates[own] *= share / rates[own].sum()
    total = rates.sum()
    return rates / total if total > 0.0 else rates
