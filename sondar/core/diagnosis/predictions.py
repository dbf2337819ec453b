"""What each test would show under each hypothesis: distributions for belief, outcome classes for the ranking.

A ``Predictor`` belongs to one circuit at one temperature. It computes a set-up when first asked and keeps it: all its
results depend on the circuit document alone, so they may be shared between jobs and thrown away at will.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt
from cachetools import LRUCache
from scipy.special import ndtr

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.costs import own_minutes, touched
from sondar.core.diagnosis.forecast import SECOND_SEVERITY, Forecast, Parameters, blended, cell_slope, forecast, parameters_of
from sondar.core.diagnosis.hypotheses import HypothesisSet, build_hypotheses
from sondar.core.instruments import INSTRUMENTS, ORDINARY, displays, instrument, sensible_tests
from sondar.core.instruments.base import Controls, Display, Instrument, Population, Test
from sondar.core.instruments.reading import Reading
from sondar.core.interruption import checkpoint
from sondar.core.solving.operating_points import SAMPLES
from sondar.core.solving.parameters import TEMPERATURE

Array = npt.NDArray[np.float64]

NUMERIC_CLASSES = 10
WORD_CLASSES = max(len(device.words) for device in INSTRUMENTS.values())
CLASSES = NUMERIC_CLASSES + WORD_CLASSES
MISREAD = 0.02
"""Chance of a misplaced probe, a misread display or a typing error, per reading."""

ERROR_ELSEWHERE, ERROR_NO_CONTACT = 0.5, 0.3
"""Shares of such errors that show what another point of the circuit has, and that touch nothing; the rest can be anything."""

NEVER_BELOW = 1e-4
"""Outcome classes that no hypothesis gives this probability are left out."""

LIVE_WORD_BELOW = 0.05
"""A test is a trap where a healthy circuit shows voltage with at least this probability and the instrument must meet none."""
IDLE_WORD_ABOVE = 0.8
"""A part is not at work where a healthy one does nothing with at least this probability."""

MOVES_LEAST = 0.2
"""A test of a whole vehicle is kept if some outcome's probability differs by this much between two of the faults considered."""

TEMPERATURE_SD = 13.0
"""Standard deviation in kelvin of parts that nobody has measured: a workshop, a yard, a winter street."""

CELL_K = 10.0
"""Width of a temperature cell of thermistors."""

KNOWN_BATTERY, KNOWN_K = 0.15, 3.0
"""The plan's vehicles: share of the battery's spread that is left once it has been measured, and kelvins likewise."""

LEARNED_KEPT = 12
"""Sequences of readings whose learning is kept per predictor, so that the next reading starts from there."""

OTHERS_KEPT = 5
"""Other sets of hypotheses, such as pairs, that are kept per predictor: the candidates are often the same after the next reading."""

FORECASTS_KEPT = 256
"""Tests that are kept per predictor; one takes about half a megabyte."""

HEALTHY_SDS, GAP_BORDERS = 2.5, 4
"""Half-width of the class of healthy figures in standard deviations; borders that are put into the widest gaps."""

FIRST_CELLS, MOST_CELLS = 5e5, 2e6
FIRST_SETUPS, LEAST_SETUPS = 2, 6
"""Hypotheses times points times set-ups that are worked out for the first step, and for any; at least so many set-ups. Each reading adds
as much again as the first step: a large circuit answers at once with what is near, and what is further away follows. The largest
circuits of the library need less than the first."""

SEPARATION = 1.6
"""Neighbouring predictions this many pooled standard deviations apart fall into different outcome classes."""


