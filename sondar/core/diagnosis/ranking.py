"""What to measure next, and when measuring no longer pays.

Everything is in minutes. With b the belief over replaceable units and L[a, u] the minutes lost by acting on a when u is at
fault, the potential Φ(b) = Σ b_a·b_u·L[a, u] is the expected loss of acting on a draw from the belief. It is zero only at
certainty and strictly falls with every informative outcome, so it has no plateaus where a one-step look-ahead would stall
(the value of information with a Gini-like loss; cf. Breiman et al., Classification and Regression Trees, 1984, ch. 4, with
costs). What a test is good for is its expected fall of Φ, per minute, minutes including the change of set-up from where the technician
is now. Measuring stops when the leading unit, or a class that no allowed test can split, is certain enough, or when no test
brings back the minutes it takes.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.costs import Situation, Step, access_minutes, loss_matrix, made_in, reach, setup_change, steps_to
from sondar.core.diagnosis.expectations import learned_outlooks
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN, HypothesisSet
from sondar.core.diagnosis.practice import LOOK_MINUTES, command_first, in_same_setup, nothing_read, quick_place_first, varied
from sondar.core.diagnosis.predictions import Outlook, Predictor, SetupPredictions
from sondar.core.diagnosis.proposal import Outcome, Proposal, Ranking
from sondar.core.diagnosis.worth import NEGLIGIBLE, allowed_tests, moves, settles, was_read
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Test
from sondar.core.interruption import checkpoint

Array = npt.NDArray[np.float64]

SMALLEST = 1e-9
"""Hypotheses below this probability move no expected loss by anything that counts."""

SAME_UNLESS = 0.35
"""Two units are one class if no allowed test's outcome distributions differ by this total variation."""

FAINT_UNIT = 0.12
"""Units below this may count as good where no test tells them from good ones."""

SURELY_SEEN = 0.9
"""What eyes would find with this chance is looked at before it is called, if the look takes no longer than ``LOOK_MINUTES`` more."""

WEIGHED_AGAIN = 40
"""Tests whose outcomes are worked out again after all that has been learned."""


def candidate_setups(predictor: Predictor, situation: Situation) -> list[Setup]:
    """Set-ups one change of connectors away, in any useful position of the controls."""
    now = situation.setup
    connectors = [c for c in predictor.circuit.document.connectors if c not in situation.refused]
    unplugged = [now.unplugged, frozenset[str]()]
    unplugged += [now.unplugged - {c} for c in now.unplugged]
    unplugged += [frozenset({c}) for c in connectors]
    unplugged += [now.unplugged | {c} for c in connectors if len(now.unplugged) < 2]
    states = [*predictor.control_states, now.controls]
    found = [Setup(state, apart, now.temperature_c) for apart in dict.fromkeys(unplugged) for state in dict.fromkeys(states)]
    circuit = predictor.circuit
    distinct = [setup for setup in dict.fromkeys(found) if setup == now or not circuit.impossible(setup)]
    most = situation.most_setups or predictor.affordable_setups(len(situation.done))
    if len(distinct) > most:
        distinct.sort(key=lambda setup: setup_change(circuit, situation, setup)[0])
        return distinct[:most]
    return distinct


@dataclass(frozen=True, eq=False)
class _Scored:
    """All tests of one set-up: which may be proposed, what each saves by the tables, and how one gets there."""

    predictions: SetupPredictions
    allowed: npt.NDArray[np.bool_]
    saving: Array
    minutes: Array
    steps: tuple[Step, ...]
    opened: frozenset[str]
    change: float


