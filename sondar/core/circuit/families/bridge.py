"""Actuators driven both ways or in steps, heaters, coded switches, gauges."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from sondar.core.circuit.families.base import (
    ActiveWhen,
    Drawn,
    NonNegative,
    Part,
    Positive,
    awake_with_the_key,
    listed,
    normalised,
    open_severity,
    path_severities,
    scale_severities,
    series_severities,
)
from sondar.core.circuit.families.loads import HIGH_SHARES, Solenoid, stuck
from sondar.core.circuit.families.module import OFF
from sondar.core.circuit.model import (
    AIR_OHM,
    OPEN_OHM,
    Acts,
    Branch,
    Change,
    Curve,
    Fault,
    Group,
    Setup,
    Severity,
    copper_resistance,
    is_active,
)


class HBridge(Part):
    """Four transistors in a module that drive a load both ways: ``a`` and ``b`` to the load, ``feed`` and ``gnd`` inside.

    At rest both lower transistors conduct, which brakes a motor and holds both wires at 0 V.
    """

    family: Literal["h_bridge"]
    forward_when: ActiveWhen = Field(description="Controls and values at which a is fed and b grounded.")
    reverse_when: ActiveWhen = Field(description="Controls and values at which b is fed and a grounded.")
    awake_when: ActiveWhen = Field(default_factory=awake_with_the_key, description="When the lower transistors hold at rest.")
    on_ohm: Positive = 0.15
    leakage_a: Positive = 5e-6
    teach_in: bool = Field(False, description="True if the module drives it only after a teach-in.")

    GROUP: ClassVar[Group] = "module"
    TERMINALS: ClassVar[tuple[str, ...]] = ("feed", "gnd", "a", "b")
    NOUN: ClassVar[str] = "Bridge driver"
    LEGS: ClassVar[tuple[str, ...]] = ("high_a", "low_a", "high_b", "low_b")

    def control_values(self) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for condition in (self.forward_when, self.reverse_when, self.awake_when):
            for name, values in listed(condition).items():
                found[name] = list(dict.fromkeys([*found.get(name, []), *values]))
        return found

    def system_title(self, part_id: str) -> str:
        return f"Teach-in of {self.name(part_id)}"

    def sketch(self, part_id: str) -> list[Drawn]:
        return [
            (f"{part_id}.high_a", "driver", f"{part_id}.feed", f"{part_id}.a"),
            (f"{part_id}.low_b", "driver", f"{part_id}.b", f"{part_id}.gnd"),
        ]

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        forward = is_active(normalised(self.forward_when), setup)
        reverse = not forward and is_active(normalised(self.reverse_when), setup)
        awake = is_active(normalised(self.awake_when), setup)
        on = {"high_a": forward, "low_b": awake and not reverse, "high_b": reverse, "low_a": awake and not forward}
        ends = {"high_a": ("feed", "a"), "low_a": ("a", "gnd"), "high_b": ("feed", "b"), "low_b": ("b", "gnd")}
        off_ohm = 12.0 / self.leakage_a
        return [
            Branch(f"{part_id}.{leg}", part_id, f"{part_id}.{ends[leg][0]}", f"{part_id}.{ends[leg][1]}",
                   self.on_ohm if on[leg] else off_ohm, spread=0.9 if on[leg] else 0.5, state="" if on[leg] else OFF)
            for leg in self.LEGS
        ]  # fmt: skip

    def faults(self, part_id: str) -> list[Fault]:
        legs = [f"{part_id}.{leg}" for leg in self.LEGS]
        dead = (Severity("dead", 1.0, tuple(Change(leg, set_ohm=OPEN_OHM) for leg in legs)),)
        found = [self.fault(part_id, "dead", "drives neither way", 0.8, legs[0], dead)]
        for leg in self.LEGS:
            branch = f"{part_id}.{leg}"
            name = f"{'upper' if leg.startswith('high') else 'lower'} transistor at {leg[-1]}"
            found += [
                self.fault(part_id, f"{leg}_dead", f"{name} does not switch on", 0.4, branch,
                           (Severity("open", 1.0, (Change(branch, set_ohm=OPEN_OHM),)),)),
                self.fault(part_id, f"{leg}_short", f"{name} shorted", 0.15, branch,
                           (Severity("on", 1.0, (Change(branch, set_ohm=self.on_ohm),)),)),
            ]  # fmt: skip
        if self.teach_in:
            found.append(
                self.fault(part_id, "untaught", "Not taught in, or its end stops not learned", 0.5, legs[0], dead, "setting")
            )
        return found


class Stepper(Part):
    """A two-coil stepping motor, coil A at ``1`` and ``2``, coil B at ``3`` and ``4``."""

    family: Literal["stepper"]
    coil_ohm: Positive
    tolerance: Positive = Field(0.1, description="Relative standard deviation among good parts.")
    moves: str = Field("", description="What it drives, e.g. 'Idle valve'; adds the fault that this is stuck.")

    TERMINALS: ClassVar[tuple[str, ...]] = ("1", "2", "3", "4")
    NOUN: ClassVar[str] = "Stepping motor"
    CAUTIONS: ClassVar[tuple[str, ...]] = ("moving",)

    def system_title(self, part_id: str) -> str:
        return f"{self.moves} itself"

    def acts(self, part_id: str, setup: Setup) -> Acts | None:
        full = 6.0 / self.coil_ohm
        return Acts(f"{part_id}.a", full, 0.5 * full, "steps")

    def sketch(self, part_id: str) -> list[Drawn]:
        return [(f"{part_id}.a", "coil", f"{part_id}.1", f"{part_id}.2"), (f"{part_id}.b", "coil", f"{part_id}.3", f"{part_id}.4")]

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        ohms = copper_resistance(self.coil_ohm, setup.temperature_c)
        return [
            Branch(f"{part_id}.a", part_id, f"{part_id}.1", f"{part_id}.2", ohms, spread=self.tolerance),
            Branch(f"{part_id}.b", part_id, f"{part_id}.3", f"{part_id}.4", ohms, spread=self.tolerance),
        ]

    def faults(self, part_id: str) -> list[Fault]:
        found = []
        for coil in ("a", "b"):
            branch = f"{part_id}.{coil}"
            found += [
                self.fault(part_id, f"{coil}_open", f"coil {coil.upper()} open", 0.8, branch, open_severity(branch)),
                self.fault(
                    part_id, f"{coil}_short", f"coil {coil.upper()} with shorted turns", 0.4, branch, scale_severities(branch)
                ),
            ]
        return [*found, *stuck(self, part_id, f"{part_id}.a", self.moves)]


class Heater(Part):
    """A heating element whose resistance rises as it warms: sensor heater, glow plug, screen."""

    family: Literal["heater"]
    rated_w: Positive
    rated_v: Positive = 13.5
    cold_ratio: Positive = Field(0.4, lt=1.0, description="Cold resistance divided by hot resistance.")

    SYMBOL: ClassVar[str] = "resistor"
    NOUN: ClassVar[str] = "Heater"

    def acts(self, part_id: str, setup: Setup) -> Acts | None:
        rated = self.rated_w / self.rated_v
        return Acts(f"{part_id}.lead", 0.6 * rated, 0.25 * rated, "warms")

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        inner = f"{part_id}.element"
        curve = Curve("lamp", (self.rated_v, self.rated_v**2 / self.rated_w, self.cold_ratio))
        return [
            Branch(f"{part_id}.lead", part_id, f"{part_id}.1", inner, 0.02, spread=0.3),
            Branch(part_id, part_id, inner, f"{part_id}.2", curve=curve),
            Branch(f"{part_id}.short", part_id, f"{part_id}.1", f"{part_id}.2"),
        ]

    def faults(self, part_id: str) -> list[Fault]:
        lead, short = f"{part_id}.lead", f"{part_id}.short"
        hot = self.rated_v**2 / self.rated_w
        return [
            self.fault(part_id, "open", "burnt through", 2.0, lead, open_severity(lead)),
            self.fault(part_id, "short", "shorted", 0.3, short, path_severities(short, (0.05 * hot, 0.1 * hot, 0.2 * hot))),
            self.fault(
                part_id,
                "resistance",
                "resistance too high",
                0.5,
                lead,
                series_severities(lead, tuple(f * hot for f in HIGH_SHARES)),
            ),
        ]


class CodedSwitch(Part):
    """A switch that shows each position as its own resistance (washer lever, gear, window switch)."""

    family: Literal["coded_switch"]
    control: str = Field(description="The control whose position it reports.")
    ohms: dict[str, NonNegative] = Field(min_length=2, description="Resistance at each position; 1e9 for open.")
    price: NonNegative = 35.0

    SYMBOL: ClassVar[str] = "switch"
    NOUN: ClassVar[str] = "Coded switch"

    def control_values(self) -> dict[str, list[str]]:
        return {self.control: list(self.ohms)}

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        ohms = self.ohms.get(setup[self.control], next(iter(self.ohms.values())))
        return [
            Branch(part_id, part_id, f"{part_id}.1", f"{part_id}.2", min(max(ohms, 0.05), AIR_OHM), spread=0.02),
            Branch(f"{part_id}.leak", part_id, f"{part_id}.1", f"{part_id}.2"),
        ]

    def faults(self, part_id: str) -> list[Fault]:
        usual = [v for v in self.ohms.values() if 0.0 < v < 1e6]
        size = min(usual) if usual else 100.0
        leak = f"{part_id}.leak"
        return [
            self.fault(part_id, "open", "open circuit", 1.0, part_id, open_severity(part_id)),
            self.fault(part_id, "resistance", "contacts corroded, shows a wrong position", 1.0, part_id,
                       series_severities(part_id, tuple(f * size for f in (0.1, 0.3, 1.0, 3.0, 10.0, 30.0)))),
            self.fault(part_id, "leak", "wet inside, shows a wrong position", 0.5, leak,
                       path_severities(leak, tuple(f * size for f in (0.3, 1.0, 3.0, 10.0, 30.0)))),
        ]  # fmt: skip


class Gauge(Solenoid):
    """A pointer that a module moves by the current through a coil."""

    family: Literal["gauge"]  # type: ignore[assignment]

    SYMBOL: ClassVar[str] = "solenoid"
    NOUN: ClassVar[str] = "Gauge"
    VERB: ClassVar[str] = "moves"
