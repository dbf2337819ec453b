"""Exact Bayes over the hypotheses, from the readings that stand; recomputed from scratch, so undo and audit are free.

Likelihood of a reading = (1 − misread) · predicted density, meter error and spread of vehicles included, + misread · what a lead at
a wrong place shows. That is mostly a figure the circuit does have somewhere: 0 V and 12 V are the likeliest slips of all.
Repeats of the same test carry no new knowledge of this vehicle's tolerances, so n repeats count as their geometric mean.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from sondar.core.diagnosis.hypotheses import HypothesisSet
from sondar.core.diagnosis.predictions import MISREAD, NO_CONTACT, SLIP_ELSEWHERE, SLIP_NO_CONTACT, Predictor
from sondar.core.diagnosis.tests import Test
from sondar.core.errors import QuantityError
from sondar.core.instruments import INSTRUMENTS, LOG_KINDS, Display, working
from sondar.core.quantities import SOFT_WORDS

Array = npt.NDArray[np.float64]

ANYTHING_SPAN = {"volts": 17.0, "ohms": 9.5, "ac": 15.0, "hertz": 1e4, "duty": 100.0, "amps": 40.0, "scan": 17.0, "top": 17.0, "bottom": 17.0,
                 "source": 6.0}  # fmt: skip
"""Width in the working scale over which a slip can land: −1 … 16 V, about 9.5 decades of ohms, and so on."""

WORD_CHANCE = 0.15
"""Chance that a slip shows a given word."""


@dataclass(frozen=True)
class Reading:
    """One standing reading.

    Attributes:
        value: SI value, or None for a word.
        state: word shown, or None for a figure.
        resolution: half-width in SI units of the last digit entered.
        present: chance that the fault was there while reading; below 1 a normal reading clears less.
        meter_error: the meter's own error at this value in SI units, where it is worse than the usual one.
    """

    id: str
    test: Test
    value: float | None
    state: str | None
    resolution: float = 0.0
    present: float = 1.0
    meter_error: float = 0.0


@dataclass(frozen=True, eq=False)
class Belief:
    """Probabilities after the standing readings.

    Attributes:
        now: (H,) posterior; steps: (R + 1, H) prior, then after each reading in order.
        log_likelihood: (R, H) natural log of each reading's weighted likelihood.
    """

    hypotheses: HypothesisSet
    now: Array
    steps: Array
    log_likelihood: Array

    def units(self, step: int = -1) -> Array:
        """(U,) probability per replaceable unit after a step."""
        result: Array = self.steps[step] @ self.hypotheses.member
        return result

    def groups(self, step: int = -1) -> dict[str, float]:
        """Probability per group: wiring, module, component, none, unknown."""
        found: dict[str, float] = dict.fromkeys(("wiring", "module", "component", "system", "setting", "none", "unknown"), 0.0)
        for suspect, probability in zip(self.hypotheses.suspects, self.steps[step], strict=True):
            found[suspect.group] += float(probability)
        return found


def check_reading(reading: Reading) -> None:
    """A reading must fit its instrument.

    Raises:
        QuantityError: a word the instrument cannot show, or a figure for a lamp, or a negative resistance.
    """
    device = INSTRUMENTS[reading.test.instrument]
    expected = " or ".join(device.words)
    if reading.state is not None and reading.state not in device.words and reading.state not in SOFT_WORDS.get(device.kind, {}):
        raise QuantityError(reading.state, f"{expected} from the {device.title.lower()}")
    if reading.value is not None and device.only_words:
        raise QuantityError(f"{reading.value:g}", f"{expected} from the {device.title.lower()}")
    if reading.value is not None and device.kind in LOG_KINDS and reading.value < 0:
        raise QuantityError(f"{reading.value:g}", "a resistance of 0 Ω or more; swap the leads if voltage is present")
    if reading.value is not None and device.unit == "V" and abs(reading.value) > 60:
        raise QuantityError(f"{reading.value:g}", "a voltage between −60 and 60 V; add m for millivolts")
    if reading.value is None and reading.state is None:
        raise QuantityError("", "a figure or a word")


def log_likelihood(reading: Reading, shown: Display, elsewhere: Display | None = None) -> Array:
    """Natural log of the likelihood (H,) of one reading, *not on the drawing* last.

    Args:
        shown: display of the reading's test, (H − 1, 1).
        elsewhere: displays (H − 1, P) of the same instrument all over the circuit in this set-up: what a lead at a wrong place shows.
    """
    device = INSTRUMENTS[reading.test.instrument]
    anything = WORD_CHANCE if reading.state is not None else 1.0 / ANYTHING_SPAN[device.kind]
    probability = density(reading, shown)[:, 0]
    slip: Array | float = anything
    if elsewhere is not None:
        untouched = SLIP_NO_CONTACT if device.kind in NO_CONTACT else 0.0
        slip = SLIP_ELSEWHERE * density(reading, elsewhere).mean(axis=1) + (1.0 - SLIP_ELSEWHERE - untouched) * anything
        slip = slip + untouched * (reading.state == NO_CONTACT.get(device.kind))
    # A fault that comes and goes: while it is away the reading is that of the healthy circuit.
    probability = reading.present * probability + (1.0 - reading.present) * probability[0]
    known = (1.0 - MISREAD) * probability + MISREAD * slip
    unknown = 0.5 * known[0] + 0.5 * anything
    result: Array = np.log(np.append(known, unknown))
    return result


def density(reading: Reading, shown: Display) -> Array:
    """Likelihood (H − 1, P) of what was read at each of the display's probe pairs, no slip considered."""
    device = INSTRUMENTS[reading.test.instrument]
    if reading.state is not None:
        behind = SOFT_WORDS.get(device.kind, {}).get(reading.state, {reading.state: 1.0})
        chance: Array = sum(weight * shown.words[:, :, device.words.index(word)] for word, weight in behind.items())  # type: ignore[assignment]
        return chance
    assert reading.value is not None
    at = float(working(device.kind, reading.value))
    last_digit = np.hypot(reading.resolution, reading.meter_error) / np.sqrt(3.0)
    if device.kind in LOG_KINDS:
        last_digit /= (max(reading.value, 0.0) + 0.05) * np.log(10.0)
    sd = np.hypot(shown.sd, last_digit)
    density = np.exp(-0.5 * ((at - shown.mean) / sd) ** 2) / (sd * np.sqrt(2.0 * np.pi))
    numeric: Array = density * (1.0 - shown.words.sum(axis=2))
    return numeric


