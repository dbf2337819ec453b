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

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.costs import Situation, Step, loss_matrix, made_in, own_minutes, reach, setup_change
from sondar.core.diagnosis.expectations import learned_outlooks
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN, HypothesisSet
from sondar.core.diagnosis.predictions import Outlook, Predictor, SetupPredictions
from sondar.core.instruments import instrument
from sondar.core.instruments.access import access_of
from sondar.core.instruments.base import Display, Test
from sondar.core.interruption import checkpoint

Array = npt.NDArray[np.float64]
Reason = Literal["certain", "no test", "not worth it", "pays", "two pay", "look", "second", "verify", "ways", "look up"]

NEGLIGIBLE = 1e-5
"""Hypotheses below this probability are left out of the look-ahead."""

SMALLEST = 1e-9
"""Hypotheses below this probability move no expected loss by anything that counts."""

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

SAME_SETUP_COUNT, SAME_SETUP_SHARE = 3, 0.1
"""Readings offered beside the proposed one in its set-up, each saving at least this share of it per minute."""

SAME_UNLESS = 0.35
"""Two units are one class if no allowed test's outcome distributions differ by this total variation."""

SAME_WORDS, SAME_SDS = 0.1, 0.5
"""Two tests are one if all suspects predict their words this near, and their figures within so many standard deviations."""

FAINT_UNIT = 0.12
"""Units below this may count as good where no test tells them from good ones."""

SURELY_SEEN, LOOK_MINUTES = 0.9, 3.0
"""What eyes would find with this chance is looked at before it is called, if the look takes no longer than this many minutes more."""

QUICKER_BY_MIN, NEARLY_AS_TELLING = 1.0, 0.1
"""A place on the same conductor goes first if it is reached so many minutes sooner and saves at least this share."""

WEIGHED_AGAIN = 40
"""Tests whose outcomes are worked out again after all that has been learned."""


@dataclass(frozen=True)
class Outcome:
    """One outcome class of a test: its row in the outlook, probability, and the unit belief (U,) it would leave."""

    index: int
    probability: float
    units: tuple[float, ...]


@dataclass(frozen=True, eq=False)
class Proposal:
    """A test with what it costs and what it is expected to save.

    Attributes:
        outlook: what may come of it, after all that has been learned.
        minutes: all in; of which ``setup_minutes`` for changes and access, in the order of ``steps``.
        saving_min: expected fall of Φ in minutes.
        teaches: it tells what other readings are judged by, such as a thermometer.
    """

    test: Test
    outlook: Outlook
    minutes: float
    setup_minutes: float
    steps: tuple[Step, ...]
    saving_min: float
    outcomes: tuple[Outcome, ...] = field(default=())
    teaches: bool = False

    @property
    def saving_per_min(self) -> float:
        """Expected minutes saved per minute spent."""
        return self.saving_min / self.minutes


@dataclass(frozen=True, eq=False)
class Ranking:
    """The next test and how things stand without it.

    Attributes:
        proposals: best first; the first is the one to make unless ``settled``.
        settled: measuring has done its work: a diagnosis is due.
        reason: why.
        leading: units of the leading class, most probable first (one unless inseparable).
        certainty: probability of that class.
        expected_loss: Φ now, in minutes.
        same_setup: tests in the set-up and at the places of the first proposal, best first; they cost only their own minutes.
    """

    proposals: tuple[Proposal, ...]
    settled: bool
    reason: Reason
    leading: tuple[str, ...]
    certainty: float
    expected_loss: float
    same_setup: tuple[Proposal, ...] = ()


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
    most = situation.most_setups or predictor.affordable_setups
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
        ranked = [one for one in ranked if one.teaches or _moves(one, belief, units)]
    wrong = np.array([name not in leading for name in hypotheses.units])
    settled, reason = _is_settled(
        certainty, ranked, situation, float(units[wrong] @ losses[hypotheses.units.index(leading[0]), wrong])
    )
    look = _look_first(predictor, belief, situation) if settled and leading[0] not in (NONE, UNKNOWN) else None
    if look is not None:
        settled, reason, ranked = False, "look", [look, *ranked]
    if not settled:
        ranked = _command_first(belief, situation, _quick_place_first(circuit, situation, ranked))
    best = _varied(ranked, alternatives)
    seen = [with_outcomes(proposal, belief) for proposal in best]
    return Ranking(tuple(seen), settled, reason, leading, certainty, phi, _in_same_setup(circuit, ranked)), ranked


