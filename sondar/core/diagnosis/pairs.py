"""When no single fault explains the readings: which two together would.

Every pair of candidates is solved as one change of the network, so masking and interplay are in it. Candidates are the faults
that explain some reading best; the prior of a pair is the product of the two singles' priors times the chance of a second cause.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.diagnosis.belief import Belief, density, reading_error_of
from sondar.core.diagnosis.hypotheses import UNKNOWN
from sondar.core.diagnosis.predictions import MISREAD, Predictor
from sondar.core.instruments import displays, instrument
from sondar.core.instruments.base import Display, Population, Test
from sondar.core.instruments.reading import Reading
from sondar.core.solving.operating_points import Hypothesis, Mask

ASKED_FROM = 0.3
"""Pairs are looked for when *not on the drawing* has at least this much, or two readings would have to be errors."""
READINGS_FROM = 3
FAULTS_PER_READING = 5
CANDIDATES = 24
LOOKED_AT = 60
SPREAD_SHARE = 0.015
"""Pairs are solved for the nominal vehicle alone, so that Enter is not kept waiting; this stands for the spread of vehicles."""
SECOND_CAUSE = 0.15
"""Chance of a second cause beside one that is there (0.13 against 0.82 in the triage's prior)."""


@dataclass(frozen=True)
class Pair:
    """Two faults with their severities, and their probability among singles, pairs and the unknown."""

    faults: tuple[str, str]
    severities: tuple[str, str]
    units: tuple[str, str]
    probability: float


def _is_odd(predictor: Predictor, belief: Belief, readings: Sequence[Reading]) -> bool:
    if belief.units()[belief.hypotheses.units.index(UNKNOWN)] >= ASKED_FROM:
        return True
    return sum(reading_error_of(predictor, belief, index, reading).probability > 0.5 for index, reading in enumerate(readings)) >= 2


def _candidates(belief: Belief) -> list[int]:
    """Hypotheses that explain some reading best, the best severity of each fault, and what leads overall."""
    suspects = belief.hypotheses.suspects
    inner = range(1, len(suspects) - 1)
    chosen = dict.fromkeys(int(h) for h in np.argsort(-belief.now) if h in inner and belief.now[h] > 0.02)
    for weights in belief.log_likelihood:
        faults: dict[str, int] = {}
        for h in np.argsort(-weights)[:LOOKED_AT]:
            if h in inner and weights[h] > weights[0] + 0.5:
                # Of equal ones the more frequent fault first.
                faults.setdefault(suspects[h].fault, int(h))
        often = sorted(faults.values(), key=lambda h: -(weights[h] + np.log(belief.hypotheses.prior[h])))
        chosen.update(dict.fromkeys(often[:FAULTS_PER_READING]))
    return list(chosen)[:CANDIDATES]


def _shown_by_pairs(
    predictor: Predictor, setup: Setup, tests: Sequence[Test], changes: Sequence[Hypothesis], blown: Mask,
    pairs: Sequence[tuple[int, int]],
) -> dict[str, Display]:  # fmt: skip
    """Displays (H, P) under every pair; a finding shows its first word as the more telling of the two faults makes it."""
    circuit, suspects = predictor.circuit, predictor.hypotheses.suspects
    by_side = []
    for side in (0, 1):
        faults = [circuit.faults.get(suspects[pair[side]].fault) for pair in pairs]
        by_side.append(displays(Population(circuit, setup, changes, blown, faults, samples=1), tuple(tests)))
        if not any(instrument(test.instrument).finding for test in tests):
            return by_side[0]
    one, other = by_side
    found = dict(one)
    for name, shown in one.items():
        if shown.instrument.finding:
            first = np.maximum(shown.words[:, :, 0], other[name].words[:, :, 0])
            found[name] = replace(shown, words=np.stack([first, 1.0 - first], axis=-1))
    return found


def explaining_pairs(predictor: Predictor, belief: Belief, readings: Sequence[Reading], most: int = 3) -> list[Pair]:
    """The likeliest pairs, best first, one per pair of units; empty if singles suffice or too little has been read."""
    hypotheses = belief.hypotheses
    if len(readings) < READINGS_FROM or not _is_odd(predictor, belief, readings):
        return []
    suspects = hypotheses.suspects
    candidates = _candidates(belief)
    pairs = [(a, b) for a, b in itertools.combinations(candidates, 2) if suspects[a].unit != suspects[b].unit]
    if not pairs:
        return []
    changes = [(*hypotheses.changes[a], *hypotheses.changes[b]) for a, b in pairs]
    # Fuses that either fault has blown alone; that only both together would blow one is left out.
    blown = np.array([hypotheses.blown[a] | hypotheses.blown[b] for a, b in pairs]).reshape(len(pairs), -1)
    total = np.zeros(len(pairs))
    for setup in dict.fromkeys(reading.test.setup for reading in readings):
        here = list(dict.fromkeys(r.test for r in readings if r.test.setup == setup))
        shown = _shown_by_pairs(predictor, setup, here, changes, blown, pairs)
        for reading in (r for r in readings if r.test.setup == setup):
            same = [t for t in here if t.instrument == reading.test.instrument]
            one = shown[reading.test.instrument].at(same.index(reading.test))
            one = replace(one, sd=np.hypot(one.sd, SPREAD_SHARE * np.abs(one.mean)))
            total += np.log((1.0 - MISREAD) * density(reading, one)[:, 0] + MISREAD * 1e-3)
    prior = np.array([hypotheses.prior[a] * hypotheses.prior[b] for a, b in pairs]) * SECOND_CAUSE
    single = np.log(hypotheses.prior) + belief.log_likelihood.sum(axis=0)
    both = np.log(prior) + total
    peak = max(float(single.max()), float(both.max()))
    weight = np.exp(both - peak)
    share = weight / (weight.sum() + np.exp(single - peak).sum())
    found: dict[tuple[str, str], Pair] = {}
    for index in np.argsort(-share):
        a, b = pairs[int(index)]
        units = (suspects[a].unit, suspects[b].unit)
        if units not in found:
            mass = float(share[[(suspects[x].unit, suspects[y].unit) == units for x, y in pairs]].sum())
            found[units] = Pair((suspects[a].fault, suspects[b].fault), (suspects[a].severity, suspects[b].severity), units, mass)
        if len(found) == most:
            break
    return sorted(found.values(), key=lambda pair: -pair.probability)
