"""What every part family shares: its fields in the circuit file and helpers for its fault modes."""

from __future__ import annotations

import math
from abc import abstractmethod
from collections.abc import Iterable
from typing import Annotated, Any, ClassVar

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, model_validator
from pydantic.json_schema import SkipJsonSchema

from sondar.core.circuit.families.doubts import taken_out
from sondar.core.circuit.model import OPEN_OHM, Acts, Branch, Change, Fault, Group, Setup, Severity, Trait
from sondar.core.quantities import format_si, parse_si

Quantity = Annotated[float, BeforeValidator(parse_si)]
Positive = Annotated[float, BeforeValidator(parse_si), Field(gt=0)]
NonNegative = Annotated[float, BeforeValidator(parse_si), Field(ge=0)]
ActiveWhen = dict[str, list[str] | str]

SERIES_GRID_OHM = (0.03, 0.1, 0.3, 1.0, 3.0, 10.0, 30.0, 100.0, 300.0, 1e3, 3e3, 1e4, 3e4, 1e5)
"""Added series resistance of corrosion or a broken strand, a log grid of half decades from what a starter's supply feels to what is as
good as open for a 5 V input; what no instrument sees in a circuit is no suspect there."""

LEAK_GRID_OHM = (0.1, 0.5, 2.0, 10.0, 50.0, 200.0, 1e3, 1e4, 1e5)
"""Resistance of a chafed or wet path to ground, to a supply or to a neighbour."""

LOST_SHARES = (0.02, 0.05, 0.1, 0.2, 0.3, 0.4, 0.5, 0.65)
"""Shares of a winding's resistance that are left with shorted turns."""


Drawn = tuple[str, str, str, str]
"""(branch, symbol, upper terminal, lower terminal) of one symbol of the drawing."""

SYSTEM = "@system"
"""Ending of the unit that stands for what a part moves or senses, or for what is taught or coded there."""