def ranked_tests(
    predictor: Predictor, belief: Belief, situation: Situation, alternatives: int = 6
) -> tuple[Ranking, list[Proposal]]:
    """All allowed tests ranked by one step, and whether to go on; beside it the best tests, best first.

    First by the tables, which count the battery and the temperature as measured; then the best of those by what is really known.
    """
    circuit, hypotheses = predictor.circuit, belief.hypotheses
    units = belief.units()
    active = np.flatnonzero(belief.now > NEGLIGIBLE)
    in_play = np.flatnonzero(hypotheses.member[active].any(axis=0))
    losses = loss_matrix(circuit, hypotheses, situation.rate_per_hour)
    loss = losses[np.ix_(in_play, in_play)]
    weights = (belief.now[active, None] * hypotheses.member[np.ix_(active, in_play)]).astype(np.float32)
    phi = float(units[in_play] @ loss @ units[in_play])
    top = int(np.argmax(units[in_play]))
    apart = np.zeros(in_play.size)
    scored: list[_Scored] = []
    setups = candidate_setups(predictor, situation)
    for number, setup in enumerate(setups, start=1):
        checkpoint(f"set-up {number} of {len(setups)}")
        predictions = predictor.setup(setup)
        allowed = allowed_tests(predictions, situation)
        if not allowed.any():
            continue
        chance = seen_while(situation.present, predictions.chance, active)
        joint = chance @ weights  # (N, U)
        first = predictions.first[:-1]
        after = ((joint @ loss.astype(np.float32)) * joint).sum(axis=1) / np.maximum(joint.sum(axis=1), 1e-12)
        saving = phi - np.add.reduceat(after, first)
        given = joint / np.maximum(units[in_play], 1e-12)
        distance = 0.5 * np.add.reduceat(np.abs(given - given[:, top : top + 1]), first, axis=0)
        apart = np.maximum(apart, distance[allowed].max(axis=0))
        scored += _as_made(circuit, situation, predictions, allowed, saving)
    ranked = _best(predictor, belief, scored, situation)
    leading, certainty = _leading_class(hypotheses, units, in_play, apart)
    if leading == (NONE,):
        certainty = _as_good_as_healthy(belief, active, ranked)
    if situation.present >= 1.0 and certainty < situation.decision_threshold:
        ranked = [one for one in ranked if one.teaches or moves(one, belief, units)]
    wrong = np.array([name not in leading for name in hypotheses.units])
    settled, reason = settles(certainty, ranked, situation, float(units[wrong] @ losses[hypotheses.units.index(leading[0]), wrong]))
    look = _look_first(predictor, belief, situation) if settled and leading[0] not in (NONE, UNKNOWN) else None
    if look is not None:
        settled, reason, ranked = False, "look", [look, *ranked]
    if not settled:
        ranked = command_first(belief, situation, quick_place_first(circuit, situation, ranked))
    best = varied(ranked, alternatives)
    seen = [with_outcomes(proposal, belief) for proposal in best]
    return Ranking(tuple(seen), settled, reason, leading, certainty, phi, in_same_setup(circuit, ranked)), ranked


def _as_made(
    circuit: Circuit, situation: Situation, predictions: SetupPredictions, allowed: npt.NDArray[np.bool_], saving: Array
) -> Iterator[_Scored]:
    """The tests of a set-up with their minutes; those that only look need less of it."""
    target = [made_in(circuit, situation.setup, test) for test in predictions.tests]
    for goal in dict.fromkeys(setup for setup, may in zip(target, allowed, strict=True) if may):
        change, steps, opened = setup_change(circuit, situation, goal)
        closed = [access_minutes(circuit, places, opened, situation) for places in predictions.places]
        minutes = change + np.array(closed) + predictions.minutes
        here = allowed & np.array([setup == goal for setup in target])
        yield _Scored(predictions, here, saving, minutes, steps, opened, change)


