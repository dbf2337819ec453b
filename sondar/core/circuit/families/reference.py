"""What several circuits share inside a module: its supply, its 5 V reference, its bus transceiver; and the 3-wire sensor."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from sondar.core.circuit.families.base import (
    ActiveWhen,
    Drawn,
    NonNegative,
    Part,
    Positive,
    Quantity,
    awake_with_the_key,
    listed,
    normalised,
    open_severity,
    path_severities,
    scale_severities,
    series_severities,
    source_severities,
)
from sondar.core.circuit.families.module import LIMIT_KNEE_V, LOW_SUPPLY, OFF
from sondar.core.circuit.model import OPEN_OHM, Branch, Change, Curve, Fault, Group, Setup, Severity, is_active


class ModuleSupply(Part):
    """What a module itself draws: ``feed`` to ``gnd`` through its input; ``core`` is the inner supply, and cannot be probed."""

    family: Literal["module_supply"]
    draw_a: Positive = Field(0.3, description="Current of the module at 12 V in amperes.")

    GROUP: ClassVar[Group] = "module"
    TERMINALS: ClassVar[tuple[str, ...]] = ("feed", "gnd")
    OPTIONAL_TERMINALS: ClassVar[tuple[str, ...]] = ("core",)
    NOUN: ClassVar[str] = "Module supply"
    SYMBOL: ClassVar[str] = "resistor"

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        core = f"{part_id}.core"
        return [
            Branch(f"{part_id}.input", part_id, f"{part_id}.feed", core, 0.1, spread=0.3),
            Branch(f"{part_id}.draw", part_id, core, f"{part_id}.gnd", 12.0 / self.draw_a, spread=0.2),
        ]

    def faults(self, part_id: str) -> list[Fault]:
        return [
            self.fault(
                part_id, "dead", "does nothing although it is fed", 0.8, f"{part_id}.input", open_severity(f"{part_id}.input")
            ),
            self.fault(part_id, "resistance", "has resistance in its supply input", 0.2, f"{part_id}.input",
                       series_severities(f"{part_id}.input")),
        ]  # fmt: skip


class Reference(Part):
    """A module's regulated reference for its sensors, ``out`` against ``gnd``, soft enough to be pulled down by a short."""

    family: Literal["reference_5v"]
    supply_v: Quantity = 5.0
    out_ohm: Positive = Field(2.0, description="Source resistance in ohms; a short pulls the reference down.")
    limit_a: Positive | None = Field(
        None, description="Current in amperes at which a protected reference limits, either way; unlimited if left out."
    )
    active_when: ActiveWhen = Field(default_factory=awake_with_the_key, description="When the module is awake.")

    GROUP: ClassVar[Group] = "module"
    TERMINALS: ClassVar[tuple[str, ...]] = ("out", "gnd")
    NOUN: ClassVar[str] = "5 V reference"

    def sketch(self, part_id: str) -> list[Drawn]:
        return [(part_id, "pull-up", f"supply:{part_id}", f"{part_id}.out")]

    def control_values(self) -> dict[str, list[str]]:
        return listed(self.active_when)

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        awake = is_active(normalised(self.active_when), setup)
        emf = self.supply_v if awake else 0.0
        ohms = self.out_ohm if awake else 2e3
        out, gnd = f"{part_id}.out", f"{part_id}.gnd"
        if self.limit_a is None:
            return [Branch(part_id, part_id, out, gnd, ohms, emf, 0.1, 0.01 * abs(emf), state="" if awake else OFF)]
        inner = f"{part_id}.limited"
        return [
            Branch(part_id, part_id, out, inner, ohms, emf, 0.1, 0.01 * abs(emf), state="" if awake else OFF),
            Branch(f"{part_id}.limit", part_id, inner, gnd, curve=Curve("sink", (self.limit_a, LIMIT_KNEE_V, 0.0))),
        ]

    def faults(self, part_id: str) -> list[Fault]:
        return [
            self.fault(part_id, "dead", "gives no voltage", 0.6, part_id, (Severity("open", 1.0, (Change(part_id, set_ohm=OPEN_OHM),)),)),
            self.fault(part_id, "low", "too low", 0.3, part_id, source_severities(part_id, LOW_SUPPLY)),
        ]  # fmt: skip


STUCK_SHARES = (0.02, 0.05, 0.1, 0.17, 0.25, 0.35, 0.45, 0.55, 0.65, 0.75, 0.83, 0.9, 0.95, 0.98)
"""Signal ÷ reference at which a failed sensor may stand."""

OFFSET_SHARES = (-0.5, -0.3, -0.18, -0.1, -0.05, 0.05, 0.1, 0.18, 0.3, 0.5)
"""Share of the reference by which a sensor may be off everywhere."""