@dataclass(frozen=True, eq=False)
class SetupPredictions:
    """All sensible tests of one set-up with their outcome classes, those that some hypothesis leads to.

    Attributes:
        tests: (T,) the tests.
        displays: per instrument, over that instrument's tests; ``pair`` (T,) indexes into them.
        edges: (T, NUMERIC_CLASSES + 1) class borders in the working scale, −inf … inf, unused ones inf.
        chance: (N, H) probability of each outcome class that is used, test after test; sums to 1 over the rows of a test.
        outcome: (N,) which class a row is. first: (T + 1,) row at which each test begins.
        minutes: (T,) of the test itself. places: per test the places that it needs, with minutes to reach each the first time.
        trap: (T,) a healthy circuit may show voltage where the instrument must meet none.
        idle: (T,) nothing is commanded there: a healthy part would do nothing.
        teaching: tests that tell what others are judged by, such as a thermometer: what they are good for only readings show.
    """

    setup: Setup
    tests: tuple[Test, ...]
    pair: npt.NDArray[np.intp]
    edges: Array
    chance: npt.NDArray[np.float32]
    outcome: npt.NDArray[np.intp]
    first: npt.NDArray[np.intp]
    displays: dict[str, Display]
    minutes: Array
    places: tuple[dict[str, float], ...]
    trap: npt.NDArray[np.bool_]
    idle: npt.NDArray[np.bool_]
    teaching: npt.NDArray[np.intp]

    def display(self, test: int) -> Display:
        """Predicted display (H − 1, 1) of a test."""
        return self.displays[self.tests[test].instrument].at(int(self.pair[test]))

    def outlook(self, test: int) -> Outlook:
        """What may come of a test."""
        rows = slice(self.first[test], self.first[test + 1])
        return Outlook(self.display(test), self.edges[test], self.outcome[rows], self.chance[rows])


@dataclass(frozen=True, eq=False)
class Outlook:
    """What may come of one test.

    Attributes:
        shown: (H − 1, 1) display. edges: (NUMERIC_CLASSES + 1,) class borders in the working scale.
        outcome: (K,) classes; chance: (K, H) probability of each under each hypothesis.
    """

    shown: Display
    edges: Array
    outcome: npt.NDArray[np.intp]
    chance: npt.NDArray[np.float32]

    def ends(self, row: int) -> tuple[float, float] | None:
        """Ends in the working scale of an outcome class of figures; None where no prediction falls into it."""
        mean, sd, outcome = self.shown.mean[:, 0], self.shown.sd[:, 0], self.outcome[row]
        low, high = self.edges[outcome], self.edges[outcome + 1]
        inside = (mean >= low) & (mean < high)
        if not inside.any():
            return None
        return max(float(np.min(mean[inside] - sd[inside])), float(low)), min(float(np.max(mean[inside] + sd[inside])), float(high))

    def word(self, row: int) -> str | None:
        """The word of an outcome class; None for a class of figures."""
        outcome = self.outcome[row]
        return self.shown.instrument.words[outcome - NUMERIC_CLASSES] if outcome >= NUMERIC_CLASSES else None