def _best(predictor: Predictor, belief: Belief, scored: Sequence[_Scored], situation: Situation) -> list[Proposal]:
    """The best tests by the tables, weighed again by what has been learned, best first."""
    if not scored:
        return []
    loss = loss_matrix(predictor.circuit, belief.hypotheses, situation.rate_per_hour)
    ratio = np.concatenate([np.where(item.allowed, item.saving / item.minutes, -np.inf) for item in scored])
    owner = np.repeat(np.arange(len(scored)), [len(item.allowed) for item in scored])
    place = np.concatenate([np.arange(len(item.allowed)) for item in scored])
    order = np.argsort(-ratio, kind="stable")[:WEIGHED_AGAIN]
    chosen = [(scored[owner[i]], int(place[i])) for i in order if np.isfinite(ratio[i])]
    besides = [*_teaching(scored), *(_commanded(scored) if nothing_read(belief, situation) else [])]
    known = {(id(item), index) for item, index in chosen}
    chosen += [(item, index) for item, index in besides if (id(item), index) not in known]
    outlooks = learned_outlooks(predictor, belief, [(item.predictions, index) for item, index in chosen])
    proposals = []
    for (item, index), outlook in zip(chosen, outlooks, strict=True):
        test = item.predictions.tests[index]
        if situation.present >= 1.0 and was_read(predictor, belief, test, outlook.shown, situation):
            continue
        minutes = float(item.minutes[index])
        bare = Proposal(
            test, outlook, minutes, minutes - float(item.predictions.minutes[index]),
            steps_to(predictor.circuit, situation, test, item.opened, item.steps),
            expected_saving(belief, outlook, loss, situation.present), teaches=index in item.predictions.teaching,
        )  # fmt: skip
        proposals.append(bare)
    proposals.sort(key=lambda proposal: -proposal.saving_per_min)
    return proposals


def _commanded(scored: Sequence[_Scored]) -> list[tuple[_Scored, int]]:
    """The quickest way to command each part that a person notices acting."""
    quickest: dict[str, tuple[_Scored, int]] = {}
    for item in scored:
        for index in np.flatnonzero(item.allowed & ~item.predictions.idle):
            test = item.predictions.tests[index]
            best = quickest.get(test.red)
            if instrument(test.instrument).idle_word and (best is None or item.minutes[index] < best[0].minutes[best[1]]):
                quickest[test.red] = (item, int(index))
    return list(quickest.values())


def _teaching(scored: Sequence[_Scored]) -> list[tuple[_Scored, int]]:
    """The quickest way to each test that teaches what others are judged by; by the tables these tell nothing."""
    quickest: dict[tuple[str, str], tuple[_Scored, int]] = {}
    for item in scored:
        for index in item.predictions.teaching[item.allowed[item.predictions.teaching]]:
            test = item.predictions.tests[index]
            best = quickest.get((test.instrument, test.red))
            if best is None or item.minutes[index] < best[0].minutes[best[1]]:
                quickest[test.instrument, test.red] = (item, int(index))
    return list(quickest.values())


def seen_while(present: float, chance: npt.NDArray[np.float32], columns: npt.NDArray[np.intp]) -> npt.NDArray[np.float32]:
    """Chances (N, columns) of outcomes where a fault is there only for a share of the time and the vehicle is healthy else."""
    if present >= 1.0:
        return chance[:, columns]
    return np.asarray(present * chance[:, columns] + (1.0 - present) * chance[:, :1], dtype=np.float32)


def expected_saving(belief: Belief, outlook: Outlook, loss: Array, present: float = 1.0) -> float:
    """Expected fall of Φ in minutes by a test with this outlook; ``loss`` (U, U) over all units."""
    units = belief.units()
    active = np.flatnonzero(belief.now > SMALLEST)
    chance = seen_while(present, outlook.chance, active)
    joint = (chance * belief.now[active]) @ belief.hypotheses.member[active]  # (K, U)
    total = np.maximum(joint.sum(axis=1), 1e-12)
    return float(units @ loss @ units - (((joint @ loss) * joint).sum(axis=1) / total).sum())