class RatiometricSensor(Part):
    """A 3-wire sensor: ``sig`` is a share of the voltage between ``ref`` and ``ret``.

    Modelled as a divider with a small output resistance: a lost return then drives the signal to the reference, a lost
    reference to the return, as the real ones do.
    """

    family: Literal["ratiometric"]
    rest_share: Positive = Field(0.1, lt=1.0, description="Signal ÷ reference with the controls at rest.")
    moved_share: Positive = Field(0.8, lt=1.0, description="Signal ÷ reference when moved.")
    moved_when: ActiveWhen = Field(default_factory=dict, description="Controls and values that move it; leave out if none can.")
    follows: str = Field(
        "", description="Id of the motor or coil that moves it: without that it stays at rest, whatever is commanded."
    )
    total_ohm: Positive = Field(1.2e3, description="Resistance between reference and return.")
    output_ohm: Positive = 50.0
    tolerance: Positive = 0.02
    resistive: bool = Field(
        False, description="A resistive track with a wiper, which may be measured in ohms; electronic if left out."
    )
    senses: str = Field("", description="What it measures, e.g. 'Filter pressure difference'; adds faults of the thing itself.")

    TERMINALS: ClassVar[tuple[str, ...]] = ("ref", "sig", "ret")
    NOUN: ClassVar[str] = "Sensor"

    @property
    def is_electronic(self) -> bool:
        return not self.resistive

    def system_title(self, part_id: str) -> str:
        return f"{self.senses} itself"

    def sketch(self, part_id: str) -> list[Drawn]:
        tap = f"{part_id}.tap"
        return [
            (f"{part_id}.upper", "resistor", f"{part_id}.ref", tap),
            (f"{part_id}.lower", "resistor", tap, f"{part_id}.ret"),
            (part_id, "joint", tap, f"{part_id}.sig"),
        ]

    def control_values(self) -> dict[str, list[str]]:
        return listed(self.moved_when)

    def at_rest(self) -> RatiometricSensor:
        """The same sensor with nothing to move it."""
        return self.model_copy(update={"moved_when": {}})

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        moved = bool(self.moved_when) and is_active(normalised(self.moved_when), setup)
        share = self.moved_share if moved else self.rest_share
        tap = f"{part_id}.tap"
        return [
            Branch(f"{part_id}.upper", part_id, f"{part_id}.ref", tap, self.total_ohm * (1 - share), spread=self.tolerance),
            Branch(f"{part_id}.lower", part_id, tap, f"{part_id}.ret", self.total_ohm * share, spread=self.tolerance),
            Branch(part_id, part_id, tap, f"{part_id}.sig", self.output_ohm, spread=0.1),
            Branch(f"{part_id}.short", part_id, f"{part_id}.ref", f"{part_id}.ret"),
        ]

    def faults(self, part_id: str) -> list[Fault]:
        upper, lower, short = f"{part_id}.upper", f"{part_id}.lower", f"{part_id}.short"
        dead = (
            Severity("stays at the return", 0.5, (Change(upper, add_ohm=OPEN_OHM),)),
            Severity("stays at the reference", 0.5, (Change(lower, add_ohm=OPEN_OHM),)),
        )
        found = [
            self.fault(part_id, "open", "no output", 0.6, part_id, open_severity(part_id)),
            self.fault(part_id, "stuck", "output stuck at one end", 0.8, part_id, dead),
            self.fault(part_id, "bias", "reads wrong", 0.8, part_id, self._wrong(upper, lower)),
            self.fault(part_id, "short", "pulls the reference down", 0.4, part_id, path_severities(short, (0.1, 0.3, 1.0, 3.0, 10.0, 30.0))),
        ]  # fmt: skip
        if self.senses and self.moved_when:
            # Nothing arrives (blocked, swapped, jammed): it keeps showing what it shows at rest.
            still = (
                Change(upper, set_ohm=self.total_ohm * (1 - self.rest_share)),
                Change(lower, set_ohm=self.total_ohm * self.rest_share),
            )
            found.append(
                self.fault(part_id, "blocked", f"{self.senses} does not reach the sensor, or does not change", 0.6, part_id,
                           (Severity("nothing arrives", 1.0, still),), "system", ("stuck", "cleanable"))
            )  # fmt: skip
        return found

    def _wrong(self, upper: str, lower: str) -> tuple[Severity, ...]:
        """Stuck at a share of the reference, or off by one whatever it senses."""
        total = self.total_ohm
        stuck = tuple(
            Severity(f"stays at {share:.0%}", 0.5 / len(STUCK_SHARES),
                     (Change(upper, set_ohm=total * (1 - share)), Change(lower, set_ohm=total * share)), ("stays", share))
            for share in STUCK_SHARES
        )  # fmt: skip
        offset = tuple(
            Severity(f"{share:+.0%} of the reference", 0.5 / len(OFFSET_SHARES),
                     (Change(upper, add_ohm=-total * share), Change(lower, add_ohm=total * share)), ("offset", share))
            for share in OFFSET_SHARES
        )  # fmt: skip
        return stuck + offset


