"""What every instrument shares: a test, what is shown, and the class that one file per instrument fills in.

An instrument knows its words and unit, its error, how it loads the circuit, what it must not touch, which tests it offers in a
set-up, and what it shows there. Everything else (belief, ranking, record, screen, simulated vehicle) asks it and never its id, so a
new instrument is one file here and one line in ``__init__``.

Array layout: S samples of tolerances (0 is the nominal vehicle), H hypotheses, P tests of one instrument, W words.
Working scale: log10(figure + offset) where ``log_scale`` is set (ohms + 0.5 Ω, seconds + 0.05 s), the figure itself elsewhere.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Fault, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.errors import QuantityError
from sondar.core.quantities import Entry, parse_entry
from sondar.core.solving.operating_points import SAMPLES, Hypothesis, Mask, Pair, Waves
from sondar.core.solving.parameters import SHARED
from sondar.core.solving.solver import solve_waves

if TYPE_CHECKING:
    from sondar.core.instruments.access import Access

Array = npt.NDArray[np.float64]
Controls = tuple[tuple[str, str], ...]

LOG_OFFSET_OHM = 0.5
"""Resistances below this are told apart by their difference rather than their ratio: test leads and the last digit blur them."""


@dataclass(frozen=True)
class Test:
    """One measurement: instrument, where the two probes go (or what is looked at), and the set-up."""

    __test__ = False  # not a pytest class

    instrument: str
    red: str
    black: str
    setup: Setup


@dataclass(frozen=True, eq=False)
class Population:
    """Every vehicle considered in one set-up: hypotheses × samples of the tolerances.

    Attributes:
        hypotheses: (H,) changes of branches. blown: (H, n_fuses) fuses that each has opened.
        faults: (H,) the fault behind each, None for a healthy vehicle; only findings ask for it.
        deviates: standard normal deviates per parameter: one certain vehicle in place of samples.
        scale: factor on the deviates of single parameters among the samples.
    """

    circuit: Circuit
    setup: Setup
    hypotheses: Sequence[Hypothesis]
    blown: Mask
    faults: Sequence[Fault | None] = ()
    samples: int = SAMPLES
    deviates: dict[str, float] | None = None
    scale: Mapping[str, float] = field(default_factory=dict)

    def solve(self, pairs: Sequence[Pair], flows: Sequence[str] = (), setup: Setup | None = None) -> Waves:
        """Operating points at the pairs and in the branches asked for, in this set-up or another."""
        return solve_waves(
            self.circuit, setup or self.setup, pairs, self.hypotheses, self.blown, samples=self.samples, deviates=self.deviates,
            flows=flows, scale=self.scale,
        )  # fmt: skip

    def timing(self, part_id: str, field: Literal["lag_scale", "dead_s"], together: Callable[[list[float]], float]) -> Array:
        """(H,) what each hypothesis changes of a part's timing: nothing, one change, or two taken together by ``sum`` or ``prod``."""
        found = np.full(len(self.hypotheses), together([]), dtype=float)
        for h, values in self._timing_changes.get((part_id, field), {}).items():
            found[h] = together(values)
        return found

    @cached_property
    def _timing_changes(self) -> dict[tuple[str, str], dict[int, list[float]]]:
        """(part, field) -> hypothesis -> what it changes of the part's timing."""
        found: dict[tuple[str, str], dict[int, list[float]]] = {}
        for h, changes in enumerate(self.hypotheses):
            for change in changes:
                for name, value in (("lag_scale", change.lag_scale), ("dead_s", change.dead_s)):
                    if value is not None:
                        found.setdefault((change.branch.split(".")[0], name), {}).setdefault(h, []).append(value)
        return found

    def blocked(self, branches: Sequence[str]) -> npt.NDArray[np.bool_]:
        """(H, P) True where a hypothesis keeps the part behind a branch from acting."""
        return np.array([[any(c.blocks and c.branch == b for c in changes) for b in branches] for changes in self.hypotheses])


