"""What to measure next, and when measuring no longer pays.

Everything is in minutes. With b the belief over replaceable units and L[a, u] the minutes lost by acting on a when u is at
fault, the potential Φ(b) = Σ b_a·b_u·L[a, u] is the expected loss of acting on a draw from the belief. It is zero only at
certainty and strictly falls with every informative outcome, so it has no plateaus where a one-step look-ahead would stall
(the value of information with a Gini-like loss; cf. Breiman et al., Classification and Regression Trees, 1984, ch. 4, with
costs). A test's worth is its expected fall in Φ per minute, minutes including the change of set-up from where the technician
is now. Measuring stops when the leading unit, or a class that no allowed test can split, is certain enough, or when no test
brings back the minutes it takes.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.findings import extra_minutes
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN, HypothesisSet
from sondar.core.diagnosis.predictions import CLASSES, Predictor, SetupPredictions
from sondar.core.diagnosis.tests import Test
from sondar.core.instruments import INSTRUMENTS
from sondar.core.quantities import format_share

Array = npt.NDArray[np.float64]

RATE_PER_HOUR = 90.0
"""Workshop currency per hour of labour where none is set; it turns prices into minutes."""

COMEBACK_MIN = 60.0
"""Minutes lost when the vehicle comes back with the same complaint."""

CODING_MIN = 25.0
HELP_MIN = 120.0
"""Minutes a specialist costs when the answer is *I do not know*."""

NEGLIGIBLE = 1e-5
"""Hypotheses below this probability are left out of the look-ahead."""

PAYS_ABOVE = 0.2
"""A test pays while its expected fall in Φ is at least this share of its minutes; below 1 since one step sees only part
of what a reading is worth for the readings after it."""

CONFIRMS_ABOVE = 1.0
"""A call that is certain enough is still confirmed while a test saves more minutes than it takes: a lead at a wrong place is
cheaper found with a second reading than with a new part."""

MIN_LOSS_FOR_TWO = 8.0
"""Expected loss in minutes below which a second step is not looked for."""

TWO_STEP_FIRST, TWO_STEP_LEAST_P = 5, 0.02
"""Where one step does not pay, two are reckoned: for this many first tests, and outcomes at least this likely."""

FREE_COUNT, FREE_SHARE = 3, 0.1
"""Readings offered beside the proposed one while its connector is open, each worth at least this share of it."""

SAME_UNLESS = 0.35
"""Two units are one class if no allowed test's outcome distributions differ by this total variation."""


@dataclass(frozen=True)
class Bench:
    """Where the technician stands.

    Attributes:
        setup: the set-up now.
        opened: connectors and parts already reached.
        instruments: ids at hand.
        refused: points, parts or connectors that cannot be reached.
        done: tests already read; a repeat teaches next to nothing, so it is not proposed.
        boldness: probability at which a call is made.
        rate_per_hour: what an hour of labour costs, in the currency of the prices.
        most_setups: only this many set-ups are looked at, the quickest to make first; 0 for all. For whole vehicles.
    """

    setup: Setup
    opened: frozenset[str] = frozenset()
    instruments: tuple[str, ...] = tuple(INSTRUMENTS)
    refused: frozenset[str] = frozenset()
    done: frozenset[Test] = frozenset()
    boldness: float = 0.95
    rate_per_hour: float = RATE_PER_HOUR
    most_setups: int = 0


@dataclass(frozen=True)
class OutcomeView:
    """One outcome class of a test: its index, probability, and the unit belief (U,) it would leave."""

    index: int
    probability: float
    units: tuple[float, ...]


@dataclass(frozen=True, eq=False)
class Proposal:
    """A test worth making, with its reckoning.

    Attributes:
        minutes: all in; of which ``setup_minutes`` for changes and access; ``steps`` says them in words.
        fall: expected fall of Φ in minutes; ``worth`` = fall per minute.
    """

    test: Test
    predictions: SetupPredictions
    index: int
    minutes: float
    setup_minutes: float
    steps: tuple[str, ...]
    fall: float
    outcomes: tuple[OutcomeView, ...] = field(default=())

    @property
    def worth(self) -> float:
        """Expected minutes saved per minute spent."""
        return self.fall / self.minutes


@dataclass(frozen=True, eq=False)
class Plan:
    """The next test and how things stand without it.

    Attributes:
        proposals: best first; the first is the one to make unless ``settled``.
        settled: measuring has done its work: a call is due.
        reason: why, in words.
        leading: units of the leading class, most probable first (one unless inseparable).
        certainty: probability of that class.
        expected_loss: Φ now, in minutes.
        free: tests in the set-up and at the places of the first proposal, best first; they cost only their own minutes.
    """

    proposals: tuple[Proposal, ...]
    settled: bool
    reason: str
    leading: tuple[str, ...]
    certainty: float
    expected_loss: float
    free: tuple[Proposal, ...] = ()


