"""A simulated vehicle: one circuit or all of them joined, its hidden faults, its own part tolerances, and a meter that is never exact."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from sondar.core.circuit.model import Change, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.circuit.solver import blown_fuses, solve_waves
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments import (
    BRIGHT_SHARE,
    DIM_SHARE,
    FLOATING_OHM,
    alternating,
    duty,
    frequency,
    instrument,
    is_live,
    lamp_power_share,
    led,
    loaded,
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
        circuit = self.circuit
        for ref in (red, black):
            circuit.point(ref)
        acts = circuit.parts[red].acts(red, setup) if device.kind == "senses" and red in circuit.parts else None
        flows = [acts.branch] if acts is not None else [red] if device.kind == "amps" else []
        pair = (f"{red}.pin", f"{red}.gnd") if device.kind == "scan" else (circuit.point(red).node, circuit.point(black).node)
        waves = solve_waves(
            circuit,
            setup,
            [(circuit.node(pair[0]), circuit.node(pair[1]))],
            [self._changes],
            self._blown,
            deviates=self._deviates,
            flows=flows,
        )
        if device.kind == "senses":
            if acts is None:
                raise UnknownReferenceError("part that acts", red, list(circuit.targets))
            amps = abs(float(waves.mean([p.flow_amps for p in waves.instants])[0, 0, 0]))
            blocked = any(change.blocks and change.branch == acts.branch for change in self._changes)
            return None, "nothing" if blocked or amps < acts.weak_a else "weak" if amps < acts.full_a else "acts"
        if device.kind == "amps":
            amps = float(waves.mean([p.flow_amps for p in waves.instants])[0, 0, 0])
            return self._with_error(amps, device.error_share, device.error_floor, 2), None
        if device.kind == "led":
            return None, device.words[int(led(waves)[0, 0, 0].argmax())]
        if device.kind in ("hertz", "duty"):
            value, none = frequency(device, waves) if device.kind == "hertz" else duty(device, waves)
            if none[0, 0, 0]:
                return None, "no signal"
            return self._with_error(float(value[0, 0, 0]), device.error_share, device.error_floor, 1), None
        if device.kind == "ac":
            return abs(
                self._with_error(float(alternating(device, waves)[0, 0, 0]), device.error_share, device.error_floor, 2)
            ), None
        if device.kind == "scan":
            return self._with_error(
                float(waves.mean([p.volts for p in waves.instants])[0, 0, 0]), device.error_share, device.error_floor, 2
            ), None
        if device.kind == "lamp":
            share = float(waves.mean([lamp_power_share(device, p) for p in waves.instants])[0, 0, 0])
            return None, "bright" if share >= BRIGHT_SHARE else "dim" if share >= DIM_SHARE else "off"
        points = waves.instants[0]
        ohms = float(points.ohms[0, 0, 0])
        if device.kind == "ohms":
            if is_live(points)[0, 0, 0]:
                return None, "volts present"
            if ohms > device.ceiling_ohm:
                return None, "OL"
            return max(0.0, self._with_error(ohms, device.error_share, device.error_floor, 3)), None
        if ohms > FLOATING_OHM and self._noise.random() < 0.5:
            return None, "bouncing"
        shown = float(waves.mean([loaded(p, device.load_ohm) for p in waves.instants])[0, 0, 0])
        if ohms > FLOATING_OHM:
            shown += float(self._noise.normal(0.0, 0.15))
        return self._with_error(shown, device.error_share, device.error_floor, 2), None

    def _with_error(self, value: float, share: float, floor: float, decimals: int) -> float:
        bound = share * abs(value) + floor
        return round(value + float(self._noise.uniform(-bound, bound)), decimals)
