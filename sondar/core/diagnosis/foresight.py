"""The results that a test is likeliest to have, as readings: what follows each can be worked out before it is read."""

from __future__ import annotations

from dataclasses import dataclass

from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.proposal import Outcome, Proposal
from sondar.core.instruments.reading import Reading

LEAST_CHANCE = 0.02
"""A result less likely than this is not worth working out ahead."""
REACH_SDS = 2.0
"""A class of figures reaches this many standard deviations beyond the predictions in it, where no other class begins sooner."""


@dataclass(frozen=True)
class LikelyResult:
    """One result that a test may well have.

    Attributes:
        reading: what would typically be read. low, high: figures in SI units that count as this result; both None for a word.
        outcome: the class of the outlook that it stands for, with its probability.
    """

    reading: Reading
    low: float | None
    high: float | None
    outcome: Outcome


def likely_results(belief: Belief, proposal: Proposal, most: int = 3) -> list[LikelyResult]:
    """The likeliest results of a proposed test, likeliest first; those that nothing on the drawing predicts are left out."""
    likely = [outcome for outcome in proposal.outcomes if outcome.probability >= LEAST_CHANCE]
    found = [_result(belief, proposal, outcome) for outcome in likely]
    return [result for result in found if result is not None][:most]


def _result(belief: Belief, proposal: Proposal, outcome: Outcome) -> LikelyResult | None:
    outlook, device = proposal.outlook, proposal.outlook.shown.instrument
    word = outlook.word(outcome.index)
    if word is not None:
        reading = Reading(f"ahead-{outcome.index}", proposal.test, None, word)
        return LikelyResult(reading, None, None, outcome)
    mean, sd, number = outlook.shown.mean[:, 0], outlook.shown.sd[:, 0], outlook.outcome[outcome.index]
    low, high = float(outlook.edges[number]), float(outlook.edges[number + 1])
    inside = (mean >= low) & (mean < high)
    weight = outlook.chance[outcome.index, :-1] * belief.now[:-1] * inside
    if weight.sum() <= 0.0:
        return None
    typical = float((weight * mean).sum() / weight.sum())
    counted = weight > 2e-2 * weight.sum()
    low = max(low, float((mean - REACH_SDS * sd)[counted].min()))
    high = min(high, float((mean + REACH_SDS * sd)[counted].max()))
    reading = Reading(f"ahead-{outcome.index}", proposal.test, device.from_working(typical), None, 0.0)
    return LikelyResult(reading, device.from_working(low), device.from_working(high), outcome)