def _as_made(
    circuit: Circuit, situation: Situation, predictions: SetupPredictions, allowed: npt.NDArray[np.bool_], saving: Array
) -> Iterator[_Scored]:
    """The tests of a set-up with their minutes; those that only look need less of it."""
    target = [made_in(circuit, situation.setup, test) for test in predictions.tests]
    for goal in dict.fromkeys(setup for setup, may in zip(target, allowed, strict=True) if may):
        change, steps, opened = setup_change(circuit, situation, goal)
        closed = [sum(minutes for place, minutes in places.items() if place not in opened) for places in predictions.places]
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
    besides = [*_teaching(scored), *(_commanded(scored) if _nothing_read(belief, situation) else [])]
    known = {(id(item), index) for item, index in chosen}
    chosen += [(item, index) for item, index in besides if (id(item), index) not in known]
    outlooks = learned_outlooks(predictor, belief, [(item.predictions, index) for item, index in chosen])
    proposals = []
    for (item, index), outlook in zip(chosen, outlooks, strict=True):
        test = item.predictions.tests[index]
        if situation.present >= 1.0 and _was_read(predictor, belief, test, outlook.shown, situation):
            continue
        _, places = reach(predictor.circuit, test, item.opened)
        minutes = float(item.minutes[index])
        bare = Proposal(
            test, outlook, minutes, minutes - float(item.predictions.minutes[index]), (*item.steps, *places),
            expected_saving(belief, outlook, loss, situation.present), teaches=index in item.predictions.teaching,
        )  # fmt: skip
        proposals.append(bare)
    proposals.sort(key=lambda proposal: -proposal.saving_per_min)
    return proposals


def _moves(proposal: Proposal, belief: Belief, units: Array) -> bool:
    """True if something that the test may well show would change what is thought of some suspect."""
    joint = (proposal.outlook.chance * belief.now) @ belief.hypotheses.member
    total = joint.sum(axis=1)
    likely = total >= MOVES_WITH
    moved = np.abs(joint[likely] / total[likely, None] - units).max(initial=0.0)
    if belief.hypotheses.units[int(units.argmax())] == NONE:
        return bool(moved >= MOVES_HEALTHY)
    return bool(moved >= min(MOVES_BY, MOVES_SHARE * (1.0 - float(units.max()))))


def _command_first(belief: Belief, situation: Situation, ranked: list[Proposal]) -> list[Proposal]:
    """Before anything has been read: what the complaint is about is commanded and listened to, if that takes no longer than a look.

    It shows whether the complaint is there at all, which every later reading takes for granted.
    """
    if not _nothing_read(belief, situation):
        return ranked
    quick = [p for p in ranked if instrument(p.test.instrument).idle_word and p.minutes <= LOOK_MINUTES]
    if not quick:
        return ranked
    first = max(quick, key=lambda proposal: proposal.saving_per_min)
    return [first, *(proposal for proposal in ranked if proposal is not first)]


def _quick_place_first(circuit: Circuit, situation: Situation, ranked: list[Proposal]) -> list[Proposal]:
    """A line that no probe has touched is first measured where it is quick to reach, not at the far end of the same conductor.

    The far end may tell more per minute, as it has the wire in it as well; but what is wrong at the near end is found there for less.
    """
    if not ranked or not instrument(ranked[0].test.instrument).probes:
        return ranked
    first = ranked[0]
    line_of = access_of(circuit).lines(first.test.setup)
    line = line_of.get(circuit.point(first.test.red).node)
    touched_lines = {
        line_of.get(circuit.point(ref).node)
        for test in situation.done
        if instrument(test.instrument).probes and not instrument(test.instrument).dead_circuit
        for ref in (test.red, test.black)
    }
    if line is None or line in touched_lines:
        return ranked
    nearer = [
        proposal
        for proposal in ranked[1:]
        if (proposal.test.instrument, proposal.test.black, proposal.test.setup)
        == (first.test.instrument, first.test.black, first.test.setup)
        and line_of.get(circuit.point(proposal.test.red).node) == line
        and proposal.minutes <= first.minutes - QUICKER_BY_MIN
        and proposal.saving_min >= NEARLY_AS_TELLING * first.saving_min
    ]
    if not nearer:
        return ranked
    chosen = min(nearer, key=lambda proposal: proposal.minutes)
    return [chosen, *(proposal for proposal in ranked if proposal is not chosen)]