class Predictor:
    """Predictions of one circuit at one temperature, computed on demand and kept.

    Args:
        instruments: those whose tests are worked out for every set-up; any other can still be read and judged.
        only: ids of the faults considered, for a whole vehicle after its triage; tests that none of them moves are then left out.
        samples: vehicles by which tolerances are spread, the nominal one included.
        temperature_sd: standard deviation in kelvin of the parts' temperature around that of the job.
    """

    def __init__(
        self, circuit: Circuit, temperature_c: float = 20.0, instruments: Sequence[str] = ORDINARY, only: frozenset[str] | None = None,
        samples: int = SAMPLES, temperature_sd: float = TEMPERATURE_SD,
    ) -> None:  # fmt: skip
        self.only, self.samples, self.temperature_sd = only, samples, temperature_sd
        self.circuit = circuit
        self.temperature_c = temperature_c
        self.instruments = frozenset(instrument(name).id for name in instruments)
        self._setups: dict[Setup, SetupPredictions] = {}
        self._displays: dict[Test, Display] = {}
        self.tables, self.blur = True, 0.0
        self._shared: dict[Controls, Array] = {}
        self._learned: LRUCache[tuple[Reading, ...], object] = LRUCache(LEARNED_KEPT)
        self._forecasts: LRUCache[tuple[Test, float], Forecast] = LRUCache(FORECASTS_KEPT)
        self._others: LRUCache[Hashable, Predictor] = LRUCache(OTHERS_KEPT)
        self._lock = threading.RLock()

    @cached_property
    def hypotheses(self) -> HypothesisSet:
        """Everything that may be wrong."""
        checkpoint("listing what may be wrong")
        return build_hypotheses(self.circuit, self.temperature_c, self.only)

    def of(self, key: Hashable, hypotheses: Callable[[], HypothesisSet], blur: float) -> Predictor:
        """The same circuit under other hypotheses, for single readings: no tables, and figures blurred by a share of themselves.

        The latest are kept under their key, with what readings have taught under them.
        """
        with self._lock:
            if key not in self._others:
                self._others[key] = self._of(hypotheses(), blur)
            return self._others[key]

    def _of(self, hypotheses: HypothesisSet, blur: float) -> Predictor:
        other = Predictor(self.circuit, self.temperature_c, tuple(self.instruments), self.only, self.samples, self.temperature_sd)
        other.tables, other.blur = False, blur
        names = self.parameters.names if hypotheses.second is None else (*self.parameters.names, SECOND_SEVERITY)
        other.__dict__["hypotheses"], other.__dict__["parameters"] = hypotheses, replace(self.parameters, names=names)
        return other

    def affordable_setups(self, readings: int) -> int:
        """Set-ups whose every test can be worked out for the step after so many readings; a circuit of the usual size has fewer."""
        each = len(self.hypotheses.suspects) * max(1, len(self.circuit.points))
        cells, least = FIRST_CELLS * (1 + readings), FIRST_SETUPS * (1 + readings)
        return max(min(LEAST_SETUPS, least), int(min(MOST_CELLS, cells) / each))

    @cached_property
    def control_states(self) -> list[Controls]:
        """Control positions worth measuring in, those that some instrument at hand needs among them."""
        needed = [state for name in sorted(self.instruments) for state in INSTRUMENTS[name].states(self.circuit)]
        return list(dict.fromkeys([*self.circuit.distinct_states, *needed]))

    def setup(self, setup: Setup) -> SetupPredictions:
        """Predictions of every sensible test in a set-up."""
        with self._lock:
            if setup not in self._setups:
                self._setups[setup] = self._compute(setup)
            return self._setups[setup]

    def display_of(self, test: Test) -> Display:
        """Predicted display (H − 1, 1) of any one test, sensible or not.

        Raises:
            UnknownReferenceError: unknown instrument or point.
        """
        instrument(test.instrument)
        self.circuit.point(test.red), self.circuit.point(test.black)
        with self._lock:
            if test not in self._displays:
                known = self._setups.get(test.setup)
                if known is not None and test in known.tests:
                    self._displays[test] = known.display(known.tests.index(test))
                else:
                    self._displays[test] = self._displays_of(test.setup, [test])[test.instrument]
            return self._displays[test]

    @cached_property
    def parameters(self) -> Parameters:
        """Everything that readings share."""
        cells = len(self.temperature_cells)
        spread = self.temperature_sd if cells == 1 else CELL_K / np.sqrt(12.0)
        return parameters_of(self.circuit, self.circuit.usual_states(), spread)

    @cached_property
    def temperature_cells(self) -> tuple[tuple[float, float], ...]:
        """(kelvins above the job's temperature, prior weight) of temperatures that have to be told apart.

        One if everything follows temperature so weakly that a straight line does, as copper does.
        """
        if not any(part.family == "ntc" for part in self.circuit.parts.values()) or self.temperature_sd < CELL_K / 2:  # type: ignore[attr-defined]
            return ((0.0, 1.0),)
        shifts = CELL_K * np.arange(-3.0, 4.0)
        weights = np.exp(-0.5 * (shifts / self.temperature_sd) ** 2)
        return tuple((float(s), float(w)) for s, w in zip(shifts, weights / weights.sum(), strict=True))

    def shared_directions(self, setup: Setup) -> Array:
        """(2, D) how the battery's voltage in a set-up and the temperature of the parts follow from the parameters."""
        if setup.controls not in self._shared:
            found = np.zeros((2, len(self.parameters.names)))
            for branch in self.circuit.parts[self.circuit.battery].branches(self.circuit.battery, setup):
                for name, volts in branch.causes:
                    found[0, self.parameters.index(name)] = volts
            found[1, self.parameters.index(TEMPERATURE)] = self.parameters.temperature_sd
            self._shared[setup.controls] = found
        return self._shared[setup.controls]

    def recalled(self, readings: tuple[Reading, ...]) -> tuple[int, object | None]:
        """How many of the first readings have been learned already, and what was kept of them; safe among threads."""
        with self._lock:
            known = next((n for n in range(len(readings), 0, -1) if readings[:n] in self._learned), 0)
            return known, self._learned.get(readings[:known]) if known else None

    def keep(self, readings: tuple[Reading, ...], learned: object) -> None:
        """Keep what a sequence of readings has taught, in place of what was not asked for longest."""
        with self._lock:
            self._learned[readings] = learned

    def forecast(self, test: Test, kelvin: float = 0.0) -> Forecast:
        """One test under every hypothesis, with its parts warmer by so many kelvins than its set-up says."""
        key = (test, kelvin)
        with self._lock:
            if key not in self._forecasts:
                setup = replace(test.setup, temperature_c=test.setup.temperature_c + kelvin)
                self._forecasts[key] = forecast(
                    self.circuit, self.hypotheses, self.parameters, replace(test, setup=setup), self.blur
                )
            return self._forecasts[key]

    def _displays_of(self, setup: Setup, tests: Sequence[Test]) -> dict[str, Display]:
        hypotheses = self.hypotheses
        faults = [self.circuit.faults.get(suspect.fault) for suspect in hypotheses.suspects[:-1]]
        population = Population(
            self.circuit, setup, hypotheses.changes, hypotheses.blown, faults, self.samples, scale=self._known_scale
        )
        return {name: between_severities(shown, hypotheses) for name, shown in displays(population, tuple(tests)).items()}

    @cached_property
    def _known_scale(self) -> dict[str, float]:
        """Spreads of the plan's vehicles: what can be measured by itself counts as measured."""
        found = {name: KNOWN_BATTERY for name in self.parameters.network if name.startswith(f"{self.circuit.battery} ")}
        return {**found, TEMPERATURE: KNOWN_K}

    def _compute(self, setup: Setup) -> SetupPredictions:
        tests = sensible_tests(self.circuit, setup, self.instruments)
        shown_by = self._displays_of(setup, tests)
        pair = np.zeros(len(tests), dtype=np.intp)
        edges = np.full((len(tests), NUMERIC_CLASSES + 1), np.inf)
        edges[:, 0] = -np.inf
        outcome = np.zeros((len(tests), CLASSES, len(self.hypotheses.suspects)), dtype=np.float32)
        for name, shown in shown_by.items():
            checkpoint()
            rows = np.array([i for i, t in enumerate(tests) if t.instrument == name], dtype=np.intp)
            pair[rows] = np.arange(len(rows))
            edges[rows], outcome[rows] = outcome_classes(shown, pair[rows])
        if self.only is not None:
            spread = outcome[:, :, :-1].max(axis=2) - outcome[:, :, :-1].min(axis=2)
            kept = np.flatnonzero(spread.max(axis=1) > MOVES_LEAST)
            tests, pair, edges, outcome = [tests[i] for i in kept], pair[kept], edges[kept], outcome[kept]
        used = outcome.max(axis=2, initial=0.0) > NEVER_BELOW
        row, column = np.nonzero(used)
        minutes = np.array([own_minutes(self.circuit, test) for test in tests])
        healthy = [
            (instrument(test.instrument), shown_by[test.instrument].words[0, index])
            for test, index in zip(tests, pair, strict=True)
        ]
        traps = [_chance_of(device, device.live_word, words) > LIVE_WORD_BELOW for device, words in healthy]
        idle = [_chance_of(device, device.idle_word, words) > IDLE_WORD_ABOVE for device, words in healthy]
        return SetupPredictions(
            setup, tuple(tests), pair, edges, outcome[row, column], column, np.searchsorted(row, np.arange(len(tests) + 1)), shown_by,
            minutes, tuple(touched(self.circuit, test) for test in tests), np.array(traps, dtype=bool),
            np.array(idle, dtype=bool),
            np.array([i for i, test in enumerate(tests) if instrument(test.instrument).kelvin_per_kelvin], dtype=np.intp),
        )  # fmt: skip


