"""After a repair: what was measured before speaks about the vehicle before, what is measured now about the vehicle now.

A repair of what is at fault cures with probability ``CURED``. So the belief about the vehicle now starts where the belief about the
vehicle before ended, with the repaired units' share given to *no fault*, and a little to a second cause that the first one hid. The tests
that failed first are the list to verify: a repair is proved when they are within the expected range.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from sondar.core.diagnosis.belief import Array, update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.hypotheses import HypothesisSet
from sondar.core.diagnosis.judge import Effect, Judgement, is_within_expected, judge
from sondar.core.diagnosis.pairs import Pair
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.ranking import evaluate
from sondar.core.diagnosis.variants import Way
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading

CURED = 0.96
"""Chance that the repair of what is at fault leaves it in order: new parts that are bad and joints that do not hold make up the rest."""

SECOND_CAUSE = 0.06
"""Chance that something else is at fault beside what was repaired, in a workshop's intake of single complaints."""


@dataclass(frozen=True)
class Repair:
    """What was done, and after how many of the readings that stand.

    Attributes:
        units: replaceable units that were repaired or replaced. action: in words.
        substituted: a known good part was fitted to try it; the old one may come back.
    """

    units: tuple[str, ...]
    action: str
    after: int
    substituted: bool = False


@dataclass(frozen=True, eq=False)
class Verification:
    """A test that failed before the repair.

    Attributes:
        before: the reading that failed. now: its last reading since the repair, with what it did; None while it has not been repeated.
        unsteady: it is in order now, and showed something else at first after the repair: something more was done, or the fault comes
            and goes.
    """

    test: Test
    before: Effect
    now: Effect | None
    unsteady: bool = False

    @property
    def passed(self) -> bool | None:
        """Within the expected range now; None while it has not been repeated."""
        return None if self.now is None else self.now.within_expected


@dataclass(frozen=True, eq=False)
class RepairedJudgement:
    """A judgement of the vehicle as it is now, after the last repair.

    Attributes:
        now: from the readings since the last repair, or from all if nothing has been repaired.
        earlier: what the readings before the last repair did. to_verify: what failed before and proves the repair when it no longer does.
    """

    now: Judgement
    repairs: tuple[Repair, ...]
    earlier: tuple[Effect, ...]
    to_verify: tuple[Verification, ...]


def prior_after(judgement: Judgement, units: Sequence[str]) -> Array:
    """(H,) belief about the vehicle right after a repair of some units.

    Where two faults together explain the readings better than any one, they take their share from everything that stands alone,
    *not on the drawing* included: what was not repaired of a pair is what is left.
    """
    hypotheses = judgement.belief.hypotheses
    now = judgement.belief.now * (1.0 - min(1.0, sum(pair.probability for pair in judgement.pairs)))
    repaired = hypotheses.member[:, [hypotheses.units.index(unit) for unit in units if unit in hypotheses.units]].any(axis=1)
    share = float(now[repaired].sum())
    now[repaired] *= 1.0 - CURED
    rest = np.where(repaired, 0.0, hypotheses.prior)
    rest[[0, -1]] = 0.0
    now += CURED * share * SECOND_CAUSE * rest / max(float(rest.sum()), 1e-12)
    now[0] += CURED * share * (1.0 - SECOND_CAUSE)
    for pair in judgement.pairs:
        _leave(now, hypotheses, pair, units)
    result: Array = now / now.sum()
    return result


def _leave(now: Array, hypotheses: HypothesisSet, pair: Pair, units: Sequence[str]) -> None:
    """Put a pair's probability on what a repair of some units leaves of it."""
    done = [unit in units for unit in pair.units]
    kept = pair.probability
    if all(done):
        now[0] += CURED * kept
        kept *= 1.0 - CURED
    left = [index for index in (0, 1) if not done[index]] or [0, 1]
    for index in left:
        rows = hypotheses.index(pair.faults[index], pair.severities[index]) or hypotheses.index(pair.faults[index])
        now[rows] += kept / len(left) / len(rows)


