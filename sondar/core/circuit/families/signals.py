"""Sensors that make a signal of their own: levels, pulses, alternating voltage, current.

A sensor that needs a supply drives its output through a contact that follows its supply current: without supply or ground the
output is let go, as the real ones do, whatever the thing it senses is doing.
"""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field, model_validator

from sondar.core.circuit.families.base import (
    ActiveWhen,
    Drawn,
    NonNegative,
    Part,
    Positive,
    Quantity,
    listed,
    normalised,
    open_severity,
    path_severities,
    scale_severities,
    series_severities,
    source_severities,
)
from sondar.core.circuit.model import (
    AIR_OHM,
    Branch,
    Change,
    Curve,
    Fault,
    RelayContact,
    Setup,
    Severity,
    copper_resistance,
    is_active,
)

SUPPLY_SHARE = 0.35
"""Share of its usual supply current below which a sensor's electronics let go of the output."""


def weak_and_lost(branch: str) -> tuple[Severity, ...]:
    """An alternating or active signal that is too small, or gone, while the sensor's own circuit is whole."""
    return source_severities(branch, (0.01, 0.05, 0.15, 0.3, 0.45, 0.6))


class PoweredSensor(Part):
    """Fields and branches of a sensor with supply and ground: ``feed``, ``gnd``, ``out``."""

    draw_a: Positive = Field(0.008, description="Its own current in amperes at feed_v.")
    feed_v: Positive = Field(12.0, description="Usual supply voltage.")
    senses: str = Field("", description="What it measures, e.g. 'Air flow'; adds faults of the thing itself.")

    TERMINALS: ClassVar[tuple[str, ...]] = ("feed", "gnd", "out")
    NOUN: ClassVar[str] = "Sensor"

    @property
    def is_electronic(self) -> bool:
        return True

    def system_title(self, part_id: str) -> str:
        return f"{self.senses} itself"

    def sketch(self, part_id: str) -> list[Drawn]:
        return [
            (f"{part_id}.supply", "resistor", f"{part_id}.feed", f"{part_id}.gnd"),
            (f"{part_id}.output", "driver", f"{part_id}.out", f"{part_id}.gnd"),
        ]

    def supply(self, part_id: str) -> Branch:
        """The sensor's own load on its supply."""
        return Branch(f"{part_id}.supply", part_id, f"{part_id}.feed", f"{part_id}.gnd", self.feed_v / self.draw_a, spread=0.15)

    def output(self, part_id: str, on: bool, ohms: float, emf_v: float = 0.0, spread_v: float = 0.0) -> Branch:
        """The output stage, held only while the sensor is supplied."""
        contact = RelayContact(f"{part_id}.supply", SUPPLY_SHARE * self.draw_a if on else 1e3, False, ohms)
        return Branch(
            f"{part_id}.output", part_id, f"{part_id}.out", f"{part_id}.gnd", AIR_OHM, emf_v, 0.2, spread_v, contact=contact
        )

    def electronics_faults(self, part_id: str) -> list[Fault]:
        """Electronics dead; supply shorted inside."""
        output, supply = f"{part_id}.output", f"{part_id}.supply"
        return [
            self.fault(
                part_id, "dead", "gives no signal", 1.2, output, (Severity("dead", 1.0, (Change(output, set_ohm=AIR_OHM),)),)
            ),
            self.fault(part_id, "short", "shorts its supply", 0.2, supply, path_severities(supply, (0.1, 0.5, 2.0, 8.0, 30.0))),
        ]


