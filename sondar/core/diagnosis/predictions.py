"""What each test would show under each hypothesis: distributions for belief, outcome classes for the plan.

A ``Predictor`` belongs to one circuit at one temperature. It computes a set-up when first asked and keeps it: all its
results depend on the circuit document alone, so they may be shared between jobs and thrown away at will.
"""

from __future__ import annotations

import threading
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt
from scipy.special import ndtr

from sondar.core.circuit.families import PulledInput
from sondar.core.circuit.model import Acts, Setup
from sondar.core.circuit.monitors import answer_chance
from sondar.core.circuit.network import Circuit
from sondar.core.circuit.probing import Drive, driven_part, driven_setup, probe_branch
from sondar.core.circuit.solver import SAMPLES, Hypothesis, Mask, solve_waves
from sondar.core.diagnosis.findings import finding_display
from sondar.core.diagnosis.hypotheses import HypothesisSet, build_hypotheses, distinct_control_states
from sondar.core.diagnosis.tests import Test, TestFinder
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments import (
    ANSWERS,
    FINDINGS,
    INSTRUMENTS,
    ORDINARY,
    PROBE_GROUND,
    PROBE_SUPPLY,
    Display,
    clamp,
    display,
    driven,
    found_words,
    from_working,
    instrument,
    scan_value,
    senses,
)
from sondar.core.quantities import format_si

Array = npt.NDArray[np.float64]

NUMERIC_CLASSES = 8
WORD_CLASSES = 4
CLASSES = NUMERIC_CLASSES + WORD_CLASSES
MISREAD = 0.02
"""Chance of a misplaced probe, a misread display or a typing slip, per reading."""

SLIP_ELSEWHERE, SLIP_NO_CONTACT = 0.5, 0.3
"""Shares of slips that show what another point of the circuit has, and that touch nothing; the rest can be anything."""

NO_CONTACT = {
    "volts": "bouncing", "ohms": "OL", "lamp": "off", "led": "neither", "hertz": "no signal", "duty": "no signal",
    "source": "no supply", "pull": "floating", "drive": "nothing",
}  # fmt: skip
"""What an instrument shows whose lead touches nothing; without leads it cannot happen."""

DRIVES: dict[str, Drive] = {PROBE_GROUND.id: "ground", PROBE_SUPPLY.id: "supply"}

MOVES_LEAST = 0.2
"""A test of a whole vehicle is kept if some outcome's probability differs by this much between two of the faults considered."""

SEPARATION = 1.6
"""Neighbouring predictions this many pooled standard deviations apart fall into different outcome classes."""


@dataclass(frozen=True, eq=False)
class SetupPredictions:
    """All sensible tests of one set-up with their outcome classes.

    Attributes:
        tests: (T,) the tests.
        edges: (T, NUMERIC_CLASSES + 1) class borders in the working scale, −inf … inf, unused ones inf.
        outcome: (T, CLASSES, H) probability of each class under each hypothesis; sums to 1 over classes.
        displays: per instrument, over that instrument's tests; ``pair`` (T,) indexes into them.
    """

    setup: Setup
    tests: tuple[Test, ...]
    pair: npt.NDArray[np.intp]
    edges: Array
    outcome: npt.NDArray[np.float32]
    displays: dict[str, Display]

    def nominal(self, test: int) -> Array:
        """(H − 1,) nominal display value of a test."""
        shown: Array = self.displays[self.tests[test].instrument].nominal[:, self.pair[test]]
        return shown