def loss_matrix(circuit: Circuit, hypotheses: HypothesisSet, rate_per_hour: float = RATE_PER_HOUR) -> Array:
    """L (U, U) in minutes: row = what is acted on, column = what is at fault. Prices count as the labour they would pay for."""
    names = hypotheses.units
    wasted = np.zeros(len(names))
    for index, name in enumerate(names):
        if name in (NONE, UNKNOWN):
            continue
        unit = circuit.units[name]
        wasted[index] = unit.price / (max(rate_per_hour, 1.0) / 60.0) + unit.fit_min + (CODING_MIN if unit.coded else 0.0)
    loss = wasted[:, None] + COMEBACK_MIN * np.ones((len(names), len(names)))
    loss[names.index(UNKNOWN), :] = HELP_MIN
    loss[:, names.index(NONE)] -= COMEBACK_MIN  # nothing was wrong: only the work is wasted
    np.fill_diagonal(loss, 0.0)
    return loss


def candidate_setups(predictor: Predictor, bench: Bench) -> list[Setup]:
    """Set-ups one change of connectors away, in any useful position of the controls."""
    now = bench.setup
    connectors = [c for c in predictor.circuit.document.connectors if c not in bench.refused]
    unplugged = [now.unplugged, frozenset[str]()]
    unplugged += [now.unplugged - {c} for c in now.unplugged]
    unplugged += [frozenset({c}) for c in connectors]
    unplugged += [now.unplugged | {c} for c in connectors if len(now.unplugged) < 2]
    states = [*predictor.control_states, now.controls]
    found = [Setup(state, apart, now.temperature_c) for apart in dict.fromkeys(unplugged) for state in dict.fromkeys(states)]
    distinct = list(dict.fromkeys(found))
    if bench.most_setups and len(distinct) > bench.most_setups:
        distinct.sort(key=lambda setup: setup_change(predictor.circuit, bench, setup)[0])
        return distinct[: bench.most_setups]
    return distinct


def setup_change(circuit: Circuit, bench: Bench, target: Setup) -> tuple[float, list[str], frozenset[str]]:
    """Minutes and steps from the set-up now to another, and the places opened on the way.

    The key goes off first when a connector is parted or mated with the key on, as makers ask for modules.
    """
    minutes, steps = 0.0, []
    opened = set(bench.opened)
    document = circuit.document
    for connector in sorted(bench.setup.unplugged ^ target.unplugged):
        spec = document.connectors[connector]
        minutes += spec.unplug_min + (0.0 if connector in opened else spec.access_min)
        opened.add(connector)
        steps.append(f"{'unplug' if connector in target.unplugged else 'plug in'} {connector}")
    for name, value in target.controls:
        if bench.setup[name] != value:
            control = document.controls.get(name)
            minutes += control.minutes if control is not None else 0.2
            steps.append(f"{name} {value}")
    return minutes, steps, frozenset(opened)


def make_plan(predictor: Predictor, belief: Belief, bench: Bench, alternatives: int = 6) -> Plan:
    """Rank all allowed tests and decide whether to go on."""
    circuit, hypotheses = predictor.circuit, belief.hypotheses
    units = belief.units()
    active = np.flatnonzero(belief.now > NEGLIGIBLE)
    in_play = np.flatnonzero(hypotheses.member[active].any(axis=0))
    loss = loss_matrix(circuit, hypotheses, bench.rate_per_hour)[np.ix_(in_play, in_play)]
    weights = (belief.now[active, None] * hypotheses.member[np.ix_(active, in_play)]).astype(np.float32)
    phi = float(units[in_play] @ loss @ units[in_play])
    scored: list[tuple[float, Proposal]] = []
    joints: list[tuple[SetupPredictions, npt.NDArray[np.float32], npt.NDArray[np.intp]]] = []
    for setup in candidate_setups(predictor, bench):
        predictions = predictor.setup(setup)
        allowed = _allowed(circuit, predictions, bench)
        if not allowed.size:
            continue
        chosen = predictions.outcome[allowed][:, :, active]  # (T, K, active)
        joint = (chosen.reshape(-1, active.size) @ weights).reshape(len(allowed), CLASSES, in_play.size)
        total = joint.sum(axis=2)
        after = np.einsum("tku,uv,tkv->tk", joint, loss.astype(np.float32), joint, optimize=True)
        fall = phi - (after / np.maximum(total, 1e-12)).sum(axis=1)
        joints.append((predictions, joint, allowed))
        change, steps, opened = setup_change(circuit, bench, setup)
        for row, index in enumerate(allowed):
            test = predictions.tests[index]
            reach, places = _reach(circuit, test, opened)
            minutes = change + reach + _own_minutes(circuit, test)
            proposal = Proposal(test, predictions, int(index), minutes, change + reach, (*steps, *places), float(fall[row]))
            scored.append((float(fall[row]) / minutes, proposal))
    scored.sort(key=lambda item: -item[0])
    leading, certainty = _leading_class(hypotheses, units, in_play, joints)
    settled, reason = _is_settled(certainty, scored, bench)
    if settled and certainty < bench.boldness and scored and phi > MIN_LOSS_FOR_TWO:
        first = _two_steps(predictor, belief, bench, [proposal for _, proposal in scored])
        if first is not None:
            settled, reason = False, "two tests together still pay"
            scored.insert(0, (first.worth, first))
    ranked = [proposal for _, proposal in scored]
    best = _varied(ranked, alternatives)
    seen = [_with_outcomes(proposal, belief) for proposal in best]
    return Plan(tuple(seen), settled, reason, leading, certainty, phi, _free(circuit, ranked))