class HallSensor(PoweredSensor):
    """Hall or magneto-resistive sensor, or any output that sinks a pulled-up line: held low, let go, or toggling.

    Standing still it shows one level (``low_when``); turning it toggles (``turning_when``) at ``pulses_hz``.
    """

    family: Literal["hall_sensor"]
    low_when: ActiveWhen = Field(
        default_factory=dict, description="Controls and values at which it holds the line low, e.g. {tooth: below}."
    )
    turning_when: ActiveWhen = Field(
        default_factory=dict, description="Controls and values at which it toggles, e.g. {engine: cranking}."
    )
    high_share: Positive = Field(0.5, lt=1.0, description="Share of the time the line is let go while toggling.")
    pulses_hz: Positive = 200.0
    on_ohm: Positive = 30.0

    def control_values(self) -> dict[str, list[str]]:
        return {**listed(self.low_when), **listed(self.turning_when)}

    def _turns(self, setup: Setup) -> bool:
        return bool(self.turning_when) and is_active(normalised(self.turning_when), setup)

    def duty(self, part_id: str, setup: Setup) -> float | None:
        return self.high_share if self._turns(setup) else None

    def frequency_hz(self, setup: Setup) -> float:
        return self.pulses_hz

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        low = bool(self.low_when) and is_active(normalised(self.low_when), setup)
        if self._turns(setup):
            low = not setup.is_high(part_id)
        return [self.supply(part_id), self.output(part_id, low, self.on_ohm)]

    def faults(self, part_id: str) -> list[Fault]:
        output = f"{part_id}.output"
        found = [
            *self.electronics_faults(part_id),
            self.fault(part_id, "stuck_low", "holds the line low", 0.5, output,
                       (Severity("low", 1.0, (Change(output, set_ohm=self.on_ohm),)),)),
        ]  # fmt: skip
        if self.senses:
            gone = (Severity("no pulses", 1.0, (Change(output, set_ohm=AIR_OHM),)),)
            found.append(
                self.fault(
                    part_id, "gap", f"{self.senses}: gap too wide, or nothing passes the sensor", 0.5, output, gone, "system"
                )
            )
        return found


class SerialSensor(HallSensor):
    """A sensor that sends messages on one wire. A meter sees supply, ground and that the line moves; it cannot judge the message."""

    family: Literal["serial_sensor"]  # type: ignore[assignment]
    high_share: Positive = Field(0.7, lt=1.0)
    pulses_hz: Positive = 5000.0

    NOUN: ClassVar[str] = "Digital sensor"
    CAUTIONS: ClassVar[tuple[str, ...]] = ("message",)


class ActiveSensor(PoweredSensor):
    """A sensor with electronics whose output voltage depends on a control: air mass (hot film), active pressure, position.

    ``volts`` names the output at each position of ``control``, the first being rest. A dirty or poisoned element reads a wrong
    share of it; so does a true flow that differs (unmetered air), which is the system's fault and looks the same from outside.
    """

    family: Literal["active_sensor"]
    control: str = Field(description="The control whose position it reports.")
    volts: dict[str, Positive] = Field(min_length=1, description="Output in volts at each position.")
    output_ohm: Positive = 100.0
    tolerance_v: NonNegative = 0.05

    def control_values(self) -> dict[str, list[str]]:
        return {self.control: list(self.volts)}

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        volts = self.volts.get(setup[self.control], next(iter(self.volts.values())))
        return [self.supply(part_id), self.output(part_id, True, self.output_ohm, volts, self.tolerance_v)]

    def faults(self, part_id: str) -> list[Fault]:
        output = f"{part_id}.output"

        low, high = (0.1, 0.2, 0.35, 0.5, 0.65, 0.78, 0.88), (1.12, 1.25, 1.4, 1.6)
        found = [
            *self.electronics_faults(part_id),
            self.fault(part_id, "low", "reads too low (dirty, aged)", 1.0, output, source_severities(output, low)),
            self.fault(part_id, "high", "reads too high", 0.4, output, source_severities(output, high)),
        ]
        if self.senses:
            found.append(
                self.fault(part_id, "really_low", f"{self.senses} really is too low, or not all of it passes the sensor", 0.6, output,
                           source_severities(output, low), "system")
            )  # fmt: skip
        return found