class Fields(BaseModel):
    """Base of everything in a circuit file: unknown fields are errors, values do not change."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Part(Fields):
    """Fields common to all part families.

    Subclasses add ``family``, their electrical values, and the three methods below. Units: SI, with the
    unit in the field's name; values may be numbers or quantities such as ``4k7``.
    """

    title: str = Field("", description="Name for people; the part's id if left out.")
    place: str = Field("", description="Where it sits in the vehicle, in words.")
    module: str | None = Field(None, description="Id of the module it is sealed inside, if any.")
    price: NonNegative = Field(40.0, description="Purchase price, workshop currency.")
    fit_min: NonNegative = Field(20.0, description="Minutes to replace it.")
    access_min: NonNegative | None = Field(
        None, description="Minutes to reach its terminals with a probe; leave out if only its connector can be probed."
    )
    hot: bool = Field(False, description="Too hot to be touched in use, e.g. in the exhaust: nobody feels by hand whether it acts.")
    rate: Positive = Field(1.0, description="How often it fails, relative to an ordinary part of its family.")
    lag_s: NonNegative = Field(
        0.0, description="Time constant in seconds with which it follows; 0 if it is not worth counting beside the others."
    )
    dead_s: NonNegative = Field(0.0, description="Seconds before it begins to move.")
    doubts: SkipJsonSchema[dict[str, float]] = Field(
        default_factory=dict,
        description="Filled in by the reader: of each field given as a range, the standard deviation of its logarithm.",
    )

    @model_validator(mode="before")
    @classmethod
    def _ranges(cls, data: Any) -> Any:
        return taken_out(data, frozenset(name for name, field in cls.model_fields.items() if field.annotation is float))

    def otherwise(self, field: str, factor: float) -> Part:
        """The same part with one figure so many times as large."""
        return self.model_copy(update={field: getattr(self, field) * factor})

    GROUP: ClassVar[Group] = "component"
    TERMINALS: ClassVar[tuple[str, ...]] = ("1", "2")
    OPTIONAL_TERMINALS: ClassVar[tuple[str, ...]] = ()
    NOUN: ClassVar[str] = "Part"
    SYMBOL: ClassVar[str] = ""
    CAUTIONS: ClassVar[tuple[str, ...]] = ()
    SEVERAL_SYMBOLS: ClassVar[bool] = False
    """True if its faults sit at different symbols of the drawing, so that the branch of a fault is marked and not the part."""

    @property
    def is_electronic(self) -> bool:
        """True for a sensor with electronics inside: an ohmmeter shows nothing dependable there and may harm it."""
        return False

    @property
    def takes_steady_supply(self) -> bool:
        """False for what is made for pulses of milliseconds and burns or floods under steady supply, such as an injector."""
        return True

    def name(self, part_id: str) -> str:
        """Title for people."""
        return f"{self.title} ({part_id})" if self.title else f"{self.NOUN} {part_id}"

    def system_title(self, part_id: str) -> str:
        """What stands behind it when the part itself is good."""
        return f"What {self.name(part_id)} moves or senses"

    def control_values(self) -> dict[str, list[str]]:
        """Control names and values that the part's fields mention, for checking against the document."""
        return {}

    def duty(self, part_id: str, setup: Setup) -> float | None:
        """Share of the time in its high phase, if it pulses in this set-up; None if it is steady."""
        return None

    def frequency_hz(self, setup: Setup) -> float:
        """How often it pulses in a second."""
        return 0.0

    def acts(self, part_id: str, setup: Setup) -> Acts | None:
        """How a person notices that it acts; None for parts that nobody sees, hears or feels."""
        return None

    def sketch(self, part_id: str) -> list[Drawn]:
        """What is drawn of it, supply side first; ``supply:PART`` is a supply inside a module."""
        first, second = self.TERMINALS[:2]
        return [(part_id, self.SYMBOL or self.family, f"{part_id}.{first}", f"{part_id}.{second}")]  # type: ignore[attr-defined]

    @abstractmethod
    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        """Branches the part adds to the network in a set-up, healthy."""

    @abstractmethod
    def faults(self, part_id: str) -> list[Fault]:
        """Every failure mode with its severities."""

    def fault(
        self,
        part_id: str,
        mode: str,
        text: str,
        rate: float,
        branch: str,
        severities: tuple[Severity, ...],
        group: Group | None = None,
        traits: Iterable[Trait] = (),
    ) -> Fault:
        """A fault of this part, filed under its module if it sits in one.

        ``group`` system or setting: not the part but what it moves or senses, or what is taught to it, is at fault; ``text`` is
        then the whole title.
        """
        if group in ("system", "setting"):
            title, unit, repair = text, part_id + SYSTEM, f"Put right: {text[0].lower()}{text[1:]}"
        else:
            group = "module" if self.module else self.GROUP
            title, unit, repair = f"{self.name(part_id)} {text}", self.module or part_id, self.repair_text(part_id)
        found = fault_traits(severities, group) | set(traits)
        return Fault(
            f"{part_id}.{mode}", part_id, mode, title, group, unit, rate * self.rate, branch, severities, repair, frozenset(found)
        )

    def repair_text(self, part_id: str) -> str:
        """What one would do about any fault of this part."""
        return f"Replace {self.module or self.name(part_id)}"

    def faults_of_time(self, part_id: str) -> list[Fault]:
        """It follows slowly, or sticks before it moves; none where the file says nothing of how fast it is."""
        if not self.lag_s:
            return []
        branch, moves = self.sketch(part_id)[0][0], getattr(self, "moves", "")
        slow = slow_severities(branch)
        if not moves:
            return [self.fault(part_id, "sluggish", "follows slowly (dirty, aged, its opening partly blocked)", 0.5, branch, slow)]
        return [
            self.fault(
                part_id, "sluggish", f"{moves} moves slowly (stiff, dirty or worn)", 0.5, branch, slow, "system", ("cleanable",)
            ),
            self.fault(
                part_id, "late", f"{moves} sticks before it moves", 0.4, branch, late_severities(branch), "system", ("cleanable",)
            ),
        ]

    def open_and_series(
        self, part_id: str, branch: str, rate_open: float, rate_series: float, text: str = "high resistance"
    ) -> list[Fault]:
        """The two commonest faults of any conductor: open, and series resistance on the log grid."""
        return [
            self.fault(part_id, "open", "open circuit", rate_open, branch, open_severity(branch)),
            self.fault(part_id, "resistance", text, rate_series, branch, series_severities(branch)),
        ]


