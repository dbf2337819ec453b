"""Which tests are worth making at all, and when no more is."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.costs import Situation, is_lead
from sondar.core.diagnosis.hypotheses import NONE
from sondar.core.diagnosis.predictions import Predictor, SetupPredictions
from sondar.core.diagnosis.proposal import Proposal, Reason
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Display, Test

Array = npt.NDArray[np.float64]

NEGLIGIBLE = 1e-5
"""Hypotheses below this probability are left out of the look-ahead."""

PAYS_ABOVE = 0.2
"""A test pays while its expected fall in Φ is at least this share of its minutes; below 1 since one step sees only part
of what a reading is good for in the readings after it."""

CONFIRMS_ABOVE = 1.0
"""A diagnosis that is certain enough is still confirmed while a test saves more minutes than it takes: a probe at a wrong place is
cheaper found with a second reading than with a new part."""

SMALL_LOSS_MIN = 2.0
"""Of a diagnosis that is certain enough no more is confirmed once being wrong is expected to cost less than this."""

MOVES_BY, MOVES_SHARE, MOVES_HEALTHY, MOVES_WITH = 0.01, 0.08, 0.001, 0.03
"""A test is made only if some outcome of at least this chance moves a suspect's probability by this much, or by this share of what is
left beside the leading one. Where *no fault* leads less is enough: many small steps make a vehicle sound. What else it may show it shows
because of a probe at a wrong place, and that is no reason to measure the same thing with every instrument there is."""

SAME_WORDS, SAME_SDS = 0.1, 0.5
"""Two tests are one if all suspects predict their words this near, and their figures within so many standard deviations."""


def allowed_tests(predictions: SetupPredictions, situation: Situation, *, confirming: bool = False) -> npt.NDArray[np.bool_]:
    """(T,) tests that may be proposed.

    Tools at hand, nothing refused, nothing done, no trap; a part is commanded before anybody listens to it at rest; those that confirm
    only if asked for.
    """
    tools, refused, done = frozenset(situation.instruments), situation.refused, situation.done
    tried = {(test.instrument, test.red) for test in done}
    return np.array([
        not trap and test.instrument in tools and test not in done and (confirming or not instrument(test.instrument).confirms)
        and (situation.break_out_leads or not any(map(is_lead, places)))
        and not (refused and ({test.red, test.black} & refused or places.keys() & refused))
        and not (idle and (test.instrument, test.red) not in tried)
        for test, places, trap, idle in zip(predictions.tests, predictions.places, predictions.trap, predictions.idle, strict=True)
    ], dtype=bool)  # fmt: skip


def was_read(predictor: Predictor, belief: Belief, test: Test, shown: Display, situation: Situation) -> bool:
    """True if every suspect left predicts for a test what it predicts for one that has been made: it would show the same again."""
    circuit, device = predictor.circuit, instrument(test.instrument)
    here = {circuit.point(test.red).node, circuit.point(test.black).node} if device.probes else {test.red}
    active = np.flatnonzero(belief.now[:-1] > NEGLIGIBLE)
    if not active.size:
        return False
    for other in situation.done:
        if other.instrument != test.instrument:
            continue
        there = {circuit.point(other.red).node, circuit.point(other.black).node} if device.probes else {other.red}
        if here != there:
            continue
        table, known = predictor.display_of(test), predictor.display_of(other)
        if table.words.shape[2] and np.abs(table.words[active] - known.words[active]).max() > SAME_WORDS:
            continue
        if not device.figures or np.abs((table.mean - known.mean)[active] / shown.sd[active]).max() < SAME_SDS:
            return True
    return False


def moves(proposal: Proposal, belief: Belief, units: Array) -> bool:
    """True if something that the test may well show would change what is thought of some suspect."""
    joint = (proposal.outlook.chance * belief.now) @ belief.hypotheses.member
    total = joint.sum(axis=1)
    likely = total >= MOVES_WITH
    moved = np.abs(joint[likely] / total[likely, None] - units).max(initial=0.0)
    if belief.hypotheses.units[int(units.argmax())] == NONE:
        return bool(moved >= MOVES_HEALTHY)
    return bool(moved >= min(MOVES_BY, MOVES_SHARE * (1.0 - float(units.max()))))


def settles(certainty: float, ranked: Sequence[Proposal], situation: Situation, loss: float) -> tuple[bool, Reason]:
    """Whether measuring has done its work, and why; ``loss``: minutes that being wrong about what leads is expected to cost."""
    best = ranked[0].saving_per_min if ranked else 0.0
    if certainty >= situation.decision_threshold and (best < CONFIRMS_ABOVE or loss < SMALL_LOSS_MIN):
        return True, "certain"
    if not ranked:
        return True, "no test"
    return (True, "not worth it") if best < PAYS_ABOVE else (False, "pays")
