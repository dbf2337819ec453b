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

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Belief, reading_error_of, update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN, HypothesisSet, Suspect, cell_share
from sondar.core.diagnosis.lookahead import rank_tests
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.proposal import Ranking
from sondar.core.diagnosis.second_cause import ONE_PLACE, SECOND_CAUSE, asked, beside, one_place
from sondar.core.instruments.reading import Reading

Array = npt.NDArray[np.float64]

ASKED_FROM, ASKED_AT_ONCE = 0.3, 0.6
"""Pairs are looked for when *not on the drawing* has at least this much and a diagnosis is due, or this much at any time; or a reading
would have to be an error."""
READINGS_FROM = 3
FAULTS_PER_READING = 7
CANDIDATES = 32
LOOKED_AT = 90
LED_FROM = 0.5
"""A unit is called from pairs if it had at least this before the last reading."""
PLANNED_FROM = 0.2
"""The next test tells pairs apart from this share of them on."""
BEST_PAIRS, ROUGH_BLUR, BLUR = 20, 0.1, 0.02
"""All pairs are first looked at in the middle of their cells, where a share of a figure stands for the rest of the cells; so many of the
best are then worked out with their neighbours, where a smaller share stands for what is not straight between them."""
BESIDE, BESIDE_LEAST, BESIDE_FROM = 12, 0.005, 0.2
"""So many second faults of at least this probability are candidates, where all of them beside what leads have at least this much."""


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
    return any(reading_error_of(predictor, belief, i, reading).probability > 0.5 for i, reading in enumerate(readings))


def _candidates(belief: Belief) -> list[int]:
    """Hypotheses that explain some reading best, the best severity of each fault, and what leads overall.

    The readings that what leads explains worst come first: they are what a second fault is needed for.
    """
    suspects = belief.hypotheses.suspects
    inner = range(1, len(suspects) - 1)
    chosen = dict.fromkeys(int(h) for h in np.argsort(-belief.now) if h in inner and belief.now[h] > 0.02)
    leads = 1 + int(np.argmax(belief.now[1:-1]))
    missed = belief.log_likelihood[:, :-1].max(axis=1, initial=-np.inf) - belief.log_likelihood[:, leads]
    for weights in belief.log_likelihood[np.argsort(-missed, kind="stable")]:
        faults: dict[str, int] = {}
        for h in np.argsort(-weights)[:LOOKED_AT]:
            if h in inner and weights[h] > weights[0] + 0.5:
                # Of equal ones the more frequent fault first.
                faults.setdefault(suspects[h].fault, int(h))
        often = sorted(faults.values(), key=lambda h: -(weights[h] + np.log(belief.hypotheses.prior[h])))
        chosen.update(dict.fromkeys(often[:FAULTS_PER_READING]))
    return list(chosen)[:CANDIDATES]


def _as_hypotheses(
    circuit: Circuit, hypotheses: HypothesisSet, pairs: Sequence[tuple[int, int]], *, graded: bool = False
) -> HypothesisSet:
    """Pairs as hypotheses of their own, between *no fault* and *not on the drawing*; ``graded``: each stands for its cell, either way."""
    suspects = hypotheses.suspects
    made = [
        Suspect(f"{suspects[a].fault}+{suspects[b].fault}", "", f"{suspects[a].unit}+{suspects[b].unit}", "wiring")
        for a, b in pairs
    ]
    changes = [(), *((*hypotheses.changes[a], *hypotheses.changes[b]) for a, b in pairs)]
    # Fuses that either fault has blown alone; that only both together would blow one is left out.
    blown = np.array([hypotheses.blown[0], *(hypotheses.blown[a] | hypotheses.blown[b] for a, b in pairs)])
    damaged = [ONE_PLACE if one_place(circuit, suspects[a].unit, suspects[b].unit) else 1.0 for a, b in pairs]
    prior = np.array([hypotheses.prior[a] * hypotheses.prior[b] for a, b in pairs]) * SECOND_CAUSE * damaged
    share = np.concatenate([[hypotheses.prior[0]], prior, [hypotheses.prior[-1]]])
    everyone = (Suspect(NONE, "", NONE, NONE, NONE), *made, Suspect(UNKNOWN, "", UNKNOWN, UNKNOWN, UNKNOWN))
    alone = np.arange(len(changes))
    found = HypothesisSet(
        everyone, tuple(changes), blown, share, (), np.zeros((len(everyone), 0)), alone, alone, cell_share(alone, alone)
    )
    if not graded:
        return found
    place = {pair: index for index, pair in enumerate(pairs, start=1)}
    axes = []
    for way in (hypotheses.milder, hypotheses.worse):
        axes.append(np.array([0, *(place.get((int(way[a]), b), place[a, b]) for a, b in pairs)]))
        axes.append(np.array([0, *(place.get((a, int(way[b])), place[a, b]) for a, b in pairs)]))
    return replace(found, milder=axes[0], worse=axes[2], share=cell_share(axes[0], axes[2]), second=(axes[1], axes[3]))