class AlternatingSource(Part):
    """Fields and branches of a passive sensor that makes alternating voltage while something moves."""

    turning_when: ActiveWhen = Field(description="Controls and values at which it makes a signal, e.g. {engine: cranking}.")
    ac_v: Positive = Field(description="Alternating voltage it makes then, root mean square.")
    pulses_hz: Positive = 300.0
    senses: str = Field("", description="What makes the signal, e.g. 'Tone ring'; adds faults of the thing itself.")
    tolerance: Positive = 0.1

    def control_values(self) -> dict[str, list[str]]:
        return listed(self.turning_when)

    def system_title(self, part_id: str) -> str:
        return f"{self.senses} itself"

    def duty(self, part_id: str, setup: Setup) -> float | None:
        return 0.5 if is_active(normalised(self.turning_when), setup) else None

    def frequency_hz(self, setup: Setup) -> float:
        return self.pulses_hz

    def swing(self, part_id: str, setup: Setup) -> float:
        """Source voltage at this instant: its effective value, one way and then the other."""
        if self.duty(part_id, setup) is None:
            return 0.0
        return self.ac_v if setup.is_high(part_id) else -self.ac_v

    def weak(self, part_id: str) -> list[Fault]:
        """Faults of what moves in front of it."""
        if not self.senses:
            return []
        return [
            self.fault(
                part_id,
                "weak",
                f"{self.senses}: gap, dirt or damage",
                0.6,
                part_id,
                weak_and_lost(part_id),
                "system",
                ("weak", "cleanable"),
            )
        ]


class VariableReluctance(AlternatingSource):
    """A coil on a magnet: alternating voltage that grows with speed."""

    family: Literal["variable_reluctance"]
    coil_ohm: Positive = 900.0

    SYMBOL: ClassVar[str] = "coil"
    NOUN: ClassVar[str] = "Inductive sensor"

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        ohms = copper_resistance(self.coil_ohm, setup.temperature_c)
        emf = self.swing(part_id, setup)
        return [Branch(part_id, part_id, f"{part_id}.1", f"{part_id}.2", ohms, emf, self.tolerance, 0.1 * abs(emf))]

    def faults(self, part_id: str) -> list[Fault]:
        return [
            self.fault(part_id, "open", "coil open", 1.2, part_id, open_severity(part_id)),
            self.fault(part_id, "short", "coil with shorted turns", 0.5, part_id, scale_severities(part_id)),
            *self.weak(part_id),
        ]


class Piezo(AlternatingSource):
    """A knock sensor: a crystal, so no direct current to speak of, and a small alternating voltage when its part is tapped."""

    family: Literal["piezo"]
    ac_v: Positive = 0.3
    pulses_hz: Positive = 6500.0
    shunt_ohm: Positive = Field(200e3, description="Resistor built across the crystal.")

    SYMBOL: ClassVar[str] = "resistor"
    NOUN: ClassVar[str] = "Knock sensor"

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        emf = self.swing(part_id, setup)
        return [Branch(part_id, part_id, f"{part_id}.1", f"{part_id}.2", self.shunt_ohm, emf, self.tolerance, 0.1 * abs(emf))]

    def faults(self, part_id: str) -> list[Fault]:
        return [
            self.fault(part_id, "open", "open circuit", 1.0, part_id, open_severity(part_id)),
            self.fault(part_id, "short", "shorted", 0.4, part_id, scale_severities(part_id)),
            *self.weak(part_id),
        ]


