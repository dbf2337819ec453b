"""A simulated vehicle: one circuit or all of them joined, its hidden faults, its own part tolerances, and a meter that is never exact."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from sondar.core.circuit.families import Fuse
from sondar.core.circuit.model import Change, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Discovery, Instrument, Population, Test
from sondar.core.instruments.displays import observations, shown_once
from sondar.core.solving.fuses import blown_fuses
from sondar.core.solving.parameters import source_name

MADE_TO = 0.03
"""Relative standard deviation to which parts are made."""

HOT_C, COLD_C, SOMETIMES = 45.0, 0.0, 0.4
BOUND = ("always", "hot", "cold", "wiggled", "sometimes")
"""When a fault is there: all the time, with warm or cold parts, only while the harness is moved, in two readings of five."""


@dataclass(frozen=True)
class Conditions:
    """What nobody has measured yet: how warm the parts are, and how far the meter is off.

    Attributes:
        temperature_c: of the parts, whatever the job says; None: as the set-up says.
        volt_gain, ohm_gain: the meter's gain. lead_ohm: its test leads, added to every resistance.
        decimals: of the meter's voltage display; -1 for the instrument's own.
    """

    temperature_c: float | None = None
    volt_gain: float = 1.0
    ohm_gain: float = 1.0
    lead_ohm: float = 0.0
    decimals: int = -1

    def shown(self, device: Instrument, value: float) -> float:
        """What such a meter shows of a figure."""
        if device.accuracy_of == "ohms":
            return value * self.ohm_gain + self.lead_ohm
        if device.accuracy_of == "volts":
            value *= self.volt_gain
            return round(value, self.decimals) if self.decimals >= 0 else value
        return value


class SimulatedVehicle:
    """Answers measurements as a vehicle would.

    Args:
        faults: (fault id, label of its severity or None for the first, and if it is not always there when: see ``BOUND``) of
            everything that is wrong; none for a healthy vehicle.
        seed: fixes tolerances and meter noise.
        changes: what is wrong as changes of branches, in place of or beside named faults.
        behind: fault ids that those changes are a severity of, for what hands and eyes find.
        conditions: temperature of the parts and errors of the meter.
        bound: when the ``changes`` are there. presence: share of the readings in which a fault is there that is so ``sometimes``;
            provoked: what brings it out as well: hot, cold or wiggled.
    """

    def __init__(
        self, circuit: Circuit, faults: Sequence[Sequence[str | None]] = (), seed: int = 0, changes: tuple[Change, ...] = (),
        behind: Sequence[str] = (), conditions: Conditions = Conditions(), bound: str = "always",
        presence: float = SOMETIMES, provoked: str = "",
    ) -> None:  # fmt: skip
        self.circuit = circuit
        self.conditions = conditions
        self._presence, self._provoked = presence, provoked
        self._noise = np.random.default_rng(seed)
        tolerances = np.random.default_rng(seed + 1_000_003)
        branches = {b.id: b for b in circuit.branches(circuit.rest_setup())}
        # Tolerances of a real vehicle stay within ±2 standard deviations: worse parts fail inspection. The spread of a branch is what
        # nobody knows beforehand about it; what is made to a drawing is made better than that.
        self._deviates = {
            key: float(np.clip(tolerances.standard_normal(), -2.0, 2.0)) * (min(1.0, MADE_TO / max(branch.spread, 1e-9)) if key == name else 1.0)
            for name, branch in sorted(branches.items()) for key in (name, source_name(branch))
        }  # fmt: skip
        self._hidden = [(changes, bound)] if changes else []
        names_of_faults = [str(item[0]) for item in faults]
        for name, item in zip(names_of_faults, faults, strict=True):
            bound = str(item[2]) if len(item) > 2 else "always"
            if bound not in BOUND:
                raise UnknownReferenceError("time at which a fault is there", bound, list(BOUND))
            severities = circuit.faults[name].severities
            self._hidden.append((next((s.changes for s in severities if s.label == item[1]), severities[0].changes), bound))
        self._named = tuple(circuit.faults[fault] for fault in names_of_faults)
        self._faulty = (*self._named, *(circuit.faults[fault] for fault in behind))
        self._found: dict[tuple[str, str], str] = {}
        self._calibration: dict[str, tuple[float, float]] = {}
        self._changes: tuple[Change, ...] = ()
        self._blown = blown_fuses(circuit, [()])
        self._be(20.0, wiggled=False)

    def repair(self, units: Sequence[str]) -> None:
        """Somebody has repaired or replaced these units: named faults in them are gone, and are found nowhere any more."""
        left = [index for index, fault in enumerate(self._named) if fault.unit not in units]
        self._hidden = [
            *self._hidden[: len(self._hidden) - len(self._named)],
            *(self._hidden[index - len(self._named)] for index in left),
        ]
        self._named = tuple(self._named[index] for index in left)
        self._faulty = tuple(fault for fault in self._faulty if fault.unit not in units)
        self._found.clear()

    def _be(self, temperature_c: float, *, wiggled: bool) -> None:
        """Let the faults be there that are there now."""
        there = {
            "always": True, "hot": temperature_c >= HOT_C, "cold": temperature_c <= COLD_C, "wiggled": wiggled,
            "sometimes": any(b == "sometimes" for _, b in self._hidden) and self._noise.random() < self._presence,
        }  # fmt: skip
        now = tuple(change for changes, bound in self._hidden if there[bound] for change in changes)
        if now != self._changes:
            self._changes, self._blown = now, blown_fuses(self.circuit, [now])

    def measure(self, device_id: str, red: str, black: str, setup: Setup) -> tuple[float | None, str | None]:
        """One reading: (SI value, None) or (None, word).

        Raises:
            UnknownReferenceError: no such instrument or point, or nothing there that it could look at.
        """
        device = instrument(device_id)
        for ref in (red, black):
            self.circuit.point(ref)
        if self.conditions.temperature_c is not None:
            setup = replace(setup, temperature_c=self.conditions.temperature_c)
        self._be(setup.temperature_c, wiggled=device.finding)
        if device.finding:
            return None, self._find(device, red)
        test = Test(device.id, red, black, setup)
        population = Population(self.circuit, setup, [self._changes], self._blown, samples=1, deviates=self._deviates)
        [(_, seen)] = observations({device.id: device}, population, [test]).values()
        value, word = shown_once(
            device, seen, self._noise, self._calibration.setdefault(device.accuracy_of or device.id, self._drawn())
        )
        return (value if value is None else self.conditions.shown(device, value)), word

    def _drawn(self) -> tuple[float, float]:
        """How far an instrument's gain and zero are off."""
        return float(self._noise.uniform(-1.0, 1.0)), float(self._noise.uniform(-1.0, 1.0))

    def _find(self, device: Instrument, place: str) -> str:
        """What hands and eyes find at a place: the same each time they try."""
        key = (device.id, place)
        if key not in self._found:
            wires = self.circuit.document.wires
            here = [f for f in self._faulty if place in (f.part, f.unit, f.unit.removesuffix("@system"), f.part.split(".")[0])]
            ends = [
                f
                for f in self._faulty
                if f.part in wires and place in (wires[f.part].from_.split(".")[0], wires[f.part].to.split(".")[0])
            ]
            when = {bound for _, bound in self._hidden} | {self._provoked}
            fuses = [name for name, part in self.circuit.parts.items() if isinstance(part, Fuse)]
            overloaded = place in fuses and bool(self._blown[0, fuses.index(place)])
            discovery = Discovery(place, tuple(here), tuple(ends), self._faulty, "wiggled" in when, frozenset(when), overloaded)
            self._found[key] = device.words[0 if device.discovered(discovery, self._noise.random()) else 1]
        return self._found[key]