def _nothing_read(belief: Belief, situation: Situation) -> bool:
    return not situation.done and len(belief.steps) == 1


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


def _was_read(predictor: Predictor, belief: Belief, test: Test, shown: Display, situation: Situation) -> bool:
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


def _in_same_setup(circuit: Circuit, ranked: Sequence[Proposal]) -> tuple[Proposal, ...]:
    """What else can be read while the first proposal's places are open, each at its own minutes only."""
    if not ranked:
        return ()
    first = ranked[0]
    open_now = _places(circuit, first.test)
    found: list[Proposal] = []
    for proposal in ranked[1:]:
        same = proposal.test.setup == first.test.setup and _places(circuit, proposal.test) <= open_now
        if same and (proposal.test.red, proposal.test.black) not in {(p.test.red, p.test.black) for p in (first, *found)}:
            minutes = own_minutes(circuit, proposal.test)
            bare = replace(proposal, minutes=minutes, setup_minutes=0.0, steps=())
            if bare.saving_per_min >= SAME_SETUP_SHARE * first.saving_per_min:
                found.append(bare)
        if len(found) == SAME_SETUP_COUNT:
            break
    return tuple(found)


def _places(circuit: Circuit, test: Test) -> frozenset[str]:
    refs = (test.red, test.black) if instrument(test.instrument).probes else (test.red,)
    return frozenset(point.place for point in map(circuit.point, refs) if point.ref != circuit.black_reference)


def evaluate(predictor: Predictor, belief: Belief, situation: Situation, test: Test) -> Proposal | None:
    """Cost and expected saving of one given test, or None if it is not among the sensible tests of its set-up."""
    predictions = predictor.setup(test.setup)
    if test not in predictions.tests:
        return None
    index = predictions.tests.index(test)
    change, steps, opened = setup_change(predictor.circuit, situation, made_in(predictor.circuit, situation.setup, test))
    access, places = reach(predictor.circuit, test, opened)
    minutes = change + access + float(predictions.minutes[index])
    [outlook] = learned_outlooks(predictor, belief, [(predictions, index)])
    loss = loss_matrix(predictor.circuit, belief.hypotheses, situation.rate_per_hour)
    saving = expected_saving(belief, outlook, loss, situation.present)
    return with_outcomes(Proposal(test, outlook, minutes, change + access, (*steps, *places), saving), belief)


def allowed_tests(predictions: SetupPredictions, situation: Situation, *, confirming: bool = False) -> npt.NDArray[np.bool_]:
    """(T,) tests that may be proposed.

    Tools at hand, nothing refused, nothing done, no trap; a part is commanded before anybody listens to it at rest; those that confirm
    only if asked for.
    """
    tools, refused, done = frozenset(situation.instruments), situation.refused, situation.done
    tried = {(test.instrument, test.red) for test in done}
    return np.array([
        not trap and test.instrument in tools and test not in done and (confirming or not instrument(test.instrument).confirms)
        and not (refused and ({test.red, test.black} & refused or places.keys() & refused))
        and not (idle and (test.instrument, test.red) not in tried)
        for test, places, trap, idle in zip(predictions.tests, predictions.places, predictions.trap, predictions.idle, strict=True)
    ], dtype=bool)  # fmt: skip


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


def _is_settled(certainty: float, ranked: Sequence[Proposal], situation: Situation, loss: float) -> tuple[bool, Reason]:
    best = ranked[0].saving_per_min if ranked else 0.0
    if certainty >= situation.decision_threshold and (best < CONFIRMS_ABOVE or loss < SMALL_LOSS_MIN):
        return True, "certain"
    if not ranked:
        return True, "no test"
    return (True, "not worth it") if best < PAYS_ABOVE else (False, "pays")


def _varied(proposals: Iterable[Proposal], count: int) -> list[Proposal]:
    """The best test, then the best with other points, so that alternatives are real ones."""
    chosen: list[Proposal] = []
    seen: set[tuple[str, str]] = set()
    for proposal in proposals:
        key = (proposal.test.red, proposal.test.black)
        if key not in seen:
            seen.add(key)
            chosen.append(proposal)
        if len(chosen) == count:
            break
    return chosen


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