class CurrentSensor(Part):
    """A two-wire sensor that takes one of two currents (wheel speed, 7 and 14 mA), toggling while turning."""

    family: Literal["current_sensor"]
    low_a: Positive = 0.007
    high_a: Positive = 0.014
    high_when: ActiveWhen = Field(
        default_factory=dict, description="Controls and values at which it takes the higher current standing still."
    )
    turning_when: ActiveWhen = Field(default_factory=dict, description="Controls and values at which it toggles.")
    pulses_hz: Positive = 100.0
    senses: str = Field("", description="What makes the signal, e.g. 'Encoder ring'; adds faults of the thing itself.")

    SYMBOL: ClassVar[str] = "resistor"
    NOUN: ClassVar[str] = "Sensor"

    @property
    def is_electronic(self) -> bool:
        return True

    def control_values(self) -> dict[str, list[str]]:
        return {**listed(self.high_when), **listed(self.turning_when)}

    def system_title(self, part_id: str) -> str:
        return f"{self.senses} itself"

    def duty(self, part_id: str, setup: Setup) -> float | None:
        return 0.5 if self.turning_when and is_active(normalised(self.turning_when), setup) else None

    def frequency_hz(self, setup: Setup) -> float:
        return self.pulses_hz

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        high = bool(self.high_when) and is_active(normalised(self.high_when), setup)
        if self.duty(part_id, setup) is not None:
            high = setup.is_high(part_id)
        inner = f"{part_id}.cell"
        curve = Curve("sink", (self.high_a if high else self.low_a, 1.5, 0.0))
        return [
            Branch(f"{part_id}.lead", part_id, f"{part_id}.1", inner, 1.0, spread=0.2),
            Branch(part_id, part_id, inner, f"{part_id}.2", curve=curve),
            Branch(f"{part_id}.leak", part_id, f"{part_id}.1", f"{part_id}.2"),
        ]

    def faults(self, part_id: str) -> list[Fault]:
        lead, leak = f"{part_id}.lead", f"{part_id}.leak"
        still = (Severity("stands still", 1.0, (Change(part_id, curve_parameters=((0, self.low_a),)),)),)
        found = [
            self.fault(part_id, "open", "open circuit", 1.2, lead, open_severity(lead)),
            self.fault(
                part_id,
                "leak",
                "takes more current than it should",
                0.5,
                leak,
                path_severities(leak, (50.0, 150.0, 400.0, 1e3, 3e3, 1e4)),
            ),
            self.fault(
                part_id,
                "stuck",
                "does not change its current",
                0.6,
                part_id,
                (
                    Severity("stays low", 0.5, (Change(part_id, curve_parameters=((0, self.low_a),)),)),
                    Severity("stays high", 0.5, (Change(part_id, curve_parameters=((0, self.high_a),)),)),
                ),
            ),
        ]
        if self.senses:
            found.append(self.fault(part_id, "gap", f"{self.senses}: gap too wide, or damaged", 0.6, part_id, still, "system"))
        return found


class OxygenSensor(Part):
    """A narrow-band oxygen sensor: a cell of 0.1 to 0.9 V behind a resistance that is low only when hot."""

    family: Literal["oxygen_sensor"]
    mixture: str = Field("mixture", description="The control that says what it smells.")
    volts: dict[str, Quantity] = Field(
        default_factory=lambda: {"lean": 0.1, "rich": 0.85}, description="Cell voltage at each position."
    )
    hot_when: ActiveWhen = Field(description="Controls and values at which it is hot, e.g. {key: run}.")
    hot_ohm: Positive = 3e3
    cold_ohm: Positive = 2e7
    senses: str = Field("", description="What it measures, e.g. 'Mixture'; adds faults of the thing itself.")

    TERMINALS: ClassVar[tuple[str, ...]] = ("sig", "gnd")
    SYMBOL: ClassVar[str] = "resistor"
    NOUN: ClassVar[str] = "Oxygen sensor"

    @property
    def is_electronic(self) -> bool:
        return True

    @model_validator(mode="after")
    def _cell_voltages(self) -> OxygenSensor:
        if any(not 0.0 < v < 1.5 for v in self.volts.values()):
            raise ValueError("cell voltages lie between 0 and 1.5 V, e.g. {lean: 0.1, rich: 0.85}")
        return self

    def control_values(self) -> dict[str, list[str]]:
        return {self.mixture: list(self.volts), **listed(self.hot_when)}

    def system_title(self, part_id: str) -> str:
        return f"{self.senses} itself"

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        hot = is_active(normalised(self.hot_when), setup)
        volts = self.volts.get(setup[self.mixture], next(iter(self.volts.values())))
        ohms = self.hot_ohm if hot else self.cold_ohm
        return [Branch(part_id, part_id, f"{part_id}.sig", f"{part_id}.gnd", ohms, volts if hot else 0.0, 0.3, 0.03)]

    def faults(self, part_id: str) -> list[Fault]:
        low = source_severities(part_id, (0.02, 0.1, 0.2, 0.35, 0.5, 0.7))
        found = [
            self.fault(part_id, "open", "open circuit", 0.8, part_id, open_severity(part_id)),
            self.fault(part_id, "aged", "aged or poisoned, reads lean", 1.2, part_id, low),
            self.fault(
                part_id, "slow", "high inner resistance", 0.6, part_id, series_severities(part_id, (1e4, 3e4, 1e5, 3e5, 1e6))
            ),
        ]
        if self.senses:
            found.append(
                self.fault(part_id, "really_lean", f"{self.senses} really is lean (leak, low fuel)", 0.8, part_id, low, "system")
            )
        return found