class Predictor:
    """Predictions of one circuit at one temperature, computed on demand and kept.

    Args:
        instruments: those whose tests are worked out for every set-up; any other can still be read and judged.
        only: ids of the faults considered, for a whole vehicle after its triage; tests that none of them moves are then left out.
        samples: vehicles by which tolerances are spread, the nominal one included.
    """

    def __init__(
        self, circuit: Circuit, temperature_c: float = 20.0, instruments: Sequence[str] = ORDINARY, only: frozenset[str] | None = None,
        samples: int = SAMPLES,
    ) -> None:  # fmt: skip
        self.only, self.samples = only, samples
        self.circuit = circuit
        self.temperature_c = temperature_c
        self.instruments = frozenset(instruments)
        self._setups: dict[Setup, SetupPredictions] = {}
        self._displays: dict[tuple[str, str, str, Setup], Display] = {}
        self._lock = threading.RLock()

    @cached_property
    def hypotheses(self) -> HypothesisSet:
        """Everything that may be wrong."""
        return build_hypotheses(self.circuit, self.temperature_c, self.only)

    @cached_property
    def finder(self) -> TestFinder:
        """Sensible tests."""
        return TestFinder(self.circuit)

    @cached_property
    def control_states(self) -> list[tuple[tuple[str, str], ...]]:
        """Control positions worth measuring in, those in which a module is asked among them."""
        asked = self.finder.asked_states() if ANSWERS.id in self.instruments else []
        return list(dict.fromkeys([*distinct_control_states(self.circuit), *asked]))

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
            key = test.key()
            if key not in self._displays:
                known = self._setups.get(test.setup)
                index = known.tests.index(test) if known is not None and test in known.tests else None
                if known is not None and index is not None:
                    self._displays[key] = known.displays[test.instrument].at(int(known.pair[index]))
                else:
                    self._displays[key] = self._displays_of(test.setup, [test])[test.instrument]
            return self._displays[key]

    def _displays_of(self, setup: Setup, tests: Sequence[Test]) -> dict[str, Display]:
        found = displays_of(self.circuit, setup, tests, self.hypotheses.changes, self.hypotheses.blown, self.samples)
        for name in dict.fromkeys(t.instrument for t in tests if INSTRUMENTS[t.instrument].kind in FINDINGS):
            refs = [t.red for t in tests if t.instrument == name]
            found[name] = finding_display(self.circuit, name, refs, self.hypotheses.suspects[:-1])
        return {name: between_strengths(shown, self.hypotheses) for name, shown in found.items()}

    def _compute(self, setup: Setup) -> SetupPredictions:
        drives = self.finder.drives(setup) if self.instruments & {PROBE_GROUND.id, PROBE_SUPPLY.id} else []
        tests = [t for t in (*self.finder.tests(setup), *drives) if t.instrument in self.instruments]
        displays = self._displays_of(setup, tests)
        pair = np.zeros(len(tests), dtype=np.intp)
        edges = np.full((len(tests), NUMERIC_CLASSES + 1), np.inf)
        edges[:, 0] = -np.inf
        outcome = np.zeros((len(tests), CLASSES, len(self.hypotheses.suspects)), dtype=np.float32)
        for name, shown in displays.items():
            rows = np.array([i for i, t in enumerate(tests) if t.instrument == name], dtype=np.intp)
            pair[rows] = np.arange(len(rows))
            edges[rows], outcome[rows] = _outcomes(shown, pair[rows])
        if self.only is None:
            return SetupPredictions(setup, tuple(tests), pair, edges, outcome, displays)
        spread = outcome[:, :, :-1].max(axis=2) - outcome[:, :, :-1].min(axis=2)
        kept = np.flatnonzero(spread.max(axis=1) > MOVES_LEAST)
        return SetupPredictions(setup, tuple(tests[i] for i in kept), pair[kept], edges[kept], outcome[kept], displays)


