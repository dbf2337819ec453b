"""Exact Bayes over the hypotheses, from the readings that stand; recomputed from scratch, so undo and audit are free.

Likelihood of a reading = (1 − misread) · predicted density, meter error and spread of vehicles included, + misread · what a probe at
a wrong place shows. That is mostly a figure the circuit does have somewhere: 0 V and 12 V are the likeliest errors of all.
Repeats of the same test carry no new knowledge of this vehicle's tolerances, so n repeats count as their geometric mean.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from sondar.core.diagnosis.hypotheses import HypothesisSet
from sondar.core.diagnosis.predictions import ERROR_ELSEWHERE, ERROR_NO_CONTACT, MISREAD, Predictor
from sondar.core.instruments import instrument
from sondar.core.instruments.base import LOG_OFFSET_OHM, Display, Test
from sondar.core.instruments.reading import Reading

Array = npt.NDArray[np.float64]

WORD_CHANCE = 0.15
"""Chance that a probe or reading error shows a given word."""


@dataclass(frozen=True, eq=False)
class Belief:
    """Probabilities after the readings that have not been voided.

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


def log_likelihood(reading: Reading, shown: Display, elsewhere: Display | None = None) -> Array:
    """Natural log of the likelihood (H,) of one reading, *not on the drawing* last.

    Args:
        shown: display of the reading's test, (H − 1, 1).
        elsewhere: displays (H − 1, P) of the same instrument all over the circuit in this set-up: what a probe at a wrong place shows.
    """
    device = shown.instrument
    anything = WORD_CHANCE if reading.state is not None else 1.0 / device.span
    probability = density(reading, shown)[:, 0]
    wrong: Array | float = anything
    if elsewhere is not None:
        untouched = ERROR_NO_CONTACT if device.no_contact else 0.0
        wrong = ERROR_ELSEWHERE * density(reading, elsewhere).mean(axis=1) + (1.0 - ERROR_ELSEWHERE - untouched) * anything
        wrong = wrong + untouched * (reading.state == device.no_contact)
    # A fault that comes and goes: while it is away the reading is that of the healthy circuit.
    probability = reading.present * probability + (1.0 - reading.present) * probability[0]
    known = (1.0 - MISREAD) * probability + MISREAD * wrong
    unknown = 0.5 * known[0] + 0.5 * anything
    result: Array = np.log(np.append(known, unknown))
    return result


def density(reading: Reading, shown: Display) -> Array:
    """Likelihood (H − 1, P) of what was read at each of the display's probe pairs, no probe or reading error considered."""
    device = shown.instrument
    if reading.state is not None:
        behind = device.soft_words.get(reading.state, {reading.state: 1.0})
        chance: Array = sum(weight * shown.words[:, :, device.words.index(word)] for word, weight in behind.items())  # type: ignore[assignment]
        return chance
    assert reading.value is not None
    at = float(device.working(reading.value))
    last_digit = np.hypot(reading.resolution, reading.meter_error) / np.sqrt(3.0)
    if device.log_scale:
        last_digit /= (max(reading.value, 0.0) + LOG_OFFSET_OHM) * np.log(10.0)
    sd = np.hypot(shown.sd, last_digit)
    density = np.exp(-0.5 * ((at - shown.mean) / sd) ** 2) / (sd * np.sqrt(2.0 * np.pi))
    numeric: Array = density * np.maximum(0.0, 1.0 - shown.words.sum(axis=2))
    return numeric


def starting_prior(hypotheses: HypothesisSet, triage: Mapping[str, float], factors: Mapping[str, float]) -> Array:
    """Prior (H,) from what was known before the first reading.

    Args:
        triage: id of a suspect (``Suspect.id``) -> probability that it is among the causes; empty without triage. What the triage
            puts elsewhere goes to *no fault here*. The share of *not on the drawing* stays.
        factors: fault id -> factor from the history, used when there is no triage (triage has it in its weights).
    """
    if not triage:
        raw = np.array([factors.get(s.fault, 1.0) for s in hypotheses.suspects]) * hypotheses.prior
        inner = raw[1:-1] / raw[1:-1].sum() * hypotheses.prior[1:-1].sum()
        return np.concatenate([hypotheses.prior[:1], inner, hypotheses.prior[-1:]])
    inner = _by_suspect(hypotheses, triage)
    here = min(float(inner.sum()), 0.96)
    floor = 1e-4 * hypotheses.prior[1:-1]
    inner = inner / max(float(inner.sum()), 1e-12) * here + floor
    elsewhere = max(1.0 - here - hypotheses.prior[-1], 0.02)
    made = np.concatenate([[elsewhere], inner, hypotheses.prior[-1:]])
    result: Array = made / made.sum()
    return result