def _chance_of(device: Instrument, word: str, words: Array) -> float:
    """Chance of one of an instrument's words; 0 for none."""
    return float(words[device.words.index(word)]) if word else 0.0


def between_severities(shown: Display, hypotheses: HypothesisSet) -> Display:
    """A display whose every severity of a fault stands for its whole cell of the grid, see ``forecast.cell_slope``.

    Without this a fault of 45 Ω would be thought impossible because neither 30 nor 100 Ω predicts its reading.
    """
    slope = cell_slope(shown.mean, hypotheses.milder, hypotheses.worse, hypotheses.share)
    return replace(shown, sd=np.hypot(shown.sd, slope), words=blended(shown.words, hypotheses))


def outcome_classes(
    shown: Display, pairs: npt.NDArray[np.intp], columns: npt.NDArray[np.intp] | None = None
) -> tuple[Array, npt.NDArray[np.float32]]:
    """Class borders (T, N + 1) and outcome probabilities (T, CLASSES, H) of one instrument's tests.

    Args:
        columns: hypotheses of the drawing that are still in play, the healthy one first; the others are left at 0. All if left out.
    """
    mean, sd, words = shown.mean[:, pairs].T, shown.sd[:, pairs].T, shown.words[:, pairs].transpose(1, 2, 0)
    numeric = np.maximum(0.0, 1.0 - words.sum(axis=1))  # (T, H − 1)
    count = len(pairs)
    edges = np.full((count, NUMERIC_CLASSES + 1), np.inf)
    edges[:, 0] = -np.inf
    if shown.instrument.figures:
        edges[:, 1:-1] = _borders(mean, sd, numeric > 0.05)
    total = mean.shape[1] + 1
    if columns is not None:
        mean, sd, words, numeric = mean[:, columns], sd[:, columns], words[:, :, columns], numeric[:, columns]
    outcome = np.zeros((count, CLASSES, mean.shape[1] + 1))
    _fill_figures(outcome[:, :NUMERIC_CLASSES, :-1], edges, mean, sd, numeric)
    outcome[:, NUMERIC_CLASSES : NUMERIC_CLASSES + words.shape[1], :-1] = words
    used = outcome[:, :, :-1].max(axis=2) > 1e-3
    anything = ERROR_ELSEWHERE * _of_other_points(shown, edges)
    word = shown.instrument.no_contact
    rest = 1.0 - ERROR_ELSEWHERE - (ERROR_NO_CONTACT if word else 0.0)
    anything += rest * used / used.sum(axis=1, keepdims=True)
    if word:
        anything[:, NUMERIC_CLASSES + shown.instrument.words.index(word)] += ERROR_NO_CONTACT
    outcome[:, :, :-1] = (1.0 - MISREAD) * outcome[:, :, :-1] + MISREAD * anything[:, :, None]
    # Something not on the drawing: half the time this reading is as if healthy, else it can be anything.
    outcome[:, :, -1] = 0.5 * outcome[:, :, 0] + 0.5 * anything
    outcome = np.maximum(outcome, 0.0)  # rounding
    outcome /= outcome.sum(axis=1, keepdims=True)
    if columns is None:
        return edges, outcome.astype(np.float32)
    full = np.zeros((count, CLASSES, total), dtype=np.float32)
    full[:, :, np.append(columns, total - 1)] = outcome
    return edges, full