def evaluate(predictor: Predictor, belief: Belief, situation: Situation, test: Test) -> Proposal | None:
    """Cost and expected saving of one given test, or None if it is not among the sensible tests of its set-up."""
    predictions = predictor.setup(test.setup)
    if test not in predictions.tests:
        return None
    index = predictions.tests.index(test)
    change, steps, opened = setup_change(predictor.circuit, situation, made_in(predictor.circuit, situation.setup, test))
    access, _ = reach(predictor.circuit, test, opened, situation)
    minutes = change + access + float(predictions.minutes[index])
    [outlook] = learned_outlooks(predictor, belief, [(predictions, index)])
    loss = loss_matrix(predictor.circuit, belief.hypotheses, situation.rate_per_hour)
    saving = expected_saving(belief, outlook, loss, situation.present)
    return with_outcomes(
        Proposal(test, outlook, minutes, change + access, steps_to(predictor.circuit, situation, test, opened, steps), saving),
        belief,
    )


def _leading_class(
    hypotheses: HypothesisSet, units: Array, in_play: npt.NDArray[np.intp], apart: Array
) -> tuple[tuple[str, ...], float]:
    """The most probable unit together with the units that no allowed test can tell from it.

    Args:
        apart: (in play,) greatest total variation between the leading unit and each other over all allowed tests.
    """
    share = units[in_play]
    top = int(np.argmax(share))
    members = [u for u in np.argsort(-share) if u == top or (apart[u] < SAME_UNLESS and share[u] > 0.005)]
    names = tuple(hypotheses.units[in_play[u]] for u in members)
    if names[0] in (NONE, UNKNOWN):
        return (names[0],), float(share[top])
    named = tuple(n for n in names if n not in (NONE, UNKNOWN))
    return named, sum(float(share[u]) for u in members if hypotheses.units[in_play[u]] in named)


def _as_good_as_healthy(belief: Belief, active: npt.NDArray[np.intp], ranked: Sequence[Proposal]) -> float:
    """Probability of no fault, with every fault that no test worth making can tell from it, by all that has been learned.

    Nothing would show that such a part is bad, and so nothing would show that replacing it was right. A unit that is rather likely is
    not passed over like that: it needs another tool.
    """
    faint = belief.hypotheses.member @ (belief.units() < FAINT_UNIT) > 0.5
    inner = active[(active > 0) & (active < len(belief.now) - 1)]
    inner = inner[faint[inner]]
    apart = np.zeros(inner.size)
    for proposal in ranked:
        chance = proposal.outlook.chance
        apart = np.maximum(apart, 0.5 * np.abs(chance[:, inner] - chance[:, :1]).sum(axis=0))
    return float(belief.now[0] + belief.now[inner[apart < SAME_UNLESS]].sum())


def _look_first(predictor: Predictor, belief: Belief, situation: Situation) -> Proposal | None:
    """A look that would show what leads, such as wires in the wrong cavities, or a new fuse in place of a blown one, if not done yet."""
    hypotheses = belief.hypotheses
    leads = int(np.argmax(belief.now[:-1]))
    fault = predictor.circuit.faults.get(hypotheses.suspects[leads].fault)
    rest = predictor.circuit.rest_setup(situation.setup.temperature_c)
    predictions = predictor.setup(rest)
    for index in np.flatnonzero(allowed_tests(predictions, situation, confirming=True)):
        test = predictions.tests[index]
        device = instrument(test.instrument)
        if not device.finding or predictions.minutes[index] > LOOK_MINUTES:
            continue
        words = predictions.display(int(index)).words[:, 0]
        here = fault is not None and fault.part == test.red and {"evident", "open"} <= fault.traits
        tells = here if device.confirms else words[0, 0] < 0.5
        if tells and words[leads, 0] >= SURELY_SEEN:
            return evaluate(predictor, belief, situation, test)
    return None


def with_outcomes(proposal: Proposal, belief: Belief) -> Proposal:
    """The same with the outcomes that are worth saying, likeliest first."""
    joint = (proposal.outlook.chance * belief.now) @ belief.hypotheses.member
    total = joint.sum(axis=1)
    views = [
        Outcome(int(k), float(total[k]), tuple(float(v) for v in joint[k] / total[k]))
        for k in np.argsort(-total)
        if total[k] > 0.01
    ]
    return replace(proposal, outcomes=tuple(views))