def _by_suspect(hypotheses: HypothesisSet, triage: Mapping[str, float]) -> Array:
    """(H − 2,) what the triage puts on each suspect.

    A severity that is no longer on its grid (kept by an earlier engine, or under its label) gives its share to the fault.
    """
    inner = np.zeros(len(hypotheses.suspects) - 2)
    place = {suspect.id: index for index, suspect in enumerate(hypotheses.suspects[1:-1])}
    for name, share in triage.items():
        if name in place:
            inner[place[name]] += share
            continue
        fault, _, label = name.partition("|") if "|" in name else name.partition(":")
        rows = hypotheses.index(fault, label) or hypotheses.index(fault)
        if rows:
            weights = hypotheses.prior[rows] / hypotheses.prior[rows].sum()
            inner[np.array(rows) - 1] += share * weights
    return inner


def update(predictor: Predictor, readings: Sequence[Reading], prior: Array | None = None) -> Belief:
    """Belief from the prior and the readings that have not been voided, in the order they were made.

    Args:
        prior: (H,) replaces the circuit's own, see ``starting_prior``.
    """
    hypotheses = predictor.hypotheses
    prior = hypotheses.prior if prior is None else prior
    repeats = Counter(reading.test for reading in readings)
    rows = [log_likelihood(r, predictor.display_of(r.test), _elsewhere(predictor, r.test)) / repeats[r.test] for r in readings]
    weights = np.array(rows).reshape(len(rows), len(prior))
    logs = np.log(prior) + np.vstack([np.zeros(len(prior)), np.cumsum(weights, axis=0)])
    steps = np.exp(logs - logs.max(axis=1, keepdims=True))
    steps /= steps.sum(axis=1, keepdims=True)
    return Belief(hypotheses, steps[-1], steps, weights)


@dataclass(frozen=True)
class ReadingError:
    """How likely a reading was a probe or reading error, and the test whose probes would have shown it best (None if it fits nowhere)."""

    probability: float
    looks_like: Test | None


def reading_error_of(predictor: Predictor, belief: Belief, reading: Reading) -> ReadingError:
    """Whether a reading, seen after all others, was rather taken at a wrong place.

    P(error | everything) = Σ_h b(h) · 0.02·p(error shows this | h) / p(this | h), over the hypotheses of the drawing.
    """
    elsewhere = _elsewhere(predictor, reading.test)
    if elsewhere is None:
        return ReadingError(0.0, None)
    proper = density(reading, predictor.display_of(reading.test))[:, 0]
    proper = reading.present * proper + (1.0 - reading.present) * proper[0]
    known = np.exp(log_likelihood(reading, predictor.display_of(reading.test), elsewhere))[:-1]
    weights = belief.now[:-1] / max(float(belief.now[:-1].sum()), 1e-12)
    share = float(weights @ (1.0 - (1.0 - MISREAD) * proper / known))
    fits = weights @ density(reading, elsewhere)
    tests = [t for t in predictor.setup(reading.test.setup).tests if t.instrument == reading.test.instrument]
    best = int(np.argmax(fits))
    found = tests[best] if fits[best] > 0.2 / (reading.device.span if reading.device.figures else 2.0) else None
    return ReadingError(
        share, None if found is None or {found.red, found.black} == {reading.test.red, reading.test.black} else found
    )


def _elsewhere(predictor: Predictor, test: Test) -> Display | None:
    """What this instrument shows all over the circuit; without probes there is no wrong place."""
    return predictor.setup(test.setup).displays.get(test.instrument) if instrument(test.instrument).probes else None


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