def displays_of(
    circuit: Circuit, setup: Setup, tests: Sequence[Test], hypotheses: Sequence[Hypothesis], blown: Mask, samples: int = SAMPLES
) -> dict[str, Display]:  # fmt: skip
    """Displays (H, T of that instrument) per instrument, over that instrument's tests in their order; findings are left out.

    One solve for all tests that only look; one for each that drives a part with the powered probe.

    Raises:
        UnknownReferenceError: a part is watched that nobody sees, hears or feels acting, or driven that does not act.
    """
    driving = [t for t in tests if INSTRUMENTS[t.instrument].kind == "drive"]
    found = {}
    for name in dict.fromkeys(t.instrument for t in driving):
        shown = [_driven_display(circuit, t, hypotheses, blown, samples) for t in driving if t.instrument == name]
        found[name] = _beside(shown)
    asked = [t for t in tests if INSTRUMENTS[t.instrument].kind == "answers"]
    if asked:
        chances = [answer_chance(circuit, t.red, hypotheses, blown, setup.temperature_c) for t in asked]
        found[ANSWERS.id] = found_words(ANSWERS, np.stack(chances, axis=1))
    tests = [t for t in tests if INSTRUMENTS[t.instrument].kind not in ("drive", "answers", *FINDINGS)]
    if not tests:
        return found
    acts = {t: _acts(circuit, t) for t in tests if INSTRUMENTS[t.instrument].kind == "senses"}
    flow = {t: acts[t].branch if t in acts else t.red for t in tests if INSTRUMENTS[t.instrument].kind in ("amps", "senses")}
    pairs = {t: _pair(circuit, t) for t in tests if t not in flow}
    flows, listed = list(dict.fromkeys(flow.values())), list(dict.fromkeys(pairs.values()))
    waves = solve_waves(circuit, setup, listed, hypotheses, blown, samples=samples, flows=flows)
    place = {pair: i for i, pair in enumerate(listed)}
    for name in dict.fromkeys(t.instrument for t in tests):
        device, own = INSTRUMENTS[name], [t for t in tests if t.instrument == name]
        if device.kind in ("amps", "senses"):
            columns = [flows.index(flow[t]) for t in own]
            amps = waves.mean([points.flow_amps[:, :, columns] for points in waves.instants])
            if device.kind == "amps":
                found[name] = clamp(device, amps)
                continue
            found[name] = senses(device, amps, *_needs([acts[t] for t in own], hypotheses))
        else:
            part = waves.of_pairs([place[pairs[t]] for t in own])
            found[name] = scan_value(device, part, _valid(circuit, own)) if device.kind == "scan" else display(device, part)
    return found


def _needs(watched: Sequence[Acts], hypotheses: Sequence[Hypothesis]) -> tuple[Array, Array, npt.NDArray[np.bool_]]:
    """What each watched part needs to act fully and at all (P,), and where it is blocked (H, P)."""
    blocked = [[any(c.blocks and c.branch == a.branch for c in changes) for a in watched] for changes in hypotheses]
    limits = np.array([(a.full_a, a.weak_a) for a in watched])
    return limits[:, 0], limits[:, 1], np.array(blocked)


def _valid(circuit: Circuit, tests: Sequence[Test]) -> Array:
    """(P, 3) what each module input believes, and what it shows in place of anything else."""
    inputs = [circuit.document.parts[t.red] for t in tests]
    return np.array([(p.valid_low_v, p.valid_high_v, p.substitute_v) for p in inputs if isinstance(p, PulledInput)])


def _driven_display(circuit: Circuit, test: Test, hypotheses: Sequence[Hypothesis], blown: Mask, samples: int) -> Display:
    device, drive = INSTRUMENTS[test.instrument], DRIVES[test.instrument]
    driven_by = driven_part(circuit, test.setup, drive, test.red, test.black)
    if driven_by is None:
        raise UnknownReferenceError("point from which a part can be run", test.red, [])
    setup = driven_setup(test.setup, drive, test.red, test.black)
    acts = driven_by[1]
    waves = solve_waves(circuit, setup, [], hypotheses, blown, samples=samples, flows=[acts.branch, probe_branch(drive)])
    amps = waves.mean([points.flow_amps for points in waves.instants])
    return driven(device, amps[:, :, :1], *_needs([acts], hypotheses), amps[:, :, 1:])


def _beside(shown: Sequence[Display]) -> Display:
    """Displays of single tests put side by side along the pair axis."""
    if len(shown) == 1:
        return shown[0]
    fields = ("mean", "sd", "words", "nominal", "floating")
    return Display(shown[0].instrument, *(np.concatenate([getattr(d, name) for d in shown], axis=1) for name in fields))


