"""What sits behind a module's pins: drivers that sink or source a load, and inputs held by a resistor."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from sondar.core.circuit.families.base import (
    ActiveWhen,
    Drawn,
    Part,
    Positive,
    Quantity,
    awake_with_the_key,
    listed,
    normalised,
    path_severities,
    series_severities,
    source_severities,
)
from sondar.core.circuit.model import OPEN_OHM, Branch, Change, Curve, Fault, Group, Setup, Severity, is_active

LOW_SUPPLY = (0.0, 0.2, 0.4, 0.6, 0.75, 0.85)
"""Shares of its voltage that a failing internal supply or reference still gives."""

INSIDE_SPREAD = 0.12
"""Least relative standard deviation of a resistor inside a module: nobody publishes it, documents have it from another variant."""


OFF = "off"
"""State of a transistor that leaks, of a reference that sleeps: nothing learned of one that is on tells of it."""

LIMIT_KNEE_V = 0.2
"""Voltage within which a limited output comes to its limit."""

BODY_DIODE = (0.7, 0.05, 1e9)
"""Knee, resistance above it and leakage of a transistor's body diode, in V and Ω."""


class Driver(Part):
    """A transistor: on-resistance when commanded, leakage when not. Fields shared by both sides."""

    on_when: ActiveWhen = Field(description="Controls and values that switch it on, e.g. {key: [on, run], fan: on}.")
    on_ohm: Positive = 0.25
    leakage_a: Positive = Field(5e-6, description="Off-state leakage in amperes at 12 V.")
    duty_share: float | None = Field(
        None, gt=0.0, lt=1.0, description="Share of the time it conducts when switched on; steady if left out."
    )
    pulses_hz: Positive = Field(100.0, description="How often it switches in a second, with duty_share.")
    limit_a: Positive | None = Field(
        None, description="Current in amperes at which a protected driver limits or cuts off; unlimited if left out."
    )
    open_load_v: Quantity | None = Field(
        None,
        description="Voltage between output and ground (low side) or feed (high side) at which the module holds an output that is "
        "off, to see whether its load is there; none if left out.",
    )
    open_load_ohm: Positive = Field(20e3, description="Resistance behind open_load_v, in ohms.")
    body_diode: bool = Field(False, description="Conducts backwards from 0.7 V on, as a field-effect transistor does.")

    GROUP: ClassVar[Group] = "module"
    CLOSED_TO: ClassVar[str] = "ground"

    def control_values(self) -> dict[str, list[str]]:
        return listed(self.on_when)

    def duty(self, part_id: str, setup: Setup) -> float | None:
        return self.duty_share if is_active(normalised(self.on_when), setup) else None

    def frequency_hz(self, setup: Setup) -> float:
        return self.pulses_hz

    def sketch(self, part_id: str) -> list[Drawn]:
        first, second = self.TERMINALS
        return [(part_id, "driver", f"{part_id}.{first}", f"{part_id}.{second}")]

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        on = is_active(normalised(self.on_when), setup) and setup.is_high(part_id)
        first, second = (f"{part_id}.{terminal}" for terminal in self.TERMINALS)
        inner = second if self.limit_a is None else f"{part_id}.limited"
        ohms = self.on_ohm if on else 12.0 / self.leakage_a
        made = [Branch(part_id, part_id, first, inner, ohms, spread=0.9 if on else 0.5, state="" if on else OFF)]
        if self.limit_a is not None:
            made.append(Branch(f"{part_id}.limit", part_id, inner, second, curve=Curve("sink", (self.limit_a, LIMIT_KNEE_V, 0.0))))
        if self.open_load_v is not None:
            made.append(self._open_load_test(part_id, setup, active=not on))
        if self.body_diode:
            made.append(Branch(f"{part_id}.body", part_id, second, first, curve=Curve("diode", BODY_DIODE)))
        return made

    def _open_load_test(self, part_id: str, setup: Setup, *, active: bool) -> Branch:
        """What holds the output while it is off and the module awake, so that the module sees whether the load is there."""
        keys = normalised(self.on_when).get("key")
        active = active and (keys is None or setup["key"] in keys)
        other = next(terminal for terminal in self.TERMINALS if terminal != "out")
        volts = (self.open_load_v or 0.0) * (1.0 if other == "gnd" else -1.0) if active else 0.0
        return Branch(
            f"{part_id}.detect", part_id, f"{part_id}.out", f"{part_id}.{other}", self.open_load_ohm if active else OPEN_OHM, volts,
            INSIDE_SPREAD, 0.05 * abs(volts),
        )  # fmt: skip

    def faults(self, part_id: str) -> list[Fault]:
        dead = (Severity("open", 1.0, (Change(part_id, set_ohm=OPEN_OHM),)),)
        stuck = (Severity("on", 1.0, (Change(part_id, set_ohm=self.on_ohm),)),)
        return [
            self.fault(part_id, "dead", "does not switch on", 1.2, part_id, dead),
            self.fault(part_id, "stuck_on", f"stuck on, shorted to {self.CLOSED_TO}", 0.5, part_id, stuck),
            self.fault(part_id, "weak", "switches on with high resistance", 0.4, part_id,
                       series_severities(part_id, (1.0, 3.0, 10.0, 30.0, 100.0, 300.0))),
        ]  # fmt: skip