TRAFFIC, TRAFFIC_V, TRAFFIC_OHM = "bus traffic", 3.0, 1e3
"""Messages lift the mean of one wire and lower that of the other by what nobody knows beforehand, and a meter shows means: a source of
0 V between the wires, with this standard deviation and resistance, 0.17 V each way on a whole bus."""


LEVEL_SD_V = 0.12
"""Standard deviation of a transceiver's levels: ISO 11898-2 allows 2.0 to 3.0 V at rest, and 2.75 to 4.5 V driving."""


class BusTransceiver(Part):
    """A module's connection to a two-wire bus: weak 2.5 V bias when listening, 4.5 V and 0.5 V behind 30 Ω when it drives.

    With 60 Ω between the wires that gives the usual 3.5 V and 1.5 V of a dominant bit (ISO 11898-2).
    """

    family: Literal["bus_transceiver"]
    drives_when: ActiveWhen = Field(
        default_factory=dict, description="Controls and values at which it drives; leave out if never here."
    )
    bias_ohm: Positive = 25e3

    GROUP: ClassVar[Group] = "module"
    TERMINALS: ClassVar[tuple[str, ...]] = ("h", "l", "gnd")
    NOUN: ClassVar[str] = "Bus transceiver"

    def sketch(self, part_id: str) -> list[Drawn]:
        return [
            (f"{part_id}.high", "pull-up", f"supply:{part_id}", f"{part_id}.h"),
            (f"{part_id}.low", "pull-down", f"{part_id}.l", f"{part_id}.gnd"),
        ]

    def control_values(self) -> dict[str, list[str]]:
        return listed(self.drives_when)

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        drives = bool(self.drives_when) and is_active(normalised(self.drives_when), setup)
        awake = setup["key"] in normalised(awake_with_the_key())["key"]
        high, low = (4.5, 0.5) if drives else (2.5, 2.5)
        ohms, state = (30.0, "driving") if drives else (self.bias_ohm, "")
        h, l, gnd = (f"{part_id}.{t}" for t in self.TERMINALS)
        return [
            Branch(f"{part_id}.high", part_id, h, gnd, ohms, high, 0.1, LEVEL_SD_V, state=state),
            Branch(f"{part_id}.low", part_id, l, gnd, ohms, low, 0.1, LEVEL_SD_V, state=state),
            Branch(f"{part_id}.short", part_id, h, l),
            *(
                []
                if drives or not awake
                else [Branch(f"{part_id}.traffic", part_id, h, l, TRAFFIC_OHM, causes=((TRAFFIC, TRAFFIC_V),))]
            ),
        ]

    def faults(self, part_id: str) -> list[Fault]:
        high, low, short = f"{part_id}.high", f"{part_id}.low", f"{part_id}.short"
        dead = (
            Severity("silent", 0.5, (Change(high, add_ohm=OPEN_OHM), Change(low, add_ohm=OPEN_OHM))),
            Severity("one half", 0.25, (Change(high, add_ohm=OPEN_OHM),)),
            Severity("the other half", 0.25, (Change(low, add_ohm=OPEN_OHM),)),
        )
        return [
            self.fault(part_id, "dead", "does not drive the bus", 0.3, high, dead),
            self.fault(
                part_id, "short", "shorts the bus wires together", 0.2, short, path_severities(short, (0.3, 1.0, 3.0, 10.0, 30.0))
            ),
        ]


class BusEnd(Part):
    """A terminating resistor, 120 Ω between the bus wires at each end of the line."""

    family: Literal["bus_end"]
    resistance_ohm: NonNegative = 120.0
    price: NonNegative = 10.0

    NOUN: ClassVar[str] = "Bus end"
    SYMBOL: ClassVar[str] = "resistor"

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        return [Branch(part_id, part_id, f"{part_id}.1", f"{part_id}.2", self.resistance_ohm, spread=0.01)]

    def faults(self, part_id: str) -> list[Fault]:
        return [
            self.fault(part_id, "open", "open circuit", 0.3, part_id, open_severity(part_id)),
            self.fault(part_id, "low", "too low", 0.1, part_id, scale_severities(part_id)),
            self.fault(part_id, "high", "too high", 0.1, part_id, scale_severities(part_id, (1.5, 2.5, 5.0, 20.0))),
        ]