@dataclass(frozen=True, eq=False)
class Solved:
    """The operating points of all tests of a set-up, solved at once."""

    waves: Waves
    pairs: Mapping[Pair, int]
    flows: Mapping[str, int]

    def at(self, pairs: Sequence[Pair]) -> Waves:
        """Between some of the pairs of nodes."""
        return self.waves.of_pairs([self.pairs[pair] for pair in pairs])

    def amps(self, branches: Sequence[str]) -> Array:
        """(S, H, P) mean current in some of the branches."""
        columns = [self.flows[branch] for branch in branches]
        return self.waves.mean([points.flow_amps[:, :, columns] for points in self.waves.states])

    def peak_amps(self, branches: Sequence[str]) -> Array:
        """(S, H, P) greatest current of any switching state, without its sign."""
        columns = [self.flows[branch] for branch in branches]
        return np.asarray(np.max([np.abs(points.flow_amps[:, :, columns]) for points in self.waves.states], axis=0))


@dataclass(frozen=True, eq=False)
class Observation:
    """What an instrument without any error of its own shows.

    Attributes:
        value: (S, H, P) figure in SI units; None if it shows words only.
        words: (S, H, P, W) chance of each word; the rest is the figure. None if it has no words.
        wander: (H, P) standard deviation by which a figure wanders while it is read, in SI units.
    """

    value: Array | None = None
    words: Array | None = None
    wander: Array | None = None


@dataclass(frozen=True, eq=False)
class Display:
    """Distribution of what an instrument shows, its error and the spread of healthy vehicles included.

    Attributes:
        mean, sd: (H, P) of the figure, in the working scale.
        words: (H, P, W) probability of each word; the rest is the figure.
        nominal: (H, P) SI value for the nominal vehicle, the index of its word where there are words only.
        shared: (2, H, P) how the figure moves per volt of the battery and per kelvin of the parts; None where that is not known.
    """

    instrument: Instrument
    mean: Array
    sd: Array
    words: Array
    nominal: Array
    shared: Array | None = None

    def at(self, test: int) -> Display:
        """The same for one test, keeping the axis with length 1."""
        one = slice(test, test + 1)
        shared = None if self.shared is None else self.shared[:, :, one]
        return Display(self.instrument, self.mean[:, one], self.sd[:, one], self.words[:, one], self.nominal[:, one], shared)


@dataclass(frozen=True)
class Discovery:
    """What is wrong with a simulated vehicle, seen from one place, for instruments that find things out without a meter.

    Attributes:
        here: faults of the place itself. at_ends: faults of wires that end there. everything: all faults of the vehicle.
        loose: some fault of the vehicle is there only while the harness is moved. provoked: what else brings a fault out: hot, cold.
        overloaded: something else than the fuse at the place opens it.
    """

    place: str
    here: tuple[Fault, ...]
    at_ends: tuple[Fault, ...]
    everything: tuple[Fault, ...]
    loose: bool
    provoked: frozenset[str] = frozenset()
    overloaded: bool = False