def _fill_figures(outcome: Array, edges: Array, mean: Array, sd: Array, numeric: Array) -> None:
    """Probability (T, NUMERIC_CLASSES, H) of each class of figures; borders that are not used are infinite and cost nothing."""
    before = np.zeros_like(numeric)
    for column in range(NUMERIC_CLASSES):
        used = np.flatnonzero(np.isfinite(edges[:, column + 1])) if column + 1 < NUMERIC_CLASSES else np.empty(0, dtype=np.intp)
        below = numeric.copy()
        below[used] *= ndtr((edges[used, column + 1, None] - mean[used]) / sd[used])
        np.subtract(below, before, out=outcome[:, column])
        before = below


def _borders(mean: Array, sd: Array, figures: npt.NDArray[np.bool_]) -> Array:
    """(T, NUMERIC_CLASSES − 1) sorted class borders, unused ones inf.

    First both ends of what a healthy vehicle shows; then the widest gaps between predictions, measured in pooled standard deviations,
    which is what the instrument can tell apart and a person would call different results; then, where cells of a grid lie side by side
    without gaps, borders that divide what lies outside the healthy range evenly.
    """
    healthy = figures[:, :1]
    low = np.where(healthy, mean[:, :1] - HEALTHY_SDS * sd[:, :1], np.inf)
    high = np.where(healthy, mean[:, :1] + HEALTHY_SDS * sd[:, :1], np.inf)
    usable = np.where(figures, mean, np.inf)
    order = np.argsort(usable, axis=1)
    ranked, noise = np.take_along_axis(usable, order, axis=1), np.take_along_axis(sd, order, axis=1)
    with np.errstate(invalid="ignore"):
        gap = (ranked[:, 1:] - ranked[:, :-1]) / np.hypot(noise[:, 1:], noise[:, :-1])
        middle = 0.5 * (ranked[:, 1:] + ranked[:, :-1])
    gap = np.where(np.isfinite(gap), gap, 0.0)
    wide = np.argsort(-gap, axis=1)[:, :GAP_BORDERS]
    gaps = np.take_along_axis(middle, wide, axis=1)
    gaps = np.where(np.take_along_axis(gap, wide, axis=1) > SEPARATION, gaps, np.inf)
    gaps = np.where((gaps > low) & (gaps < high), np.inf, gaps)
    outside = np.where(figures & ~((mean >= low) & (mean <= high)), mean, np.nan)
    spread = np.full((len(mean), NUMERIC_CLASSES - 3 - GAP_BORDERS), np.inf)
    some = np.isfinite(outside).any(axis=1)
    if some.any():
        shares: Array = np.linspace(0.0, 1.0, spread.shape[1] + 2)[1:-1]
        spread[some] = _quantiles(outside[some], shares)
    spread = np.where((spread >= low) & (spread <= high), np.inf, spread)
    found = np.concatenate([low, high, gaps, spread], axis=1)
    full = np.full((len(mean), NUMERIC_CLASSES - 1), np.inf)
    full[:, : found.shape[1]] = found
    return np.sort(full, axis=1)