class LowSideDriver(Driver):
    """Sinks a fed load: terminal ``out`` to the load, ``gnd`` to the module's ground."""

    family: Literal["low_side_driver"]
    TERMINALS: ClassVar[tuple[str, ...]] = ("out", "gnd")
    NOUN: ClassVar[str] = "Low-side driver"


class HighSideDriver(Driver):
    """Feeds a grounded load: terminal ``feed`` from the module's supply, ``out`` to the load."""

    family: Literal["high_side_driver"]
    TERMINALS: ClassVar[tuple[str, ...]] = ("feed", "out")
    NOUN: ClassVar[str] = "High-side driver"
    CLOSED_TO: ClassVar[str] = "supply"


class PulledInput(Part):
    """A module input: ``pin`` held by a resistor, to an internal supply (pull-up) or to ground (pull-down)."""

    family: Literal["module_input"]
    pull: Literal["up", "down"]
    pull_ohm: Positive
    supply_v: Quantity = Field(5.0, description="Internal supply of a pull-up, in volts, when active.")
    active_when: ActiveWhen = Field(default_factory=awake_with_the_key, description="When the module is awake.")
    tolerance: Positive = Field(
        0.15, description="Relative standard deviation of the pull resistor, as far as anybody has published it."
    )
    valid_low_v: Quantity = Field(-100.0, description="Below this the module shows a substituted value.")
    valid_high_v: Quantity = Field(100.0, description="Above this the module shows a substituted value.")
    substitute_v: Quantity = Field(0.0, description="The value it shows in place of one that is out of range, as volts.")

    GROUP: ClassVar[Group] = "module"
    TERMINALS: ClassVar[tuple[str, ...]] = ("pin", "gnd")
    NOUN: ClassVar[str] = "Module input"
    SEVERAL_SYMBOLS: ClassVar[bool] = True

    @property
    def substitutes(self) -> bool:
        """True if the module puts a value of its own in place of one that cannot be."""
        return self.valid_low_v > -100.0 or self.valid_high_v < 100.0

    def control_values(self) -> dict[str, list[str]]:
        return listed(self.active_when)

    def sketch(self, part_id: str) -> list[Drawn]:
        if self.pull == "up":
            return [(f"{part_id}.pull", "pull-up", f"supply:{part_id}", f"{part_id}.pin")]
        return [(f"{part_id}.pull", "pull-down", f"{part_id}.pin", f"{part_id}.gnd")]

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        awake = is_active(normalised(self.active_when), setup)
        emf = self.supply_v if self.pull == "up" and awake else 0.0
        pin, gnd = f"{part_id}.pin", f"{part_id}.gnd"
        return [
            Branch(f"{part_id}.pull", part_id, pin, gnd, self.pull_ohm, emf, max(self.tolerance, INSIDE_SPREAD), 0.005 * abs(emf)),
            Branch(f"{part_id}.leak", part_id, pin, gnd),
        ]

    def faults(self, part_id: str) -> list[Fault]:
        pull, leak = f"{part_id}.pull", f"{part_id}.leak"
        found = [
            self.fault(part_id, "pull_open", f"pull-{self.pull} open", 0.5, pull,
                       (Severity("open", 1.0, (Change(pull, set_ohm=OPEN_OHM),)),)),
            self.fault(part_id, "leak", "input leaks to ground", 0.5, leak, path_severities(leak, (0.5, 5.0, 50.0, 200.0, 1e3, 5e3, 2e4, 1e5))),
        ]  # fmt: skip
        if self.pull == "up":
            found.append(self.fault(part_id, "supply", "internal supply too low", 0.4, pull, source_severities(pull, LOW_SUPPLY)))
        return found