def _pair(circuit: Circuit, test: Test) -> tuple[str, str]:
    if INSTRUMENTS[test.instrument].kind == "scan":
        return circuit.node(f"{test.red}.pin"), circuit.node(f"{test.red}.gnd")
    return circuit.point(test.red).node, circuit.point(test.black).node


def _acts(circuit: Circuit, test: Test) -> Acts:
    found = circuit.parts[test.red].acts(test.red, test.setup) if test.red in circuit.parts else None
    if found is None:
        acting = [ref for ref, part in circuit.parts.items() if part.acts(ref, test.setup) is not None]
        raise UnknownReferenceError("part that acts", test.red, acting)
    return found


def between_strengths(shown: Display, hypotheses: HypothesisSet) -> Display:
    """A display whose every strength of a fault stands for its whole cell of the grid, from halfway to either neighbour.

    A strength spread evenly (on the log scale) over its cell spreads what is shown about evenly over the cell's width: a
    rectangular distribution, standard deviation width / √12 (GUM type B). Without this a fault of 45 Ω would be thought
    impossible because neither 30 nor 100 Ω predicts its reading.
    """
    milder, worse = hypotheses.milder, hypotheses.worse
    own = np.arange(len(milder))
    steps = (milder != own).astype(float) + (worse != own)
    # At an end of the grid half the cell lies beyond it, where readings change less: three quarters of one step.
    share = np.where(steps == 2, 0.5, 0.75)
    width = np.abs(shown.mean[worse] - shown.mean[milder]) * share[:, None]
    blend = np.where(steps > 0, 0.5, 1.0)[:, None, None]
    words = blend * shown.words + (1.0 - blend) * 0.5 * (shown.words[milder] + shown.words[worse])
    return replace(shown, sd=np.hypot(shown.sd, width / np.sqrt(12.0)), words=words)


def _outcomes(shown: Display, pairs: npt.NDArray[np.intp]) -> tuple[Array, npt.NDArray[np.float32]]:
    """Class borders (T, N + 1) and outcome probabilities (T, CLASSES, H) of one instrument's tests.

    Borders are put into the widest gaps between predictions, gaps measured in pooled standard deviations: the classes are
    what the instrument can tell apart, and what a person would describe as different results.
    """
    mean, sd, words = shown.mean[:, pairs].T, shown.sd[:, pairs].T, shown.words[:, pairs].transpose(1, 2, 0)
    numeric = 1.0 - words.sum(axis=1)  # (T, H − 1)
    count = len(pairs)
    edges = np.full((count, NUMERIC_CLASSES + 1), np.inf)
    edges[:, 0] = -np.inf
    if not shown.instrument.only_words:
        usable = np.where(numeric > 0.05, mean, np.inf)
        order = np.argsort(usable, axis=1)
        ranked = np.take_along_axis(usable, order, axis=1)
        noise = np.take_along_axis(sd, order, axis=1)
        with np.errstate(invalid="ignore"):
            gap = (ranked[:, 1:] - ranked[:, :-1]) / np.hypot(noise[:, 1:], noise[:, :-1])
        gap = np.where(np.isfinite(gap), gap, 0.0)
        wide = np.argsort(-gap, axis=1)[:, : NUMERIC_CLASSES - 1]
        middle = 0.5 * (np.take_along_axis(ranked, wide, axis=1) + np.take_along_axis(ranked, wide + 1, axis=1))
        middle = np.where(np.take_along_axis(gap, wide, axis=1) > SEPARATION, middle, np.inf)
        edges[:, 1 : 1 + middle.shape[1]] = np.sort(middle, axis=1)
        edges[:, -1] = np.inf
    below = ndtr((edges[:, :, None] - mean[:, None, :]) / sd[:, None, :])
    below[:, -1] = 1.0
    outcome = np.zeros((count, CLASSES, mean.shape[1] + 1))
    outcome[:, :NUMERIC_CLASSES, :-1] = np.diff(below, axis=1) * numeric[:, None, :]
    outcome[:, NUMERIC_CLASSES : NUMERIC_CLASSES + words.shape[1], :-1] = words
    used = outcome[:, :, :-1].max(axis=2) > 1e-3
    anything = SLIP_ELSEWHERE * _of_other_points(shown, edges)
    word = NO_CONTACT.get(shown.instrument.kind)
    rest = 1.0 - SLIP_ELSEWHERE - (SLIP_NO_CONTACT if word else 0.0)
    anything += rest * used / used.sum(axis=1, keepdims=True)
    if word:
        anything[:, NUMERIC_CLASSES + shown.instrument.words.index(word)] += SLIP_NO_CONTACT
    outcome[:, :, :-1] = (1.0 - MISREAD) * outcome[:, :, :-1] + MISREAD * anything[:, :, None]
    # Something not on the drawing: half the time this reading is as if healthy, else it can be anything.
    outcome[:, :, -1] = 0.5 * outcome[:, :, 0] + 0.5 * anything
    outcome /= outcome.sum(axis=1, keepdims=True)
    return edges, outcome.astype(np.float32)


