"""A simulated vehicle: one circuit or all of them joined, its hidden faults, its own part tolerances, and a meter that is never exact."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from sondar.core.circuit.model import Change, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.circuit.solver import SetupSolver, blown_fuses
from sondar.core.instruments import (
    BRIGHT_SHARE,
    DIM_SHARE,
    FLOATING_OHM,
    instrument,
    is_live,
    lamp_power_share,
)


class SimulatedVehicle:
    """Answers measurements as a vehicle would.

    Args:
        faults: (fault id, label of its severity or None for the first) of everything that is wrong; none for a healthy vehicle.
        seed: fixes tolerances and meter noise.
        changes: what is wrong as changes of branches, in place of or beside named faults.
    """

    def __init__(
        self, circuit: Circuit, faults: Sequence[tuple[str, str | None]] = (), seed: int = 0, changes: tuple[Change, ...] = ()
    ) -> None:
        self.circuit = circuit
        self._noise = np.random.default_rng(seed)
        tolerances = np.random.default_rng(seed + 1_000_003)
        names = {b.id for b in circuit.branches(circuit.rest_setup())}
        # Tolerances of a real vehicle stay within ±2 standard deviations: worse parts fail inspection.
        self._deviates = {
            key: float(np.clip(tolerances.standard_normal(), -2.0, 2.0)) for name in sorted(names) for key in (name, f"{name}#emf")
        }
        self._changes = changes
        for fault, severity in faults:
            severities = circuit.faults[fault].severities
            self._changes += next((s.changes for s in severities if s.label == severity), severities[0].changes)
        self._blown = blown_fuses(circuit, [self._changes])

    def measure(self, device_id: str, red: str, black: str, setup: Setup) -> tuple[float | None, str | None]:
        """One reading: (SI value, None) or (None, word).

        Raises:
            UnknownReferenceError: no such instrument or point.
        """
        device = instrument(device_id)
        pair = (self.circuit.point(red).node, self.circuit.point(black).node)
        points = SetupSolver(self.circuit, setup, [pair], deviates=self._deviates).solve([self._changes], self._blown)
        volts, ohms = float(points.volts[0, 0, 0]), float(points.ohms[0, 0, 0])
        if device.kind == "lamp":
            share = float(lamp_power_share(device, points)[0, 0, 0])
            return None, "bright" if share >= BRIGHT_SHARE else "dim" if share >= DIM_SHARE else "off"
        if device.kind == "ohms":
            if is_live(points)[0, 0, 0]:
                return None, "volts present"
            if ohms > device.ceiling_ohm:
                return None, "OL"
            return max(0.0, self._with_error(ohms, device.error_share, device.error_floor, 3)), None
        if ohms > FLOATING_OHM and self._noise.random() < 0.5:
            return None, "bouncing"
        shown = volts * device.load_ohm / (device.load_ohm + ohms)
        if ohms > FLOATING_OHM:
            shown += float(self._noise.normal(0.0, 0.15))
        return self._with_error(shown, device.error_share, device.error_floor, 2), None

    def _with_error(self, value: float, share: float, floor: float, decimals: int) -> float:
        bound = share * abs(value) + floor
        return round(value + float(self._noise.uniform(-bound, bound)), decimals)
