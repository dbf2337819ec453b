"""When no single fault explains the readings: which two together would.

Candidates are the faults that explain some reading best. Every pair of them is solved as one change of the network, so masking and
interplay are in it, and is followed through all readings by the same learning as a single fault; its prior is the product of the
singles' priors times the chance of a second cause. What a pair explains counts for both of its units.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from sondar.core.diagnosis.belief import Belief, reading_error_of, update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN, HypothesisSet, Suspect
from sondar.core.diagnosis.lookahead import rank_tests
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.ranking import Ranking
from sondar.core.instruments.reading import Reading

Array = npt.NDArray[np.float64]

ASKED_FROM, ASKED_AT_ONCE = 0.3, 0.6
"""Pairs are looked for when *not on the drawing* has at least this much and a diagnosis is due, or this much at any time; or two readings
would have to be errors."""
READINGS_FROM = 3
FAULTS_PER_READING = 7
CANDIDATES = 32
LOOKED_AT = 90
LED_FROM = 0.5
"""A unit is called from pairs if it had at least this before the last reading."""
PLANNED_FROM = 0.2
"""The next test tells pairs apart from this share of them on."""
BLUR = 0.03
"""Pairs are looked at in the middle of their cells; this share of a figure stands for the rest of the cells."""
SECOND_CAUSE = 0.15
"""Chance of a second cause beside one that is there (0.13 against 0.82 in the triage's prior)."""


@dataclass(frozen=True)
class Pair:
    """Two faults with their severities, and their probability among singles, pairs and the unknown."""

    faults: tuple[str, str]
    severities: tuple[str, str]
    units: tuple[str, str]
    probability: float


@dataclass(frozen=True, eq=False)
class Together:
    """What pairs explain.

    Attributes:
        pairs: the likeliest of them, one per pair of units. units: (U,) each unit's probability in singles and pairs; it may exceed 1 in
            all, since a pair counts for both.
        share: probability of all pairs. now: (H,) a belief over singles in which each pair stands for both of its faults.
    """

    pairs: tuple[Pair, ...]
    units: Array
    share: float
    now: Array


def is_odd(predictor: Predictor, belief: Belief, readings: Sequence[Reading], *, due: bool) -> bool:
    """True if singles explain the readings so badly that pairs are worth looking at."""
    if len(readings) < READINGS_FROM:
        return False
    unknown = belief.units()[belief.hypotheses.units.index(UNKNOWN)]
    if unknown >= (ASKED_FROM if due else ASKED_AT_ONCE):
        return True
    return due and sum(reading_error_of(predictor, belief, i, reading).probability > 0.5 for i, reading in enumerate(readings)) >= 2


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


def _as_hypotheses(hypotheses: HypothesisSet, pairs: Sequence[tuple[int, int]]) -> HypothesisSet:
    """Pairs as hypotheses of their own, between *no fault* and *not on the drawing*."""
    suspects = hypotheses.suspects
    made = [
        Suspect(f"{suspects[a].fault}+{suspects[b].fault}", "", f"{suspects[a].unit}+{suspects[b].unit}", "wiring")
        for a, b in pairs
    ]
    changes = [(), *((*hypotheses.changes[a], *hypotheses.changes[b]) for a, b in pairs)]
    # Fuses that either fault has blown alone; that only both together would blow one is left out.
    blown = np.array([hypotheses.blown[0], *(hypotheses.blown[a] | hypotheses.blown[b] for a, b in pairs)])
    prior = np.array([hypotheses.prior[a] * hypotheses.prior[b] for a, b in pairs]) * SECOND_CAUSE
    share = np.concatenate([[hypotheses.prior[0]], prior, [hypotheses.prior[-1]]])
    alone = np.arange(len(changes))
    everyone = (Suspect(NONE, "", NONE, NONE, NONE), *made, Suspect(UNKNOWN, "", UNKNOWN, UNKNOWN, UNKNOWN))
    return HypothesisSet(everyone, tuple(changes), blown, share, (), np.zeros((len(everyone), 0)), alone, alone)


def explain_together(predictor: Predictor, belief: Belief, readings: Sequence[Reading], most: int = 3) -> Together | None:
    """What pairs explain, or None if no two faults could."""
    hypotheses = belief.hypotheses
    suspects = hypotheses.suspects
    pairs = [(a, b) for a, b in itertools.combinations(sorted(_candidates(belief)), 2) if suspects[a].unit != suspects[b].unit]
    if not pairs:
        return None
    measured = [reading for reading in readings if not reading.device.finding]  # what eyes find is one fault's alone
    both = update(predictor.of(tuple(pairs), lambda: _as_hypotheses(hypotheses, pairs), BLUR), measured)
    kept = [i for i, reading in enumerate(readings) if not reading.device.finding]
    single = np.log(belief.prior) + belief.log_likelihood[kept].sum(axis=0)
    together = np.log(both.hypotheses.prior[1:-1]) + both.log_likelihood[:, 1:-1].sum(axis=0)
    peak = max(float(single.max()), float(together.max()))
    weight, alone = np.exp(together - peak), np.exp(single - peak)
    total = weight.sum() + alone.sum()
    share = weight / total
    units = (alone / total) @ hypotheses.member
    column = {unit: index for index, unit in enumerate(hypotheses.units)}
    found: dict[tuple[str, str], Pair] = {}
    for index in np.argsort(-share):
        a, b = pairs[int(index)]
        names = (suspects[a].unit, suspects[b].unit)
        for name in names:
            units[column[name]] += share[index]
        if names not in found and len(found) < most:
            mass = float(share[[(suspects[x].unit, suspects[y].unit) == names for x, y in pairs]].sum())
            found[names] = Pair((suspects[a].fault, suspects[b].fault), (suspects[a].severity, suspects[b].severity), names, mass)
    now = alone / total
    for side in (0, 1):
        np.add.at(now, [pair[side] for pair in pairs], 0.5 * share)
    return Together(tuple(sorted(found.values(), key=lambda pair: -pair.probability)), units, float(share.sum()), now)


def ranked_together(
    predictor: Predictor, belief: Belief, readings: Sequence[Reading], situation: Situation
) -> tuple[Ranking, Together | None]:
    """What to do next, two faults considered where singles explain the readings badly: what leads in them is then told apart."""
    ranking = _not_confirmed(rank_tests(predictor, belief, situation), readings)
    if not is_odd(predictor, belief, readings, due=ranking.settled):
        return ranking, None
    together = explain_together(predictor, belief, readings)
    if together is None:
        return ranking, None
    if together.share > PLANNED_FROM and belief.units()[-1] >= ASKED_FROM:
        planned = rank_tests(predictor, belief.at_last(together.now), situation)
        threshold = situation.decision_threshold
        settled = planned.settled and (planned.reason != "certain" or together.units.max() >= threshold)
        ranking = replace(planned, settled=settled, leading=ranking.leading, certainty=ranking.certainty)
    found = _not_confirmed(concluded(belief, ranking, together, situation.decision_threshold), readings)
    if found.settled and not ranking.settled and not _led_before(predictor, belief, readings, found.leading[0]):
        found = replace(found, settled=False, reason=ranking.reason)
    return found, together


def _not_confirmed(ranking: Ranking, readings: Sequence[Reading]) -> Ranking:
    """What was tried before it was called and did not hold, such as a new fuse that blew again, is not called: its cause is not known."""
    failed = {r.test.red for r in readings if r.device.confirms and r.state == r.device.words[-1]}
    return replace(ranking, leading=(UNKNOWN,)) if ranking.settled and failed & set(ranking.leading) else ranking


def _led_before(predictor: Predictor, belief: Belief, readings: Sequence[Reading], unit: str) -> bool:
    """True if a unit led in what pairs explain before the last reading, too: one reading alone does not make a call of two faults."""
    last = replace(
        belief, now=belief.steps[-2], steps=belief.steps[:-1], log_likelihood=belief.log_likelihood[:-1], residual=belief.residual[:-1],
        error=belief.error[:-1], expected=belief.expected[:-1],
    )  # fmt: skip
    before = explain_together(predictor, last, readings[:-1])
    return before is not None and float(before.units[belief.hypotheses.units.index(unit)]) >= LED_FROM


def concluded(belief: Belief, ranking: Ranking, together: Together | None, decision_threshold: float) -> Ranking:
    """The ranking with what two faults explain: the unit that is in most of it leads, if that is more than anything alone."""
    if together is None:
        return ranking
    top = int(np.argmax(together.units))
    name, share = belief.hypotheses.units[top], float(together.units[top])
    if name in (NONE, UNKNOWN) or (share <= ranking.certainty and ranking.leading[0] != UNKNOWN):
        return ranking
    if share >= decision_threshold:
        return replace(ranking, leading=(name,), certainty=share, settled=True, reason="certain")
    return replace(ranking, leading=(name,), certainty=share)