def _of_other_points(shown: Display, edges: Array) -> Array:
    """(T, CLASSES) where a reading falls that was taken at another point of the healthy circuit by mistake."""
    mean, sd, words = shown.mean[0], shown.sd[0], shown.words[0]  # (P,), (P,), (P, n_words)
    below = ndtr((edges[:, None, :] - mean[None, :, None]) / sd[None, :, None])
    below[..., -1] = 1.0
    found = np.zeros((len(edges), CLASSES))
    found[:, :NUMERIC_CLASSES] = (np.diff(below, axis=2) * (1.0 - words.sum(axis=1))[None, :, None]).mean(axis=1)
    found[:, NUMERIC_CLASSES : NUMERIC_CLASSES + words.shape[1]] = words.mean(axis=0)
    return found


def class_label(predictions: SetupPredictions, test: int, outcome: int) -> str:
    """What a person would call an outcome class: ``11.8 to 12.4 V``, ``OL``, ``dim``."""
    device = INSTRUMENTS[predictions.tests[test].instrument]
    if outcome >= NUMERIC_CLASSES:
        return device.words[outcome - NUMERIC_CLASSES]
    shown = predictions.displays[device.id]
    mean = shown.mean[:, predictions.pair[test]]
    sd = shown.sd[:, predictions.pair[test]]
    low, high = predictions.edges[test, outcome], predictions.edges[test, outcome + 1]
    inside = (mean >= low) & (mean < high)
    if not inside.any():
        return "another value"
    bottom = max(float(np.min(mean[inside] - sd[inside])), float(low))
    top = min(float(np.max(mean[inside] + sd[inside])), float(high))
    return range_label(device.id, bottom, top)


def range_label(device_id: str, low: float, high: float) -> str:
    """Two ends in the working scale as a range with its unit."""
    device = INSTRUMENTS[device_id]
    ends = [from_working(device.kind, low), from_working(device.kind, high)]
    if device.unit == "V":
        if all(abs(v) < 0.1 for v in ends):
            return "about 0 V"
        if abs(ends[1] - ends[0]) < 0.1:
            return f"about {format_si(0.5 * (ends[0] + ends[1]), 'V')}"
        low_text, high_text = (f"{v if abs(v) >= 0.05 else 0:.1f}".replace("-", "−") for v in ends)
        return f"{low_text} to {high_text} V"
    if device.kind == "ohms" and ends[1] < 1.0:
        return "below 1 Ω"
    if device.kind == "source" and ends[1] < 0.1:
        return "below 0.1 Ω"
    if device.kind == "duty":
        return f"{max(ends[0], 0):.0f} to {min(ends[1], 100):.0f} %"
    labels = [format_si(v, device.unit, 2) for v in ends]
    return labels[0] if labels[0] == labels[1] else f"{labels[0]} to {labels[1]}"
