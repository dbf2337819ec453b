"""A simulated vehicle as its modules know it: what their monitors found, what they store and forget.

It behaves by the same physics as the measurements (``core.circuit.monitors``) and knows nothing of judging. Each hidden fault is
there all the time, or comes back only some time after clearing, or never; old codes can be left over from an earlier time.
Like a real one it stores what its monitors find, clears on request and tests again as time passes.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from sondar.core.circuit.model import Change
from sondar.core.circuit.vehicle import VehicleNetwork
from sondar.core.codes import is_stored, number_of_code
from sondar.core.solving.monitors import observe
from sondar.simulators.emissions import EmissionModule
from sondar.simulators.live import LiveModules

FAILING, PASSED_BEFORE, NOT_TESTED = 0x2F, 0x28, 0x50
CONDITIONAL_AFTER_S = 40.0
"""Simulated seconds after clearing until a conditional fault's condition comes about."""


@dataclass(frozen=True)
class HiddenFault:
    """What is wrong. ``behaviour``: ``hard``, ``conditional`` (away until its condition comes) or ``gone`` (only its codes are left)."""

    fault: str
    severity: str
    behaviour: str = "hard"


@dataclass
class DiagnosticVehicle:
    """State of one simulated vehicle's modules.

    Attributes:
        clock: seconds, monotonic; replaced in tests.
        speed: simulated seconds per second of the clock.
    """

    network: VehicleNetwork
    faults: Sequence[HiddenFault]
    vin: str
    clock: Callable[[], float] = time.monotonic
    speed: float = 1.0
    cleared_at: float | None = None
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def __post_init__(self) -> None:
        self._remembered: set[str] = set()
        self._work_out()

    def _work_out(self) -> None:
        """What its monitors find of the faults that are hidden in it now."""
        circuit = self.network.network
        always = [f for f in self.faults if f.behaviour == "hard"]
        with_condition = [f for f in self.faults if f.behaviour != "gone"]
        hypotheses = [self._changes(always), self._changes(with_condition), self._changes(self.faults)]
        names = ["+".join(f.fault for f in group) for group in (always, with_condition, self.faults)]
        seen = observe(circuit, hypotheses, names)
        self._hard, self._conditional, self._ever = (
            {code for code, p in zip(seen.codes, seen.code[row], strict=True) if p > 0.5} for row in range(3)
        )
        self._silent = {module for module, p in zip(seen.modules, seen.silent[0], strict=True) if p > 0.5}
        document = circuit.document
        for codes in (self._hard, self._conditional, self._ever):
            # What follows from another code follows if that is likelier than not.
            codes |= {
                c for c, code in document.codes.items() if max((p for k, p in code.follows.items() if k in codes), default=0) >= 0.5
            }

    def repair(self, units: Sequence[str]) -> list[str]:
        """Somebody has repaired or replaced these units: their faults are gone, their codes stay stored until they are cleared.

        Returns:
            ids of the faults that were in them.
        """
        faults = self.network.network.faults
        gone = [hidden for hidden in self.faults if faults[hidden.fault].unit in units]
        if gone:
            with self._lock:
                self._remembered |= {code for code in self._ever if self._status(code, 0.0) & 0x2F}
                self.faults = [hidden for hidden in self.faults if hidden not in gone]
                self._work_out()
                self.__dict__.pop("live", None)
        return [hidden.fault for hidden in gone]

    @cached_property
    def live(self) -> LiveModules:
        """What its modules tell and do; worked out when somebody asks for the first time."""
        document, always = self.network.document, [f for f in self.faults if f.behaviour == "hard"]
        faulty = {self.network.network.faults[f.fault].unit for f in self.faults}
        return LiveModules(
            self.network.network,
            document.data,
            document.commands,
            self._changes(always),
            self.clock,
            document.routines,
            faulty,
            self.speed,
            stored=self.stored_names,
        )

    @cached_property
    def emissions(self) -> EmissionModule | None:
        """What its module for emissions says in OBD services 01, 02 and 09; None if it has none."""
        obd = self.network.document.obd
        return None if obd is None else EmissionModule(obd, self.network.document.data, self.vin)

    def _changes(self, faults: Sequence[HiddenFault]) -> tuple[Change, ...]:
        made: list[Change] = []
        for hidden in faults:
            severities = self.network.network.faults[hidden.fault].severities
            made += next((s.changes for s in severities if s.label == hidden.severity), severities[0].changes)
        return tuple(made)

    def answers(self, module: str) -> bool:
        """False for a module without supply or off the bus."""
        return module not in self._silent

    def clear(self) -> None:
        """Forget all codes; the monitors begin anew."""
        with self._lock:
            self.cleared_at = self.clock()
            self._remembered.clear()
            if self.emissions is not None:
                self.emissions.forget()

    def since_clearing(self) -> float | None:
        """Simulated seconds since the codes were cleared; None if they never were."""
        return None if self.cleared_at is None else (self.clock() - self.cleared_at) * self.speed

    def stored(self, module: str) -> list[int]:
        """Codes of a module that speak of a failure, by number."""
        return [number for number, status in self.codes(module) if is_stored(status)]

    def stored_names(self, module: str) -> list[str]:
        """The same by their names in the circuits."""
        listed = self.network.network.document.codes.items()
        return [name for name, code in listed if code.module == module and is_stored(self._status(name, code.seconds))]

    def codes(self, module: str) -> list[tuple[int, int]]:
        """(three-byte code, status byte) of every code of a module that has any status bit set."""
        found = []
        for name, code in self.network.network.document.codes.items():
            status = self._status(name, code.seconds) if code.module == module else 0
            if status:
                found.append((number_of_code(name[:5], name[6:] or None), status))
        return found

    def _status(self, code: str, seconds: float) -> int:
        if self.cleared_at is None:
            if code in self._conditional:
                return FAILING if code in self._hard else PASSED_BEFORE | 0x02
            return PASSED_BEFORE if code in self._ever or code in self._remembered else 0
        if code in self._remembered:
            return PASSED_BEFORE
        since = (self.clock() - self.cleared_at) * self.speed
        if since < seconds:
            return NOT_TESTED
        if code in self._hard or (code in self._conditional and since >= CONDITIONAL_AFTER_S + seconds):
            return FAILING
        return 0
