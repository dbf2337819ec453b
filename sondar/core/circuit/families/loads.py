"""Loads: plain resistance, solenoid coil, lamp, DC motor."""

from __future__ import annotations

from typing import ClassVar, Literal, Self

import numpy as np
import numpy.typing as npt
from pydantic import Field, model_validator

from sondar.core.circuit.families.base import Part, Positive, open_severity, path_severities, scale_severities, series_severities
from sondar.core.circuit.model import Acts, Branch, Change, Curve, Fault, Setup, Severity, copper_resistance

HIGH_SHARES = (0.3, 0.6, 1.2, 2.5, 5.0, 12.0, 30.0, 100.0)
"""Added resistance in a load, as multiples of its own."""

SERIES_LOAD_OHM = (0.1, 0.3, 1.0, 3.0, 10.0, 30.0, 100.0, 300.0)


def motor_parameters(rated_v: float, rated_a: float, armature_ohm: float, friction_share: float) -> tuple[float, float, float]:
    """Curve parameters of a permanent-magnet motor with a fan load from its rated point; see ``solving.curves.motor_current``."""
    friction_a = friction_share * rated_a
    back_emf = rated_v - rated_a * armature_ohm
    return armature_ohm, (rated_a - friction_a) / back_emf**2, friction_a


class ResistiveLoad(Part):
    """A heater or a plain resistor."""

    family: Literal["resistor"]
    resistance_ohm: Positive
    tolerance: Positive = Field(0.1, description="Relative standard deviation among good parts.")

    NOUN: ClassVar[str] = "Load"

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        return [Branch(part_id, part_id, f"{part_id}.1", f"{part_id}.2", self.resistance_ohm, spread=self.tolerance)]

    def faults(self, part_id: str) -> list[Fault]:
        return [
            self.fault(part_id, "open", "open circuit", 1.0, part_id, open_severity(part_id)),
            self.fault(part_id, "short", "internally shorted", 0.3, part_id, scale_severities(part_id)),
            self.fault(part_id, "resistance", "resistance too high", 0.3, part_id,
                       series_severities(part_id, tuple(self.resistance_ohm * f for f in HIGH_SHARES))),
        ]  # fmt: skip


class Solenoid(Part):
    """A valve or lock coil: copper, so its resistance follows temperature. A stuck plunger is not electrical."""

    family: Literal["solenoid"]
    coil_ohm: Positive
    tolerance: Positive = Field(0.1, description="Relative standard deviation among good parts.")
    moves: str = Field(
        "", description="What it moves, e.g. 'Purge valve'; adds the fault that this is stuck while the coil is good."
    )

    short_pulses_only: bool = Field(
        False, description="Made for pulses of milliseconds, as an injector or an ignition coil: supply is never applied to it."
    )

    NOUN: ClassVar[str] = "Solenoid"
    VERB: ClassVar[str] = "clicks"

    @property
    def takes_steady_supply(self) -> bool:
        return not self.short_pulses_only

    def acts(self, part_id: str, setup: Setup) -> Acts | None:
        full = 6.0 / self.coil_ohm
        return Acts(part_id, full, 0.7 * full, self.VERB, by_peak=True)

    def system_title(self, part_id: str) -> str:
        return f"{self.moves} itself"

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        ohms = copper_resistance(self.coil_ohm, setup.temperature_c)
        return [Branch(part_id, part_id, f"{part_id}.1", f"{part_id}.2", ohms, spread=self.tolerance)]

    def faults(self, part_id: str) -> list[Fault]:
        found = [
            self.fault(part_id, "open", "coil open", 1.5, part_id, open_severity(part_id)),
            self.fault(part_id, "short", "coil with shorted turns", 0.5, part_id, scale_severities(part_id)),
            self.fault(part_id, "resistance", "coil or its joint with resistance in it", 0.3, part_id,
                       series_severities(part_id, tuple(self.coil_ohm * f for f in HIGH_SHARES))),
        ]  # fmt: skip
        return [*found, *stuck(self, part_id, part_id, self.moves)]