class Instrument(ABC):
    """Something to measure, look or listen with. Subclasses fill in the attributes and the abstract methods.

    Attributes:
        minutes: time for one reading with the points at hand.
        words: what it can show besides a figure, in the order of ``Observation.words``.
        word_labels: how a word is written on a button, where that differs.
        synonyms: other ways to enter a word, in lower case. soft_words: words that people use and no display has, with how likely
            each proper word is behind it.
        figures: it shows figures. log_scale: its working scale is log10 of the figure and ``log_offset``, below which figures are told
            apart by their difference.
        error_stays, error_changes: of its standard error the shares that stay with it, and that change from reading to reading.
        error_share, error_floor: error bound as share of the reading plus a floor in SI units (counts, test leads).
        span: width in the working scale over which a probe or reading error can land.
        no_contact: what it shows when a probe touches nothing; empty if that cannot happen.
        probes: it has two probes that touch points; else it looks at a part, a wire or a module's own value.
        recorded: it is read off a recording of live data while something is commanded.
        ordinary: every workshop has it. finding: it does not depend on the set-up, so it is filed under rest.
        as_it_stands: made with the key off and whatever is apart left apart.
        query: SCPI measurement instruction of a bench meter that can be asked for it (SCPI-1999, volume 2); empty for none.
        accuracy_of: which accuracy of a workshop's meter applies, ``volts`` or ``ohms``; empty for none.
        caution: shown with every test.
        decimals: of a figure as a simulated instrument shows it. never_negative: it has no sign.
        confirms: it is only made where its place leads, before that is called.
        kelvin_per_kelvin: how its figure follows the temperature of the parts where nothing is solved for it; above 0 it is a test that
            teaches what others are judged by.
        dead_circuit: it is used without supply, and tells nothing of what a line carries.
        idle_word: what a healthy part shows where it is not commanded; that is only asked after it has been commanded once.
        live_word: word that tells of voltage where none may be; its tests are not proposed where a healthy circuit shows it.
    """

    id: ClassVar[str]
    title: ClassVar[str]
    unit: ClassVar[str] = ""
    minutes: ClassVar[float] = 0.4
    words: ClassVar[tuple[str, ...]] = ()
    word_labels: ClassVar[Mapping[str, str]] = {}
    synonyms: ClassVar[Mapping[str, str]] = {}
    soft_words: ClassVar[Mapping[str, Mapping[str, float]]] = {}
    figures: ClassVar[bool] = True
    log_scale: ClassVar[bool] = False
    log_offset: ClassVar[float] = LOG_OFFSET_OHM
    error_stays: ClassVar[float] = 0.5
    error_changes: ClassVar[float] = 0.9
    error_share: ClassVar[float] = 0.0
    error_floor: ClassVar[float] = 0.0
    span: ClassVar[float] = 17.0
    no_contact: ClassVar[str] = ""
    probes: ClassVar[bool] = True
    recorded: ClassVar[bool] = False
    ordinary: ClassVar[bool] = False
    finding: ClassVar[bool] = False
    as_it_stands: ClassVar[bool] = False
    query: ClassVar[str] = ""
    accuracy_of: ClassVar[Literal["", "volts", "ohms"]] = ""
    caution: ClassVar[str] = ""
    decimals: ClassVar[int] = 2
    never_negative: ClassVar[bool] = False
    confirms: ClassVar[bool] = False
    kelvin_per_kelvin: ClassVar[float] = 0.0
    live_word: ClassVar[str] = ""
    dead_circuit: ClassVar[bool] = False
    idle_word: ClassVar[str] = ""

    # -- which tests --------------------------------------------------------------------------------

    @abstractmethod
    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        """(red, black) of every sensible test in a set-up, only where it may touch; what is looked at stands in place of red."""

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        """True if it can look at a target; only asked of instruments without probes."""
        return False

    def states(self, circuit: Circuit) -> list[Controls]:
        """Positions of the controls that it needs and that nothing else would be measured in."""
        return []

    def why_not(self, access: Access, test: Test) -> str:
        """Why a test is not one of those it offers."""
        if not self.probes:
            return "It tells nothing about this circuit here. The reading can still be recorded."
        return "Nothing sensible is expected between these two points in this set-up. The reading can still be recorded."

    def extra_minutes(self, circuit: Circuit, ref: str) -> float:
        """Minutes beyond reaching the place and ``minutes``."""
        return 0.0

    # -- what it shows ------------------------------------------------------------------------------

    def quantity(self, circuit: Circuit, test: Test) -> Pair | str | None:
        """What is solved for a test: a pair of nodes, a branch whose current is wanted, or None if it sees to that itself."""
        return circuit.point(test.red).node, circuit.point(test.black).node

    @abstractmethod
    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        """What it would show at its tests in every vehicle, without its own error."""

    def display(self, seen: Observation) -> Display:
        """The distribution of what it shows: spread of vehicles, its own error and wandering added."""
        chance = _chances(seen.words)
        if seen.value is None:
            assert seen.words is not None
            assert chance is not None
            zero = np.zeros(chance.shape[:2])
            return Display(self, zero, zero + 1.0, chance, seen.words[0].argmax(axis=-1).astype(float))
        values = self.working(seen.value)
        body = _sampled(values)
        mean, variance = body.mean(axis=0), body.var(axis=0)
        shared = values[-len(SHARED) :] - values[0] if len(body) < len(values) else None
        size = 10.0**mean if self.log_scale else np.abs(mean)
        # GUM type B: an error bound is a rectangular distribution of standard deviation bound / √3.
        error = (self.error_share * size + self.error_floor) / np.sqrt(3.0)
        if self.log_scale:
            error = error / (size * np.log(10.0))
        variance = variance + error**2 + (0.0 if seen.wander is None else seen.wander**2)
        words = np.zeros((*mean.shape, len(self.words))) if chance is None else chance
        return Display(self, mean, np.sqrt(variance), words, seen.value[0], shared)

    def discovered(self, discovery: Discovery, luck: float) -> bool:
        """True if a simulated vehicle shows the first word at a place; ``luck`` is uniform in 0 … 1 and fixed per place.

        How often it comes out in simulated vehicles, kept apart from the estimate that the belief uses.
        """
        raise NotImplementedError

    def working(self, value: npt.ArrayLike) -> Array:
        """SI value in the working scale."""
        number = np.asarray(value, dtype=float)
        return np.asarray(np.log10(np.maximum(number, 0.0) + self.log_offset)) if self.log_scale else number

    def from_working(self, value: float) -> float:
        """Back from the working scale to SI."""
        return max(0.0, 10.0**value - self.log_offset) if self.log_scale else value

    # -- words --------------------------------------------------------------------------------------

    @abstractmethod
    def where(self, circuit: Circuit, test: Test) -> str:
        """Where the probes go, or what is looked at, in a sentence."""

    def label(self, word: str) -> str:
        """A word as a button shows it."""
        return self.word_labels.get(word, word)

    def understand(self, text: str) -> Entry:
        """What was typed for this instrument: a figure, a range, or one of its words.

        Raises:
            QuantityError: neither, or a figure that it cannot show.
        """
        cleaned = " ".join(text.lower().split())
        for word in (*self.words, *self.soft_words):
            if cleaned in (word.lower(), self.label(word).lower()):
                return Entry(None, 0.0, word, None)
        if cleaned in self.synonyms:
            return Entry(None, 0.0, self.synonyms[cleaned], None)
        if not self.figures:
            raise QuantityError(text, f"{self.expected_entry()} from the {self.title.lower()}")
        try:
            entry = parse_entry(text)
        except QuantityError as error:
            words = f", or {self.expected_words()}" if self.words else ""
            raise QuantityError(text, f"{error.expected}{words}") from error
        if entry.unit is not None and entry.unit != self.unit:
            raise QuantityError(text, f"{self.expected_entry()} from the {self.title.lower()}")
        assert entry.value is not None
        self.check_value(entry.value)
        return entry

    def expected_words(self) -> str:
        """Its words for a message."""
        return " or ".join(self.label(word) for word in self.words)

    def expected_entry(self) -> str:
        """What may be entered, for a message."""
        return " or ".join(filter(None, (self.unit if self.figures else "", self.expected_words())))

    def check_value(self, value: float) -> None:
        """Raises:
        QuantityError: a figure that it cannot show.
        """
        if self.unit == "V" and abs(value) > 60:
            raise QuantityError(f"{value:g}", "a voltage between −60 and 60 V; add m for millivolts")
        if self.log_scale and value < 0:
            more = "; swap the probes if voltage is present" if self.unit == "Ω" else ""
            raise QuantityError(f"{value:g}", f"0 {self.unit} or more{more}")


def _chances(words: Array | None) -> Array | None:
    """(H, P, W) mean chance of each word over the vehicles."""
    if words is None:
        return None
    return np.asarray(np.clip(_sampled(words).mean(axis=0), 0.0, 1.0))


def _sampled(values: Array) -> Array:
    """Of vehicles (S, …) those that spread tolerances: neither the nominal one nor those moved along ``SHARED``."""
    return values[1 : -len(SHARED)] if len(values) > 1 + len(SHARED) else values


def loaded(volts: Array, ohms: Array, load_ohm: float) -> Array:
    """Voltage with a resistance connected, of a source of open-circuit volts and Thévenin ohms."""
    return np.asarray(volts * (load_ohm / (load_ohm + ohms)))


def one_hot(*masks: npt.NDArray[np.bool_]) -> Array:
    """(S, H, P, W) words from one mask (S, H, P) per word."""
    return np.stack(masks, axis=-1).astype(float)


def probes_sentence(circuit: Circuit, test: Test) -> str:
    """Where the two probes go."""
    return f"Red probe on {circuit.point(test.red).title}; black probe on {circuit.point(test.black).title}."
