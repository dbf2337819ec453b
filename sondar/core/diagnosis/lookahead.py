"""Two tests together, where no single one pays any more."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.costs import Situation, loss_matrix
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.proposal import Proposal, Ranking
from sondar.core.diagnosis.ranking import ranked_tests, with_outcomes
from sondar.core.diagnosis.worth import PAYS_ABOVE, allowed_tests

MIN_LOSS_FOR_TWO = 8.0
"""Expected loss in minutes below which a second step is not looked for."""

TWO_STEP_FIRST, TWO_STEP_LEAST_P = 5, 0.02
"""Where one step does not pay, two are worked out: for this many first tests, and outcomes at least this likely."""


def rank_tests(predictor: Predictor, belief: Belief, situation: Situation, alternatives: int = 6) -> Ranking:
    """Rank all allowed tests and decide whether to go on, two steps ahead where one does not pay."""
    ranking, ranked = ranked_tests(predictor, belief, situation, alternatives)
    unsure = ranking.settled and ranking.certainty < situation.decision_threshold
    if unsure and ranked and ranking.expected_loss > MIN_LOSS_FOR_TWO:
        first = _first_of_two(predictor, belief, situation, ranked)
        if first is not None:
            points = (first.test.red, first.test.black)
            others = [p for p in ranking.proposals if (p.test.red, p.test.black) != points]
            proposals = (with_outcomes(first, belief), *others)[:alternatives]
            return replace(ranking, proposals=proposals, settled=False, reason="two pay")
    return ranking


def _first_of_two(predictor: Predictor, belief: Belief, situation: Situation, ranked: Sequence[Proposal]) -> Proposal | None:
    """The first of two tests that together pay where no single one does; None if no pair does.

    For each of the best first tests: its own saving, and for every outcome the best second test in the same set-up, weighed by the
    outcome's chance. The pair pays if its savings outweigh the minutes of both as one test's would (``PAYS_ABOVE``).
    """
    loss = loss_matrix(predictor.circuit, belief.hypotheses, situation.rate_per_hour)
    best: tuple[float, Proposal] | None = None
    for first in sorted(ranked, key=lambda p: -p.saving_min)[:TWO_STEP_FIRST]:
        predictions = predictor.setup(first.test.setup)
        there = replace(situation, setup=first.test.setup, done=situation.done | {first.test})
        allowed = np.flatnonzero(allowed_tests(predictions, there))
        saving, minutes = first.saving_min, first.minutes
        for chance, row in ((float(row @ belief.now), row) for row in first.outlook.chance):
            if chance < TWO_STEP_LEAST_P or not allowed.size:
                continue
            after = row * belief.now / chance
            units = after @ belief.hypotheses.member
            joint = (predictions.chance * after) @ belief.hypotheses.member  # (N, U)
            left = ((joint @ loss) * joint).sum(axis=1) / np.maximum(joint.sum(axis=1), 1e-12)
            savings = (float(units @ loss @ units) - np.add.reduceat(left, predictions.first[:-1]))[allowed]
            own = predictions.minutes[allowed]
            second = int(np.argmax(savings / own))
            if savings[second] > PAYS_ABOVE * own[second]:
                saving += chance * float(savings[second])
                minutes += chance * float(own[second])
        if saving > PAYS_ABOVE * minutes and (best is None or saving / minutes > best[0]):
            best = (saving / minutes, replace(first, saving_min=saving, minutes=minutes))
    return None if best is None else best[1]
