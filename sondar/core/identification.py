"""Which wire is which: what the cavities of an unlabelled plug carry, told from voltages at the harness side.

By the same physics and belief as every diagnosis. A *candidate* is a typical circuit with as many cavities; which of its cavities is
which of the plug's is a permutation; healthy and faulty circuits alike are hypotheses. With ℓ[r, p, h] the log-likelihood of all that was
read at the plug's cavity p if it is the circuit's cavity r under hypothesis h, a permutation π has Σ_h prior[h]·exp Σ_p ℓ[π(p), p, h].
Voltages are asked for first, unloaded and with 10 kΩ: a 10 MΩ meter sees 5 V on a reference and on a pulled-up input alike. Ohms are
never asked for: nobody knows yet which cavity is electronic.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import permutations

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Setup
from sondar.core.diagnosis.belief import density
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.interruption import checkpoint

Array = npt.NDArray[np.float64]

MOST_WIRES = 6
CERTAIN, ENOUGH = 0.95, 0.995
"""Probabilities at which an assignment is called, and above which nothing more is asked but what nobody has looked at."""

HEALTHY = 0.7
"""Chance that nothing at this plug is at fault, before anything has been read."""

ANYTHING = 1.0 / 16.0
SLIP = 0.01
"""Share of readings that were taken at a wrong cavity or misread, and the density of such a figure per volt."""

SUPPLY_SHARE = 0.05
"""Nobody has measured the battery yet: every voltage may be off by so much of itself."""

SAMPLES = 120
CLASSES: Mapping[str, str] = {
    "ground": "ground", "return": "ground", "shared return": "ground", "second return": "ground", "shared ground": "ground",
    "supply": "supply", "heater supply": "supply", "second supply": "supply", "pump supply": "reference", "reference": "reference",
    "second reference": "reference", "control": "control", "heater control": "control", "trigger": "control", "coil A": "control",
    "coil B": "control", "motor": "motor", "bus high": "bus", "bus low": "bus", "bus": "messages", "messages": "messages",
}  # fmt: skip
"""What cannot be told apart by voltages counts as one; everything else is a signal."""


@dataclass(frozen=True)
class Kind:
    """One way of looking at a cavity.

    Attributes:
        key: position of the key. unplugged: the part's plug is apart. minutes: for one cavity.
        against: post of the battery that the black probe is on. quiet: only where next to no voltage was found with the key on.
    """

    id: str
    title: str
    instrument: str
    key: str
    unplugged: bool
    minutes: float
    against: str = "minus"
    quiet: bool = False


KINDS: Mapping[str, Kind] = {
    kind.id: kind
    for kind in (
        Kind("off", "key off, plug apart", "voltmeter", "off", True, 0.3),
        Kind("on", "key on, plug apart", "voltmeter", "on", True, 0.3),
        Kind("load", "key on, plug apart, 10 kΩ across the probes", "voltmeter-10k", "on", True, 0.4),
        Kind(
            "up",
            "key on, plug apart, 10 kΩ across the probes, black on battery plus",
            "voltmeter-10k",
            "on",
            True,
            0.4,
            "plus",
            True,
        ),
        Kind("joined", "key on, plug joined, probe from behind", "voltmeter", "on", False, 0.6),
    )
}
"""In the order in which hands would do them. Against battery plus a ground shows the whole battery and an output that floats nothing."""

QUIET_V = 1.0
"""Below this a line with the key on is no reference, no supply and no pulled-up input: 10 kΩ to battery plus may touch it."""

CHANGE_MIN = 0.5
"""Minutes of turning the key or joining the plug."""


@dataclass(frozen=True)
class WireReading:
    """A voltage at a cavity (from 1) of the plug, harness side, red probe there; None if the meter only floated."""

    cavity: int
    kind: str
    volts: float | None


@dataclass(frozen=True)
class Asked:
    """The reading that would tell most next."""

    cavity: int
    kind: str


@dataclass(frozen=True)
class Identified:
    """What the cavities carry, as far as it is known.

    Attributes:
        carries: (cavity) -> {what it may carry: probability}, likeliest first.
        certainty: probability of the likeliest assignment as a whole. template: the likeliest typical circuit that has it.
        order: for each cavity of the plug, which cavity (from 1) of the template it is.
        all_seen: every cavity has been looked at with the key on.
        asked: None if nothing would tell more.
    """

    carries: tuple[dict[str, float], ...]
    certainty: float
    template: str
    order: tuple[int, ...]
    all_seen: bool
    asked: Asked | None

    @property
    def certain(self) -> bool:
        """True if the assignment can be relied upon: no cavity is told by what the others leave over."""
        return self.all_seen and self.certainty >= CERTAIN


@dataclass(frozen=True, eq=False)
class Candidate:
    """A typical circuit that may be behind the plug. ``weight``: prior, larger where a code or a name points to it."""

    template: str
    predictor: Predictor
    carries: tuple[str, ...]
    weight: float = 1.0

    @cached_property
    def orders(self) -> npt.NDArray[np.intp]:
        """(O, n) the template's cavity at each cavity of the plug, for every permutation."""
        return np.array(list(permutations(range(len(self.carries)))), dtype=np.intp)

    @cached_property
    def log_prior(self) -> Array:
        """(H,) of the drawing's hypotheses, *not on the drawing* left out: most wires of a plug are sound, whatever the complaint."""
        faults = self.predictor.hypotheses.prior[1:-1]
        prior = np.concatenate([[HEALTHY], (1.0 - HEALTHY) * faults / faults.sum()])
        return np.asarray(np.log(np.maximum(prior, 1e-12)))

    def test(self, role: int, kind: Kind, plug: str) -> Test:
        """The test of one of the template's cavities."""
        circuit = self.predictor.circuit
        controls = tuple((name, kind.key if name == "key" else value) for name, value in circuit.rest_setup().controls)
        setup = Setup(controls, frozenset((plug,)) if kind.unplugged else frozenset(), self.predictor.temperature_c)
        black = circuit.black_reference if kind.against == "minus" else f"{circuit.battery}.pos"
        return Test(kind.instrument, f"{plug}.{role + 1}", black, setup)