def _quantiles(values: Array, shares: Array) -> Array:
    """(T, shares) quantiles of the finite values of each row, interpolated linearly; every row has one."""
    ranked = np.sort(values, axis=1)  # those that are none come last
    last = np.isfinite(ranked).sum(axis=1, keepdims=True) - 1
    at = shares * last
    below = np.floor(at).astype(np.intp)
    low = np.take_along_axis(ranked, below, axis=1)
    high = np.take_along_axis(ranked, np.minimum(below + 1, last), axis=1)
    return np.asarray(low + (at - below) * (high - low))


def _of_other_points(shown: Display, edges: Array) -> Array:
    """(T, CLASSES) where a reading falls that was taken at another point of the healthy circuit by mistake."""
    mean, sd, words = shown.mean[0], shown.sd[0], shown.words[0]  # (P,), (P,), (P, n_words)
    below = ndtr((edges[:, None, :] - mean[None, :, None]) / sd[None, :, None])
    below[..., -1] = 1.0
    found = np.zeros((len(edges), CLASSES))
    found[:, :NUMERIC_CLASSES] = (np.diff(below, axis=2) * (1.0 - words.sum(axis=1))[None, :, None]).mean(axis=1)
    found[:, NUMERIC_CLASSES : NUMERIC_CLASSES + words.shape[1]] = words.mean(axis=0)
    return found