def fault_traits(severities: tuple[Severity, ...], group: Group) -> frozenset[Trait]:
    """Traits that follow from what a fault changes and whose it is.

    An interruption or an added resistance, an unwanted path, a part that is kept from moving. Wiring can be seen, and what
    interrupts or adds resistance there can come and go and be cleaned; so can what is stuck.
    """
    found: set[Trait] = set()
    for change in (change for severity in severities for change in severity.changes):
        opens = max(change.add_ohm or 0.0, change.set_ohm or 0.0) >= OPEN_OHM / 2
        if change.lag_scale is not None or change.dead_s is not None:
            found.add("slow")
        elif change.blocks:
            found |= {"stuck", "cleanable"} if group == "system" else {"stuck"}
        elif opens:
            found.add("open")
        elif change.add_ohm is not None:
            found.add("series")
        elif change.set_ohm is not None:
            found.add("leak")
    if group == "wiring":
        found.add("visible")
        if found & {"open", "series"}:
            found |= {"intermittent", "cleanable"}
    return frozenset(found)


SLOWER = (2.0, 3.5, 6.0, 12.0, 25.0)
"""Times as long as usual, from what a module's monitor notices on."""
LATER_S = (0.15, 0.4, 1.0, 2.5)
"""Seconds for which something sticks before it moves."""


def slow_severities(branch: str) -> tuple[Severity, ...]:
    """It takes several times as long."""
    return tuple(
        Severity(f"{times:g} times as slow", 1 / len(SLOWER), (Change(branch, lag_scale=times),), ("slow", math.log10(times)))
        for times in SLOWER
    )


def late_severities(branch: str) -> tuple[Severity, ...]:
    """It begins to move late."""
    return tuple(
        Severity(f"{seconds:g} s late", 1 / len(LATER_S), (Change(branch, dead_s=seconds),), ("late", math.log10(seconds)))
        for seconds in LATER_S
    )


def awake_with_the_key() -> ActiveWhen:
    """When most modules are awake."""
    return {"key": ["on", "run"]}


def normalised(active_when: ActiveWhen) -> dict[str, tuple[str, ...]]:
    """``{fan: on}`` and ``{fan: [on]}`` mean the same."""
    return {name: (values,) if isinstance(values, str) else tuple(values) for name, values in active_when.items()}


def listed(active_when: ActiveWhen) -> dict[str, list[str]]:
    """The same as lists, for checking."""
    return {name: list(values) for name, values in normalised(active_when).items()}


def open_severity(branch: str) -> tuple[Severity, ...]:
    """A clean break."""
    return (Severity("open", 1.0, (Change(branch, add_ohm=OPEN_OHM),)),)


FAINT_OHM, FAINT_SHARE = 0.25, 0.3
"""Added resistances below this are no more than a long wire has, and count so much of others."""


def series_severities(branch: str, grid: tuple[float, ...] = SERIES_GRID_OHM) -> tuple[Severity, ...]:
    """Added resistance, equally likely per step of a log grid (scale-free ignorance); what is faint seldom brings a vehicle in."""
    weights = [FAINT_SHARE if r < FAINT_OHM else 1.0 for r in grid]
    return tuple(
        Severity(format_si(r, "Ω", 2), weight / sum(weights), (Change(branch, add_ohm=r),), ("add", math.log10(r)))
        for r, weight in zip(grid, weights, strict=True)
    )


def path_severities(branch: str, grid: tuple[float, ...] = LEAK_GRID_OHM) -> tuple[Severity, ...]:
    """An unwanted path of given resistance, equally likely per step of a log grid."""
    return tuple(Severity(format_si(r, "Ω", 2), 1 / len(grid), (Change(branch, set_ohm=r),), ("set", math.log10(r))) for r in grid)


def scale_severities(branch: str, grid: tuple[float, ...] = LOST_SHARES) -> tuple[Severity, ...]:
    """A resistance that is a wrong share of what it should be: shorted turns, a drifted element."""
    return tuple(
        Severity(
            f"{f:.0%} of its resistance" if f < 1 else f"×{f:g}",
            1 / len(grid),
            (Change(branch, scale=f),),
            ("scale", math.log10(f)),
        )
        for f in grid
    )


def source_severities(branch: str, grid: tuple[float, ...]) -> tuple[Severity, ...]:
    """A source that gives a wrong share of what it should."""
    return tuple(
        Severity("nothing" if f < 0.015 else f"×{f:g}", 1 / len(grid), (Change(branch, emf_scale=f),), ("source", f)) for f in grid
    )