def _free(circuit: Circuit, ranked: Sequence[Proposal]) -> tuple[Proposal, ...]:
    """What else can be read while the first proposal's places are open, each at its own minutes only."""
    if not ranked:
        return ()
    first = ranked[0]
    open_now = _places(circuit, first.test)
    found: list[Proposal] = []
    for proposal in ranked[1:]:
        same = proposal.test.setup == first.test.setup and _places(circuit, proposal.test) <= open_now
        if same and (proposal.test.red, proposal.test.black) not in {(p.test.red, p.test.black) for p in (first, *found)}:
            minutes = _own_minutes(circuit, proposal.test)
            bare = replace(proposal, minutes=minutes, setup_minutes=0.0, steps=())
            if bare.worth >= FREE_SHARE * first.worth:
                found.append(bare)
        if len(found) == FREE_COUNT:
            break
    return tuple(found)


def _places(circuit: Circuit, test: Test) -> frozenset[str]:
    refs = (test.red, test.black) if INSTRUMENTS[test.instrument].probes else (test.red,)
    return frozenset(point.place for point in map(circuit.point, refs) if point.ref != circuit.black_reference)


def _two_steps(predictor: Predictor, belief: Belief, bench: Bench, ranked: Sequence[Proposal]) -> Proposal | None:
    """The first of two tests that together pay where no single one does; None if no pair does.

    For each of the best first tests: its own fall, and for every outcome the best second test in the same set-up, weighed by the
    outcome's chance. The pair pays if its falls outweigh the minutes of both as one test's would (``PAYS_ABOVE``).
    """
    loss = loss_matrix(predictor.circuit, belief.hypotheses, bench.rate_per_hour)
    best: tuple[float, Proposal] | None = None
    for first in sorted(ranked, key=lambda p: -p.fall)[:TWO_STEP_FIRST]:
        table = first.predictions.outcome[first.index]
        there = replace(bench, setup=first.test.setup, done=bench.done | {first.test})
        allowed = _allowed(predictor.circuit, first.predictions, there)
        fall, minutes = first.fall, first.minutes
        for chance, row in ((float(row @ belief.now), row) for row in table):
            if chance < TWO_STEP_LEAST_P or not allowed.size:
                continue
            after = row * belief.now / chance
            units = after @ belief.hypotheses.member
            joint = np.einsum("tkh,hu->tku", first.predictions.outcome[allowed] * after, belief.hypotheses.member)
            total = np.maximum(joint.sum(axis=2), 1e-12)
            falls = float(units @ loss @ units) - (np.einsum("tku,uv,tkv->tk", joint, loss, joint, optimize=True) / total).sum(
                axis=1
            )
            own = np.array([_own_minutes(predictor.circuit, first.predictions.tests[i]) for i in allowed])
            second = int(np.argmax(falls / own))
            if falls[second] > PAYS_ABOVE * own[second]:
                fall += chance * float(falls[second])
                minutes += chance * float(own[second])
        if fall > PAYS_ABOVE * minutes and (best is None or fall / minutes > best[0]):
            best = (fall / minutes, replace(first, fall=fall, minutes=minutes))
    return None if best is None else best[1]