def _with_neighbours(hypotheses: HypothesisSet, pairs: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """Pairs, and those with the next milder or worse severity of either fault."""
    milder, worse = hypotheses.milder, hypotheses.worse
    found = dict.fromkeys(pairs)
    for a, b in pairs:
        found.update(dict.fromkeys([(int(way[a]), b) for way in (milder, worse)] + [(a, int(way[b])) for way in (milder, worse)]))
    return list(found)


def _best_pairs(
    predictor: Predictor, belief: Belief, measured: Sequence[Reading], likely: Sequence[int]
) -> tuple[list[tuple[int, int]], Array]:
    """The pairs that explain what was measured best, with the log of prior times likelihood of each; none if no two faults could.

    First all pairs of candidates roughly, then the best of them with the severities beside theirs, each for its whole cell.
    """
    hypotheses = belief.hypotheses
    suspects = hypotheses.suspects
    candidates = sorted(list(dict.fromkeys([*likely, *_candidates(belief)]))[:CANDIDATES])
    rough = [(a, b) for a, b in itertools.combinations(candidates, 2) if suspects[a].unit != suspects[b].unit]
    if not rough:
        return [], np.empty(0)
    first = predictor.of(tuple(rough), lambda: _as_hypotheses(predictor.circuit, hypotheses, rough), ROUGH_BLUR)
    weights = _log_weights(update(first, measured))
    best = [rough[int(i)] for i in np.argsort(-weights)[:BEST_PAIRS]]
    pairs = _with_neighbours(hypotheses, sorted(best))
    fine = predictor.of(("graded", *pairs), lambda: _as_hypotheses(predictor.circuit, hypotheses, pairs, graded=True), BLUR)
    return pairs, _log_weights(update(fine, measured))


def _log_weights(both: Belief) -> Array:
    weights: Array = np.log(both.hypotheses.prior[1:-1]) + both.log_likelihood[:, 1:-1].sum(axis=0)
    return weights


def explain_together(
    predictor: Predictor, belief: Belief, readings: Sequence[Reading], most: int = 3, likely: Sequence[int] = ()
) -> Together | None:
    """What pairs explain, or None if no two faults could; ``likely`` hypotheses are among the candidates in any case."""
    hypotheses = belief.hypotheses
    suspects = hypotheses.suspects
    kept = [i for i, reading in enumerate(readings) if not reading.device.finding]  # what eyes find is one fault's alone
    pairs, together = _best_pairs(predictor, belief, [readings[i] for i in kept], likely)
    if not pairs:
        return None
    single = np.log(belief.prior) + belief.log_likelihood[kept].sum(axis=0)
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
    """What to do next, two faults considered where singles explain the readings badly, and a second one before every call."""
    ranking = _not_confirmed(rank_tests(predictor, belief, situation), readings)
    threshold = situation.decision_threshold
    together = None
    if is_odd(predictor, belief, readings, due=ranking.settled):
        together = explain_together(predictor, belief, readings)
    if together is not None:
        ranking = _with_pairs(predictor, belief, readings, situation, ranking, together)
    tried = any(reading.device.confirms for reading in readings)  # the vehicle is no longer as it came
    if ranking.reason != "certain" or ranking.leading[0] in (NONE, UNKNOWN) or situation.present < 1.0 or tried:
        return ranking, together
    if together is not None and together.pairs[0].probability >= threshold:
        return ranking, together
    now = belief if together is None else belief.at_last(together.now)
    found = beside(predictor, now, readings, situation)
    if found is None:
        return ranking, together
    if together is None and found.share >= BESIDE_FROM:
        likely = [found.first, *(row for row, share in found.rows[:BESIDE] if share > BESIDE_LEAST)]
        together = explain_together(predictor, belief, readings, likely=likely)
    return asked(predictor, belief, ranking, found, situation), together


def _with_pairs(
    predictor: Predictor, belief: Belief, readings: Sequence[Reading], situation: Situation, ranking: Ranking, together: Together
) -> Ranking:  # fmt: skip
    """The ranking where singles explain the readings badly: what leads in pairs is told apart, and called if it is in most of them."""
    threshold = situation.decision_threshold
    if together.share > PLANNED_FROM:
        planned = rank_tests(predictor, belief.at_last(together.now), situation)
        settled = planned.settled and (planned.reason != "certain" or together.units.max() >= threshold)
        ranking = replace(planned, settled=settled, leading=ranking.leading, certainty=ranking.certainty)
    found = _not_confirmed(concluded(belief, ranking, together, threshold), readings)
    if found.settled and not ranking.settled and not _led_before(predictor, belief, readings, found.leading[0]):
        found = replace(found, settled=False, reason=ranking.reason)
    return found


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