class Identification:
    """All candidates for one plug, and what readings tell about them.

    Args:
        plug: id of the part's plug in every candidate.
    """

    def __init__(self, candidates: Sequence[Candidate], plug: str) -> None:
        self.candidates, self.plug = list(candidates), plug
        self.count = len(self.candidates[0].carries) if self.candidates else 0

    def identified(self, readings: Sequence[WireReading]) -> Identified:
        """What the readings so far say, and what to read next."""
        scores = [self._scores(candidate, readings) for candidate in self.candidates]  # each (O, H)
        top = max(float(score.max()) for score in scores)
        weights = [np.exp(score - top) for score in scores]
        total = sum(float(weight.sum()) for weight in weights)
        assignments: dict[tuple[str, ...], float] = {}
        best: dict[tuple[str, ...], tuple[float, str, tuple[int, ...]]] = {}
        for candidate, weight in zip(self.candidates, weights, strict=True):
            for order, share in zip(candidate.orders, weight.sum(axis=1) / total, strict=True):
                said = tuple(class_of(candidate.carries[role]) for role in order)
                assignments[said] = assignments.get(said, 0.0) + float(share)
                if share > best.get(said, (-1.0, "", ()))[0]:
                    best[said] = (float(share), candidate.template, tuple(int(role) + 1 for role in order))
        said, certainty = max(assignments.items(), key=lambda item: item[1])
        _, template, chosen = best[said]
        seen = {reading.cavity for reading in readings if reading.kind != "off"}
        unseen = [cavity for cavity in range(1, self.count + 1) if cavity not in seen]
        asked = self._next(readings, weights, total) if certainty <= ENOUGH else None
        if asked is None and unseen and readings:
            asked = Asked(unseen[0], "on")
        return Identified(
            tuple(_ranked(assignments, cavity) for cavity in range(self.count)),
            min(certainty, 1.0),
            template,
            chosen,
            not unseen,
            asked,
        )

    def _scores(self, candidate: Candidate, readings: Sequence[WireReading]) -> Array:
        """(O, H) log of prior times likelihood."""
        checkpoint(f"typical circuit {candidate.template}")
        table = np.zeros((self.count, self.count, len(candidate.log_prior)))  # role, cavity, hypothesis
        for reading in readings:
            for role in range(self.count):
                table[role, reading.cavity - 1] += np.log(self._likelihood(candidate, role, reading))
        found = np.broadcast_to(candidate.log_prior, (len(candidate.orders), len(candidate.log_prior))).copy()
        for cavity in range(self.count):
            found += table[candidate.orders[:, cavity], cavity]
        return np.asarray(found + np.log(candidate.weight))

    def _likelihood(self, candidate: Candidate, role: int, reading: WireReading) -> Array:
        kind = KINDS[reading.kind]
        test = candidate.test(role, kind, self.plug)
        shown = candidate.predictor.display_of(test)
        wider = np.hypot(shown.sd, SUPPLY_SHARE * np.abs(shown.mean))
        if reading.volts is None:
            floating = shown.words[:, 0].sum(axis=1) if shown.words.shape[2] else np.zeros(len(shown.mean))
            likely = np.maximum(floating, 0.02)
        else:
            as_read = Reading("", test, reading.volts, None, 0.005)
            likely = density(as_read, type(shown)(shown.instrument, shown.mean, wider, shown.words, shown.nominal))[:, 0]
        return np.asarray((1.0 - SLIP) * likely + SLIP * ANYTHING)

    def _next(self, readings: Sequence[WireReading], weights: Sequence[Array], total: float) -> Asked | None:
        """The reading whose figure differs most between assignments that are still likely, per minute.

        A sample of (circuit, order, hypothesis) stands for the belief; two of it are told apart by a reading as far as their predicted
        figures are apart in their spreads (Bhattacharyya, 1943).
        """
        drawn = self._drawn(weights, total)
        done = {(reading.cavity, reading.kind) for reading in readings}
        quiet = {
            cavity for cavity in range(1, self.count + 1)
            if (on := [r.volts for r in readings if r.cavity == cavity and r.kind in ("on", "load", "joined")])
            and all(volts is None or abs(volts) < QUIET_V for volts in on)
        }  # fmt: skip
        last = readings[-1].kind if readings else "off"
        different = np.array([[a[3] != b[3] for b in drawn] for a in drawn])
        if not different.any():
            return None
        best, chosen = 1e-4, None
        for kind in KINDS.values():
            for cavity in range(1, self.count + 1):
                if (cavity, kind.id) in done or (kind.quiet and cavity not in quiet):
                    continue
                mean, sd = np.array([self._predicted(*one[:3], cavity, kind) for one in drawn]).T
                spread = np.hypot(sd[:, None], sd[None, :])
                alike = np.exp(-0.25 * ((mean[:, None] - mean[None, :]) / spread) ** 2)
                told = float(((1.0 - alike) * different).mean())
                minutes = kind.minutes + (CHANGE_MIN if kind.id != last else 0.0)
                if told / minutes > best:
                    best, chosen = told / minutes, Asked(cavity, kind.id)
        return chosen

    def _drawn(self, weights: Sequence[Array], total: float) -> list[tuple[int, int, int, tuple[str, ...]]]:
        """A sample of the belief: (candidate, order, hypothesis, assignment), the likeliest of each candidate among it."""
        rng = np.random.default_rng(len(weights))
        flat = np.concatenate([weight.ravel() for weight in weights]) / total
        picks = rng.choice(flat.size, SAMPLES, p=flat / flat.sum())
        starts = np.cumsum([0, *(weight.size for weight in weights)])
        found = []
        for pick in picks:
            which = int(np.searchsorted(starts, pick, side="right") - 1)
            order, hypothesis = divmod(int(pick - starts[which]), weights[which].shape[1])
            candidate = self.candidates[which]
            said = tuple(class_of(candidate.carries[role]) for role in candidate.orders[order])
            found.append((which, order, hypothesis, said))
        return found

    def _predicted(self, which: int, order: int, hypothesis: int, cavity: int, kind: Kind) -> tuple[float, float]:
        candidate = self.candidates[which]
        shown = candidate.predictor.display_of(candidate.test(int(candidate.orders[order, cavity - 1]), kind, self.plug))
        mean = float(shown.mean[hypothesis, 0])
        return mean, float(np.hypot(shown.sd[hypothesis, 0], SUPPLY_SHARE * abs(mean) + 0.05))


def class_of(carries: str) -> str:
    """What a cavity carries, as far as voltages tell it apart."""
    return CLASSES.get(carries, "signal")


def _ranked(assignments: Mapping[tuple[str, ...], float], cavity: int) -> dict[str, float]:
    found: dict[str, float] = {}
    for said, share in assignments.items():
        found[said[cavity]] = found.get(said[cavity], 0.0) + share
    return dict(sorted(found.items(), key=lambda item: -item[1]))


def assignments_of(carries: Iterable[str]) -> tuple[str, ...]:
    """What every cavity of a known plug carries, as far as voltages tell it apart."""
    return tuple(class_of(one) for one in carries)