class DualTrack(Part):
    """Two position tracks in one unit (pedal, throttle), each on its own reference; the second a share of the first or its mirror."""

    family: Literal["dual_track"]
    rest_share: Positive = Field(0.16, lt=1.0, description="First track: signal ÷ reference at rest.")
    moved_share: Positive = Field(0.8, lt=1.0)
    moved_when: ActiveWhen = Field(description="Controls and values that move it.")
    second: Literal["half", "mirrored"] = "half"
    total_ohm: Positive = 1.2e3
    wiper_ohm: Positive = 500.0
    tolerance: Positive = 0.02

    TERMINALS: ClassVar[tuple[str, ...]] = ("ref1", "sig1", "ret1", "ref2", "sig2", "ret2")
    NOUN: ClassVar[str] = "Position sensor pair"

    def control_values(self) -> dict[str, list[str]]:
        return listed(self.moved_when)

    def sketch(self, part_id: str) -> list[Drawn]:
        found: list[Drawn] = []
        for track in ("1", "2"):
            tap = f"{part_id}.tap{track}"
            found += [
                (f"{part_id}.upper{track}", "resistor", f"{part_id}.ref{track}", tap),
                (f"{part_id}.lower{track}", "resistor", tap, f"{part_id}.ret{track}"),
                (f"{part_id}.wiper{track}", "joint", tap, f"{part_id}.sig{track}"),
            ]
        return found

    def shares(self, setup: Setup) -> tuple[float, float]:
        """Signal ÷ reference of both tracks."""
        first = self.moved_share if is_active(normalised(self.moved_when), setup) else self.rest_share
        return first, first / 2 if self.second == "half" else 1.0 - first

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        made = []
        for track, share in zip(("1", "2"), self.shares(setup), strict=True):
            ref, sig, ret, tap = (f"{part_id}.{name}{track}" for name in ("ref", "sig", "ret", "tap"))
            made += [
                Branch(f"{part_id}.upper{track}", part_id, ref, tap, self.total_ohm * (1 - share), spread=self.tolerance),
                Branch(f"{part_id}.lower{track}", part_id, tap, ret, self.total_ohm * share, spread=self.tolerance),
                Branch(f"{part_id}.wiper{track}", part_id, tap, sig, self.wiper_ohm, spread=0.2),
            ]
        return made

    def faults(self, part_id: str) -> list[Fault]:
        found = []
        for track in ("1", "2"):
            wiper, upper, lower = (f"{part_id}.{name}{track}" for name in ("wiper", "upper", "lower"))
            found += [
                self.fault(part_id, f"track{track}_open", f"track {track}: wiper lifts off", 0.8, wiper, open_severity(wiper)),
                self.fault(part_id, f"track{track}_broken", f"track {track}: broken at an end", 0.4, upper, (
                    Severity("reference end", 0.5, (Change(upper, add_ohm=1e8),)), Severity("return end", 0.5, (Change(lower, add_ohm=1e8),)))),
                self.fault(part_id, f"track{track}_worn", f"track {track}: reads wrong", 0.6, lower,
                           scale_severities(lower, (0.15, 0.3, 0.45, 0.6, 0.75, 1.3, 1.6, 2.0, 2.8))),
            ]  # fmt: skip
        return found