class Lamp(Part):
    """A filament lamp: cold resistance a tenth of hot; see ``curves.lamp_current``."""

    family: Literal["lamp"]
    rated_w: Positive
    rated_v: Positive = 13.5
    cold_ratio: Positive = Field(0.1, description="Cold resistance divided by hot resistance.")

    NOUN: ClassVar[str] = "Lamp"

    def acts(self, part_id: str, setup: Setup) -> Acts | None:
        rated = self.rated_w / self.rated_v
        return Acts(f"{part_id}.holder", 0.65 * rated, 0.25 * rated, "lights")

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        inner = f"{part_id}.filament"
        curve = Curve("lamp", (self.rated_v, self.rated_v**2 / self.rated_w, self.cold_ratio))
        return [
            Branch(f"{part_id}.holder", part_id, f"{part_id}.1", inner, 0.01, spread=0.3),
            Branch(part_id, part_id, inner, f"{part_id}.2", curve=curve),
        ]

    def faults(self, part_id: str) -> list[Fault]:
        holder = f"{part_id}.holder"
        return [
            self.fault(part_id, "open", "filament broken", 2.5, holder, open_severity(holder)),
            self.fault(part_id, "resistance", "holder contact corroded", 0.8, holder,
                       series_severities(holder, SERIES_LOAD_OHM)),
        ]  # fmt: skip


class DcMotor(Part):
    """A permanent-magnet motor driving a fan, pump or latch; see ``curves.motor_current``."""

    family: Literal["dc_motor"]
    rated_v: Positive = 13.0
    rated_a: Positive = Field(description="Current at rated voltage, turning under its usual load.")
    armature_ohm: Positive = Field(description="Resistance at standstill, brushes included.")
    friction_share: Positive = Field(0.1, lt=0.9, description="Share of the rated current spent on dry friction.")
    moves: str = Field(
        "", description="What it drives, e.g. 'Cabin flap'; adds the fault that this is disconnected, broken or worn."
    )

    NOUN: ClassVar[str] = "Motor"
    SYMBOL: ClassVar[str] = "motor"
    CAUTIONS: ClassVar[tuple[str, ...]] = ("moving",)

    def acts(self, part_id: str, setup: Setup) -> Acts | None:
        return Acts(f"{part_id}.brushes", 0.6 * self.rated_a, 0.25 * self.rated_a, "turns")

    def speed(self, volts: npt.NDArray[np.float64], amps: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
        """Speed as a share of the rated one: what is left of the voltage beside the armature's own drop (Fitzgerald, *Electric Machinery*,
        2014, ch. 7).
        """
        usual = self.rated_v - self.rated_a * self.armature_ohm
        return np.asarray(np.clip((np.abs(volts) - np.abs(amps) * self.armature_ohm) / usual, 0.0, None))

    def system_title(self, part_id: str) -> str:
        return f"{self.moves} itself"

    @model_validator(mode="after")
    def _turns_at_rated_voltage(self) -> Self:
        if self.rated_a * self.armature_ohm >= self.rated_v:
            raise ValueError(
                f"armature_ohm {self.armature_ohm:g} Ω × rated_a {self.rated_a:g} A leaves no voltage to turn the motor at "
                f"{self.rated_v:g} V: give the standstill resistance, which is lower than rated_v / rated_a"
            )
        return self

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        inner = f"{part_id}.armature"
        curve = Curve("motor", motor_parameters(self.rated_v, self.rated_a, self.armature_ohm, self.friction_share))
        return [
            Branch(f"{part_id}.brushes", part_id, f"{part_id}.1", inner, 0.02 * self.armature_ohm, spread=0.3),
            Branch(part_id, part_id, inner, f"{part_id}.2", curve=curve),
            Branch(f"{part_id}.short", part_id, f"{part_id}.1", f"{part_id}.2"),
        ]

    def faults(self, part_id: str) -> list[Fault]:
        brushes, short = f"{part_id}.brushes", f"{part_id}.short"
        shorts = path_severities(short, tuple(self.armature_ohm * f for f in (0.1, 0.2, 0.35, 0.6, 1.0)))
        # A friction current no supply can deliver: the rotor never turns and only the armature resistance is left.
        seized = (Severity("seized", 1.0, (Change(part_id, curve_parameters=((2, 1e9),)), Change(brushes, blocks=True))),)
        found = [
            self.fault(part_id, "open", "open (brushes or thermal cut-out)", 1.5, brushes, open_severity(brushes)),
            self.fault(part_id, "resistance", "brushes worn, high resistance", 1.0, brushes,
                       series_severities(brushes, SERIES_LOAD_OHM)),
            self.fault(part_id, "short", "winding shorted", 0.4, short, shorts),
            self.fault(part_id, "seized", "seized or blocked", 0.6, part_id, seized),
        ]  # fmt: skip
        return [*found, *stuck(self, part_id, brushes, self.moves)]


def stuck(part: Part, part_id: str, branch: str, moves: str) -> list[Fault]:
    """What a coil or motor moves does not move, while everything electrical is as it should be; none if nothing is said to move."""
    if not moves:
        return []
    blocked = (Severity("stuck", 1.0, (Change(branch, blocks=True),)),)
    return [part.fault(part_id, "stuck", f"{moves} stuck, dirty or worn", 0.8, branch, blocked, "system")]