def judge_repaired(
    predictor: Predictor, readings: Sequence[Reading], situation: Situation, repairs: Sequence[Repair], prior: Array | None = None,
    known: Sequence[Reading] = (), ways: Sequence[Way] = (), prior_of_way: Callable[[Predictor], Array | None] = lambda _: None,
) -> RepairedJudgement:  # fmt: skip
    """Judge a circuit of which units may have been repaired between the readings.

    Args:
        repairs: in the order of their ``after``. prior, known, ways, prior_of_way: as for ``judge``; how a circuit is built is
            weighed until the first repair.
    """
    prior, start, earlier = before_now(predictor, readings, situation, repairs, prior, known)
    done = tuple(dict.fromkeys(unit for repair in repairs for unit in repair.units))
    now = judge(predictor, readings[start:], situation, prior, known, () if repairs else ways, prior_of_way)
    now = replace(now, repaired=done)
    to_verify = tuple(
        _judged_fairly(predictor, item, now.effects, prior, known) for item in _to_verify(repairs, earlier, now.effects)
    )
    return RepairedJudgement(_verifying(now, to_verify), tuple(repairs), earlier, to_verify)


def _verifying(now: Judgement, to_verify: Sequence[Verification]) -> Judgement:
    """The judgement with the first test that is still to be verified as what to do next, while nothing speaks against the repair."""
    pending = [item.test for item in to_verify if item.now is None]
    failed = any(item.passed is False for item in to_verify)
    if not pending or failed:
        return now
    setup = replace(pending[0].setup, temperature_c=now.situation.setup.temperature_c)
    first = evaluate(now.predictor, now.belief, now.situation, replace(pending[0], setup=setup))
    if first is None:
        return now
    others = [proposal for proposal in now.ranking.proposals if proposal.test != first.test]
    return replace(now, ranking=replace(now.ranking, proposals=(first, *others), settled=False, reason="verify", same_setup=()))


def before_now(
    predictor: Predictor, readings: Sequence[Reading], situation: Situation, repairs: Sequence[Repair], prior: Array | None = None,
    known: Sequence[Reading] = (),
) -> tuple[Array | None, int, tuple[Effect, ...]]:  # fmt: skip
    """Belief right after the last repair, the number of readings before it, and what they did."""
    start, earlier = 0, list[Effect]()
    for repair in repairs:
        before = judge(predictor, readings[start : repair.after], situation, prior, known)
        earlier += before.effects
        prior, start = prior_after(before, repair.units), repair.after
    return prior, start, tuple(earlier)


def _to_verify(repairs: Sequence[Repair], earlier: Sequence[Effect], since: Sequence[Effect]) -> tuple[Verification, ...]:
    """The first test of each instrument and position of the controls that failed with everything connected.

    What failed only with a connector apart is asked for where nothing else failed; the rest followed from the same fault.
    """
    if not repairs:
        return ()
    failed = [e for e in earlier if not e.within_expected and not e.reading.device.finding]
    whole = [effect for effect in failed if not effect.reading.test.setup.unplugged]
    chosen: dict[tuple[object, ...], Effect] = {}
    for effect in whole or failed:
        test = effect.reading.test
        chosen.setdefault((test.instrument, test.setup.controls, test.setup.unplugged), effect)
    latest = {_plain(effect.reading.test): effect for effect in since}
    return tuple(Verification(e.reading.test, e, latest.get(_plain(e.reading.test))) for e in chosen.values())


def _judged_fairly(
    predictor: Predictor, item: Verification, since: Sequence[Effect], prior: Array | None, known: Sequence[Reading]
) -> Verification:
    """A test that was repeated more than once: its last reading held against what others say that were in order.

    What the same test showed at first would otherwise teach what a sound vehicle shows there.
    """
    same = [index for index, effect in enumerate(since) if _plain(effect.reading.test) == _plain(item.test)]
    if len(same) < 2 or item.now is None or all(since[index].within_expected for index in same):
        return item
    fair = [effect.reading for index, effect in enumerate(since[: same[-1]]) if effect.within_expected and index not in same]
    expected = update(predictor, [*fair, item.now.reading], prior, known).expected[-1]
    within = is_within_expected(item.now.reading, expected)
    return replace(item, now=replace(item.now, expected=expected, within_expected=within), unsteady=within)


def _plain(test: Test) -> Test:
    """The test at one temperature: the day may have got warmer between."""
    return replace(test, setup=replace(test.setup, temperature_c=0.0))