def evaluate(predictor: Predictor, belief: Belief, bench: Bench, test: Test) -> Proposal | None:
    """The reckoning of one given test, or None if it is not among the sensible tests of its set-up."""
    predictions = predictor.setup(test.setup)
    if test not in predictions.tests:
        return None
    index = predictions.tests.index(test)
    change, steps, opened = setup_change(predictor.circuit, bench, test.setup)
    reach, places = _reach(predictor.circuit, test, opened)
    minutes = change + reach + _own_minutes(predictor.circuit, test)
    loss = loss_matrix(predictor.circuit, belief.hypotheses, bench.rate_per_hour)
    units = belief.units()
    joint = (predictions.outcome[index] * belief.now) @ belief.hypotheses.member  # (K, U)
    total = np.maximum(joint.sum(axis=1), 1e-12)
    fall = float(units @ loss @ units - (np.einsum("ku,uv,kv->k", joint, loss, joint) / total).sum())
    bare = Proposal(test, predictions, index, minutes, change + reach, (*steps, *places), fall)
    return _with_outcomes(bare, belief)


def _allowed(circuit: Circuit, predictions: SetupPredictions, bench: Bench) -> npt.NDArray[np.intp]:
    kept = []
    for index, test in enumerate(predictions.tests):
        if test.instrument not in bench.instruments or test in bench.done or {test.red, test.black} & bench.refused:
            continue
        places = {circuit.point(test.red).place, circuit.point(test.black).place}
        if places & bench.refused:
            continue
        # An ohmmeter where some standing suspect leaves voltage on the circuit would be a trap.
        if test.instrument == "ohmmeter" and predictions.displays["ohmmeter"].words[0, predictions.pair[index], 1] > 0.05:
            continue
        kept.append(index)
    return np.array(kept, dtype=np.intp)


def _own_minutes(circuit: Circuit, test: Test) -> float:
    """Minutes of the test itself, the place reached and the set-up made."""
    return INSTRUMENTS[test.instrument].minutes + extra_minutes(circuit, test.instrument, test.red)


def _reach(circuit: Circuit, test: Test, opened: frozenset[str]) -> tuple[float, list[str]]:
    minutes, steps = 0.0, []
    seen = [circuit.point(ref) for ref in ((test.red, test.black) if INSTRUMENTS[test.instrument].probes else (test.red,))]
    for place, spent in {point.place: point.access_min for point in seen}.items():
        if place not in opened:
            minutes += spent
            if spent >= 1.0:
                steps.append(f"reach {place}")
    return minutes, steps


def _leading_class(
    hypotheses: HypothesisSet,
    units: Array,
    in_play: npt.NDArray[np.intp],
    joints: Sequence[tuple[SetupPredictions, npt.NDArray[np.float32], npt.NDArray[np.intp]]],
) -> tuple[tuple[str, ...], float]:
    """The most probable unit together with the units that no allowed test can tell from it."""
    share = units[in_play]
    top = int(np.argmax(share))
    apart = np.zeros(in_play.size)
    for _, joint, _ in joints:
        given = joint / np.maximum(joint.sum(axis=1, keepdims=True), 1e-12)  # (T, K, U): outcome given unit
        distance = 0.5 * np.abs(given - given[:, :, top : top + 1]).sum(axis=1)
        apart = np.maximum(apart, distance.max(axis=0))
    members = [u for u in np.argsort(-share) if u == top or (apart[u] < SAME_UNLESS and share[u] > 0.005)]
    names = tuple(hypotheses.units[in_play[u]] for u in members)
    if names[0] in (NONE, UNKNOWN):
        members, names = [top], (names[0],)
    names = tuple(n for n in names if n not in (NONE, UNKNOWN)) or names
    total = sum(float(share[u]) for u in members if hypotheses.units[in_play[u]] in names)
    return names, total


def _is_settled(certainty: float, scored: Sequence[tuple[float, Proposal]], bench: Bench) -> tuple[bool, str]:
    if certainty >= bench.boldness and not (scored and scored[0][0] >= CONFIRMS_ABOVE):
        return True, f"certain enough: {format_share(certainty)} against the workshop's {format_share(bench.boldness)}"
    if not scored:
        return True, "no test is left with the tools and points at hand"
    if scored[0][0] < PAYS_ABOVE:
        return True, "no test left is worth its minutes"
    return False, "measuring still pays"


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


def _with_outcomes(proposal: Proposal, belief: Belief) -> Proposal:
    table = proposal.predictions.outcome[proposal.index]  # (K, H)
    joint = (table * belief.now) @ belief.hypotheses.member
    total = joint.sum(axis=1)
    views = [
        OutcomeView(int(k), float(total[k]), tuple(float(v) for v in joint[k] / total[k]))
        for k in np.argsort(-total)
        if total[k] > 0.01
    ]
    return Proposal(
        proposal.test, proposal.predictions, proposal.index, proposal.minutes, proposal.setup_minutes, proposal.steps,
        proposal.fall, tuple(views),
    )  # fmt: skip
