"""The vocabulary shared by part families, network and solver.

A *branch* joins two terminals. A *fault* changes branches, by a list of *severities*. A *set-up* says what
the technician has done to the vehicle: key, commands, connectors apart, temperature. A *point* is where a
probe can go.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

Group = Literal["wiring", "module", "component", "system", "setting"]
"""What is at fault: a conductor, a module, a component; what a component moves or senses; something taught or coded."""

Trait = Literal["open", "series", "leak", "stuck", "slow", "weak", "visible", "evident", "cleanable", "intermittent"]
"""What is true of a fault whatever its part: it interrupts, adds resistance, lets current leak, keeps something from moving or lets it
move late or slowly, makes a signal small; it can be seen (or cannot be missed), cured by cleaning, and may come and go."""

CHASSIS = "chassis"
"""Name of the vehicle body, the 0 V reference of every network."""

OPEN_OHM = 1e8
"""What "open" means: 100 MΩ, damp insulation rather than vacuum, so a 10 MΩ meter still floats on it."""

AIR_OHM = 1e9
"""Across the halves of a disconnected connector or an open relay or switch contact."""

COPPER_TEMPERATURE_COEFFICIENT = 0.00393
"""Relative resistance rise of annealed copper per kelvin at 20 °C (IEC 60028)."""


def copper_resistance(resistance_at_20c_ohm: float, temperature_c: float) -> float:
    """Copper resistance in ohms at a temperature in °C: R = R20·(1 + α·(T − 20)) (IEC 60028)."""
    return resistance_at_20c_ohm * (1.0 + COPPER_TEMPERATURE_COEFFICIENT * (temperature_c - 20.0))


@dataclass(frozen=True)
class Curve:
    """Current against voltage of a part that is not a resistor; see ``curves``.

    Attributes:
        kind: ``lamp``, ``motor``, ``diode`` or ``sink``.
        parameters: the curve's own numbers, in SI units, in the order ``curves`` documents.
    """

    kind: Literal["lamp", "motor", "diode", "sink"]
    parameters: tuple[float, ...]


@dataclass(frozen=True)
class RelayContact:
    """A contact that follows the current of a coil branch.

    Attributes:
        coil: id of the coil branch.
        pull_in_a: coil current in amperes at which the contact changes over.
        closed_at_rest: True for a normally closed contact.
        closed_ohm: resistance when closed. open_ohm: when open; more than air has where two resistances are exchanged, as by the wiper
            of a position sensor that an actuator carries along.
    """

    coil: str
    pull_in_a: float
    closed_at_rest: bool
    closed_ohm: float
    open_ohm: float = AIR_OHM


@dataclass(frozen=True)
class Branch:
    """A two-terminal element of the network: v_a − v_b = emf_v + resistance_ohm · i, with i from a to b.

    Attributes:
        id: unique name, ``PART`` or ``PART.role``.
        part: id of the part it belongs to.
        a, b: terminal references.
        resistance_ohm: healthy value in this set-up; ``inf`` for a path that only a fault makes.
        emf_v: source voltage in series, + at terminal a.
        spread: relative standard deviation of the resistance among healthy vehicles.
        state: what it is in, where its resistance is another thing in another state: a transistor that is off is no measure of one that
            is on. Each state has a tolerance of its own.
        emf_spread_v: standard deviation of the source voltage in volts.
        causes: (name, volts) of what moves the source voltage together with others, per standard deviation of that cause.
        curve: set for a non-linear part; the branch is then the curve alone.
        contact: set for a relay contact.
        fuse_rating_a: set for a fuse element.
    """

    id: str
    part: str
    a: str
    b: str
    resistance_ohm: float = math.inf
    emf_v: float = 0.0
    spread: float = 0.0
    emf_spread_v: float = 0.0
    causes: tuple[tuple[str, float], ...] = ()
    curve: Curve | None = None
    contact: RelayContact | None = None
    fuse_rating_a: float | None = None
    state: str = ""

    @property
    def tolerance(self) -> str:
        """Name of what its resistance varies with among healthy vehicles."""
        return f"{self.id} {self.state}" if self.state else self.id


@dataclass(frozen=True)
class Change:
    """What a fault does to one branch. Exactly one of the fields after ``branch`` is used.

    Attributes:
        set_ohm: new resistance; add_ohm: added in series; scale: factor on the resistance.
        emf_v: new source voltage; emf_scale: factor on it.
        curve_parameters: replacements by position in the curve's parameters.
        blocks: the part does not act, whatever flows in it, and what it carries along stays at rest; no current changes.
        lag_scale: factor on the part's time constant; dead_s: seconds added before it begins to move. Neither changes a steady state.
    """

    branch: str
    set_ohm: float | None = None
    add_ohm: float | None = None
    scale: float | None = None
    emf_v: float | None = None
    emf_scale: float | None = None
    curve_parameters: tuple[tuple[int, float], ...] | None = None
    blocks: bool = False
    lag_scale: float | None = None
    dead_s: float | None = None

    @property
    def is_electrical(self) -> bool:
        """False if only what moves is changed: whether, how late and how fast."""
        return not self.blocks and self.lag_scale is None and self.dead_s is None

    @property
    def key(self) -> str:
        """The change in a few signs, e.g. ``+300`` for 300 Ω added in series."""
        for sign, value in (
            ("=", self.set_ohm),
            ("+", self.add_ohm),
            ("*", self.scale),
            ("=V", self.emf_v),
            ("*V", self.emf_scale),
            ("*t", self.lag_scale),
            ("+t", self.dead_s),
        ):
            if value is not None:
                return f"{sign}{value:.6g}"
        if self.curve_parameters is not None:
            return "".join(f"~{position}={value:.6g}" for position, value in self.curve_parameters)
        return "!"


@dataclass(frozen=True)
class Acts:
    """How a person notices that an actuator acts.

    Attributes:
        branch: the branch whose current makes it act; full_a: current at which it acts as it should; weak_a: at which it just does.
        verb: what it does then: spins, clicks, lights, warms, moves.
        by_peak: each pulse moves it by itself, as an injector's needle; else what it does follows the mean current.
    """

    branch: str
    full_a: float
    weak_a: float
    verb: str
    by_peak: bool = False


@dataclass(frozen=True)
class Severity:
    """One severity of a fault: a label such as ``30 Ω``, its share of the fault's rate, its changes.

    Attributes:
        grade: (axis, position) of a cell on a grid, which stands for everything halfway to its neighbours on the same axis; None for a
            severity that stands for itself alone.
        width: how much of the axis the cell stands for, where that does not follow from its neighbours.
    """

    label: str
    weight: float
    changes: tuple[Change, ...]
    grade: tuple[str, float] | None = None
    width: float | None = None

    @property
    def key(self) -> str:
        """What it is stored under: its changes in SI units, whatever its label reads like."""
        return "+".join(f"{change.branch.rsplit('.', 1)[-1]}{change.key}" for change in self.changes)


@dataclass(frozen=True)
class Fault:
    """One failure mode at one place.

    Attributes:
        id: ``PART.mode``.
        title: a phrase for the screen, without the severity.
        group: wiring, module or component.
        unit: id of what would be repaired or replaced.
        rate: relative frequency among faults of this circuit.
        branch: the branch to mark on the drawing.
        repair: what one would do about it.
        traits: what kind of fault it is, for everything that must not go by the name of a mode.
    """

    id: str
    part: str
    mode: str
    title: str
    group: Group
    unit: str
    rate: float
    branch: str
    severities: tuple[Severity, ...]
    repair: str = ""
    traits: frozenset[Trait] = frozenset()


@dataclass(frozen=True)
class Setup:
    """What is done to the vehicle while measuring.

    Attributes:
        controls: (name, value) pairs, sorted by name: key, commands, switch positions.
        unplugged: connectors that are apart.
        temperature_c: temperature of the parts.
        pulses: (part, True in its high phase) for parts that pulse; an instant of the set-up, see ``Circuit.phases``.
        drives: (point, ``supply`` or ``ground``) that a powered probe puts on it while a test lasts.
    """

    controls: tuple[tuple[str, str], ...]
    unplugged: frozenset[str] = frozenset()
    temperature_c: float = 20.0
    pulses: tuple[tuple[str, bool], ...] = ()
    drives: tuple[tuple[str, Literal["supply", "ground"]], ...] = ()

    def __getitem__(self, control: str) -> str:
        return dict(self.controls)[control]

    def is_high(self, part: str) -> bool:
        """True unless the part pulses and is in its low phase."""
        return dict(self.pulses).get(part, True)

    def with_control(self, name: str, value: str) -> Setup:
        """The same set-up with one control moved."""
        return Setup(tuple(sorted({**dict(self.controls), name: value}.items())), self.unplugged, self.temperature_c)

    def with_unplugged(self, unplugged: frozenset[str]) -> Setup:
        """The same set-up with exactly these connectors apart."""
        return Setup(self.controls, unplugged, self.temperature_c)

    def describe(self) -> str:
        """One line for people: ``key on · fan on · X12 disconnected``."""
        words = [f"{name} {value}" for name, value in sorted(self.controls, key=lambda c: (c[0] != "key", c[0]))]
        words += [f"{name} disconnected" for name in sorted(self.unplugged)]
        return " · ".join(words)


def is_active(active_when: Mapping[str, tuple[str, ...]], setup: Setup) -> bool:
    """True when every named control stands at one of its listed values."""
    return all(setup[name] in values for name, values in active_when.items())


@dataclass(frozen=True)
class Point:
    """Somewhere a probe can go.

    Attributes:
        ref: reference as in the document (``X12.85``, ``F3.1``, ``chassis``).
        node: network node it sits on.
        title: for people.
        place: connector or part that must be reached.
        access_min: minutes to reach the place the first time.
        when: ``any``, or ``unplugged`` when the connector must be apart.
        connector: the connector, when it belongs to one. sealed: connected, it is measured through a break-out lead between its halves.
    """

    ref: str
    node: str
    title: str
    place: str
    access_min: float
    when: Literal["any", "unplugged"] = "any"
    connector: str | None = None
    sealed: bool = False

    def reachable(self, setup: Setup) -> bool:
        """True when a probe can touch it in this set-up."""
        return self.when == "any" or self.connector in setup.unplugged

    def needs_lead(self, setup: Setup) -> bool:
        """True when a probe touches it only through a break-out lead in this set-up."""
        return self.sealed and self.connector not in setup.unplugged


@dataclass(frozen=True)
class Unit:
    """Something that is repaired or replaced as one.

    Attributes:
        price: purchase price in the workshop's currency; fit_min: minutes to replace or repair.
        coded: True if the new part must be coded or taught in.
    """

    id: str
    title: str
    group: Group
    price: float
    fit_min: float
    coded: bool = False
    place: str = ""
    cautions: tuple[str, ...] = field(default=())
