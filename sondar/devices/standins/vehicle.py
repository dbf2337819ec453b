"""A simulated vehicle: one circuit or all of them joined, its hidden faults, its own part tolerances, and a meter that is never exact."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from sondar.core.circuit.families import PulledInput
from sondar.core.circuit.model import Change, Setup
from sondar.core.circuit.monitors import answer_chance
from sondar.core.circuit.network import PROBE_TRIPS_A, Circuit
from sondar.core.circuit.probing import Drive, driven_part, driven_setup, probe_branch
from sondar.core.circuit.solver import blown_fuses, solve_waves
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments import (
    BRIGHT_SHARE,
    DIM_SHARE,
    FINDINGS,
    FLOATING_OHM,
    Instrument,
    alternating,
    duty,
    frequency,
    instrument,
    is_live,
    lamp_power_share,
    led,
    level,
    loaded,
    source,
    weak_pull,
)

HOT_C, COLD_C, SOMETIMES = 45.0, 0.0, 0.4
BOUND = ("always", "hot", "cold", "wiggled", "sometimes")
"""When a fault is there: all the time, with warm or cold parts, only while the harness is moved, in two readings of five."""


class SimulatedVehicle:
    """Answers measurements as a vehicle would.

    Args:
        faults: (fault id, label of its severity or None for the first, and if it is not always there when: see ``BOUND``) of
            everything that is wrong; none for a healthy vehicle.
        seed: fixes tolerances and meter noise.
        changes: what is wrong as changes of branches, in place of or beside named faults.
        behind: fault ids that those changes are a strength of, for what hands and eyes find.
    """

    def __init__(
        self, circuit: Circuit, faults: Sequence[Sequence[str | None]] = (), seed: int = 0, changes: tuple[Change, ...] = (),
        behind: Sequence[str] = (),
    ) -> None:  # fmt: skip
        self.circuit = circuit
        self._noise = np.random.default_rng(seed)
        tolerances = np.random.default_rng(seed + 1_000_003)
        names = {b.id for b in circuit.branches(circuit.rest_setup())}
        # Tolerances of a real vehicle stay within ±2 standard deviations: worse parts fail inspection.
        self._deviates = {
            key: float(np.clip(tolerances.standard_normal(), -2.0, 2.0)) for name in sorted(names) for key in (name, f"{name}#emf")
        }
        self._hidden = [(changes, "always")] if changes else []
        names_of_faults = [str(item[0]) for item in faults]
        for name, item in zip(names_of_faults, faults, strict=True):
            bound = str(item[2]) if len(item) > 2 else "always"
            if bound not in BOUND:
                raise UnknownReferenceError("time at which a fault is there", bound, list(BOUND))
            severities = circuit.faults[name].severities
            self._hidden.append((next((s.changes for s in severities if s.label == item[1]), severities[0].changes), bound))
        self._faulty = tuple(circuit.faults[fault] for fault in (*names_of_faults, *behind))
        self._found: dict[tuple[str, str], str] = {}
        self._changes: tuple[Change, ...] = ()
        self._blown = blown_fuses(circuit, [()])
        self._be(20.0, wiggled=False)

    def _be(self, temperature_c: float, *, wiggled: bool) -> None:
        """Let the faults be there that are there now."""
        there = {
            "always": True, "hot": temperature_c >= HOT_C, "cold": temperature_c <= COLD_C, "wiggled": wiggled,
            "sometimes": any(b == "sometimes" for _, b in self._hidden) and self._noise.random() < SOMETIMES,
        }  # fmt: skip
        now = tuple(change for changes, bound in self._hidden if there[bound] for change in changes)
        if now != self._changes:
            self._changes, self._blown = now, blown_fuses(self.circuit, [now])

    def measure(self, device_id: str, red: str, black: str, setup: Setup) -> tuple[float | None, str | None]:
        """One reading: (SI value, None) or (None, word).

        Raises:
            UnknownReferenceError: no such instrument or point.
        """
        device = instrument(device_id)
        circuit = self.circuit
        for ref in (red, black):
            circuit.point(ref)
        self._be(setup.temperature_c, wiggled=device.kind == "wiggle")
        if device.kind in FINDINGS:
            return None, self._find(device, red)
        if device.kind == "answers":
            chance = answer_chance(circuit, red, [self._changes], self._blown, setup.temperature_c)
            return None, device.words[0 if chance[0] > 0.5 else 1]
        if device.kind == "drive":
            return None, self._drive("ground" if device.id == "probe-ground" else "supply", red, black, setup)
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
            volts = float(waves.mean([p.volts for p in waves.instants])[0, 0, 0])
            part = circuit.parts[red]
            if isinstance(part, PulledInput) and not part.valid_low_v <= volts <= part.valid_high_v:
                volts = part.substitute_v
            return self._with_error(volts, device.error_share, device.error_floor, 2), None
        if device.kind == "lamp":
            share = float(waves.mean([lamp_power_share(device, p) for p in waves.instants])[0, 0, 0])
            return None, "bright" if share >= BRIGHT_SHARE else "dim" if share >= DIM_SHARE else "off"
        if device.kind in ("top", "bottom"):
            return self._with_error(float(level(device, waves)[0, 0, 0]), device.error_share, device.error_floor, 2), None
        points = waves.instants[0]
        ohms = float(points.ohms[0, 0, 0])
        if device.kind == "source":
            if source(points)[1][0, 0, 0]:
                return None, "no supply"
            return max(0.0, self._with_error(ohms, device.error_share, device.error_floor, 2)), None
        if device.kind == "pull":
            return None, device.words[int(weak_pull(points)[0, 0, 0].argmax())]
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

    def _drive(self, drive: Drive, red: str, black: str, setup: Setup) -> str:
        run = driven_part(self.circuit, setup, drive, red, black)
        driven = driven_setup(setup, drive, red, black)
        flows = [probe_branch(drive)] if run is None else [probe_branch(drive), run[1].branch]
        waves = solve_waves(self.circuit, driven, [], [self._changes], self._blown, deviates=self._deviates, flows=flows)
        probe, *through = np.abs(waves.mean([p.flow_amps for p in waves.instants])[0, 0])
        if probe > PROBE_TRIPS_A:
            return "trips"
        if run is None:
            return "nothing"
        acts, amps = run[1], through[0]
        blocked = any(change.blocks and change.branch == acts.branch for change in self._changes)
        return "nothing" if blocked or amps < acts.weak_a else "weak" if amps < acts.full_a else "acts"

    def _find(self, device: Instrument, place: str) -> str:
        """What hands and eyes find at a place: the same each time they try. Wiring damage shows about every other time."""
        key = (device.id, place)
        if key not in self._found:
            wires = self.circuit.document.wires
            here = [f for f in self._faulty if place in (f.part, f.unit, f.unit.removesuffix("@system"), f.part.split(".")[0])]
            ends = [
                f
                for f in self._faulty
                if f.part in wires and place in (wires[f.part].from_.split(".")[0], wires[f.part].to.split(".")[0])
            ]
            luck = self._noise.random()
            first, second = device.words
            if device.kind == "look":
                seen = any(f.group == "wiring" for f in here) and luck < 0.55
                self._found[key] = first if seen or luck < 0.03 else second
            elif device.kind == "wiggle":
                loose = any(bound == "wiggled" for _, bound in self._hidden) and bool(here or ends)
                self._found[key] = first if loose or (here and luck < 0.35) or (ends and luck < 0.15) or luck < 0.02 else second
            elif device.kind == "swap":
                self._found[key] = first if any(f.unit == place for f in here) and luck < 0.96 else second
            elif device.kind == "clean":
                dirty = any(f.mode in ("resistance", "stuck", "blocked") for f in here)
                self._found[key] = first if dirty and luck < 0.7 else second
            else:
                truly_so = all(f.group == "system" for f in self._faulty)
                self._found[key] = first if truly_so == (luck < 0.92) else second
        return self._found[key]

    def _with_error(self, value: float, share: float, floor: float, decimals: int) -> float:
        bound = share * abs(value) + floor
        return round(value + float(self._noise.uniform(-bound, bound)), decimals)