def carried_prior(hypotheses: HypothesisSet, weights: Mapping[str, float], factors: Mapping[str, float]) -> Array:
    """Prior (H,) that carries what was known before the first reading.

    Args:
        weights: ``fault|severity`` -> probability that it is among the causes, from triage; empty without triage. What the
            triage puts elsewhere goes to *no fault here*. The share of *not on the drawing* stays.
        factors: fault id -> factor from the intake, used when there is no triage (triage has it in its weights).
    """
    if not weights:
        raw = np.array([factors.get(s.fault, 1.0) for s in hypotheses.suspects]) * hypotheses.prior
        inner = raw[1:-1] / raw[1:-1].sum() * hypotheses.prior[1:-1].sum()
        return np.concatenate([hypotheses.prior[:1], inner, hypotheses.prior[-1:]])
    inner = np.array([weights.get(f"{s.fault}|{s.severity}", 0.0) for s in hypotheses.suspects[1:-1]])
    here = min(float(inner.sum()), 0.96)
    floor = 1e-4 * hypotheses.prior[1:-1]
    inner = inner / max(float(inner.sum()), 1e-12) * here + floor
    elsewhere = max(1.0 - here - hypotheses.prior[-1], 0.02)
    made = np.concatenate([[elsewhere], inner, hypotheses.prior[-1:]])
    result: Array = made / made.sum()
    return result


def update(predictor: Predictor, readings: Sequence[Reading], prior: Array | None = None) -> Belief:
    """Belief from the prior and the standing readings, in the order they were made.

    Args:
        prior: (H,) replaces the circuit's own, see ``carried_prior``.
    """
    hypotheses = predictor.hypotheses
    prior = hypotheses.prior if prior is None else prior
    repeats = Counter(reading.test.key() for reading in readings)
    rows = [
        log_likelihood(r, predictor.display_of(r.test), _elsewhere(predictor, r.test)) / repeats[r.test.key()] for r in readings
    ]
    weights = np.array(rows).reshape(len(rows), len(prior))
    logs = np.log(prior) + np.vstack([np.zeros(len(prior)), np.cumsum(weights, axis=0)])
    steps = np.exp(logs - logs.max(axis=1, keepdims=True))
    steps /= steps.sum(axis=1, keepdims=True)
    return Belief(hypotheses, steps[-1], steps, weights)


@dataclass(frozen=True)
class Slip:
    """How likely a reading was a slip, and the test whose leads would have shown it best (None if it fits nowhere)."""

    probability: float
    looks_like: Test | None


def slip_of(predictor: Predictor, belief: Belief, reading: Reading) -> Slip:
    """Whether a reading, seen after all others, was rather taken at a wrong place.

    P(slip | everything) = Σ_h b(h) · 0.02·p(slip shows this | h) / p(this | h), over the hypotheses of the drawing.
    """
    elsewhere = _elsewhere(predictor, reading.test)
    if elsewhere is None:
        return Slip(0.0, None)
    proper = density(reading, predictor.display_of(reading.test))[:, 0]
    proper = reading.present * proper + (1.0 - reading.present) * proper[0]
    known = np.exp(log_likelihood(reading, predictor.display_of(reading.test), elsewhere))[:-1]
    weights = belief.now[:-1] / max(float(belief.now[:-1].sum()), 1e-12)
    share = float(weights @ (1.0 - (1.0 - MISREAD) * proper / known))
    fits = weights @ density(reading, elsewhere)
    tests = [t for t in predictor.setup(reading.test.setup).tests if t.instrument == reading.test.instrument]
    best = int(np.argmax(fits))
    found = tests[best] if fits[best] > 0.2 / ANYTHING_SPAN.get(INSTRUMENTS[reading.test.instrument].kind, 2.0) else None
    return Slip(share, None if found is None or {found.red, found.black} == {reading.test.red, reading.test.black} else found)


def _elsewhere(predictor: Predictor, test: Test) -> Display | None:
    """What this instrument shows all over the circuit; without leads there is no wrong place."""
    return predictor.setup(test.setup).displays.get(test.instrument) if INSTRUMENTS[test.instrument].probes else None


def unit_log_bayes_factors(belief: Belief, reading: int) -> Array:
    """(U,) log10 of how much better each unit's suspects predict a reading than everything else does.

    Severities within a unit are weighted as they stood before the reading (Good's weight of evidence, in bans).
    """
    before = belief.steps[reading]
    likelihood = np.exp(belief.log_likelihood[reading] - belief.log_likelihood[reading].max())
    mass = before @ belief.hypotheses.member
    joint = (before * likelihood) @ belief.hypotheses.member
    with np.errstate(divide="ignore", invalid="ignore"):
        inside = joint / mass
        outside = (joint.sum() - joint) / (1.0 - mass)
        factor = np.log10(inside / outside)
    result: Array = np.nan_to_num(factor, nan=0.0, posinf=9.0, neginf=-9.0)
    return result
