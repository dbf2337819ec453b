"""The order in which the trade takes tests that are about as good: command first, the quick place first, what stands open along with it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.costs import Situation, own_minutes
from sondar.core.diagnosis.proposal import Proposal
from sondar.core.instruments import instrument
from sondar.core.instruments.access import access_of
from sondar.core.instruments.base import Test

LOOK_MINUTES = 3.0
"""What takes no longer than this is looked at or listened to first."""

SAME_SETUP_COUNT, SAME_SETUP_SHARE = 3, 0.1
"""Readings offered beside the proposed one in its set-up, each saving at least this share of it per minute."""

QUICKER_BY_MIN, NEARLY_AS_TELLING = 1.0, 0.1
"""A place on the same conductor goes first if it is reached so many minutes sooner and saves at least this share."""


def command_first(belief: Belief, situation: Situation, ranked: list[Proposal]) -> list[Proposal]:
    """Before anything has been read: what the complaint is about is commanded and listened to, if that takes no longer than a look.

    It shows whether the complaint is there at all, which every later reading takes for granted.
    """
    if not nothing_read(belief, situation):
        return ranked
    quick = [p for p in ranked if instrument(p.test.instrument).idle_word and p.minutes <= LOOK_MINUTES]
    if not quick:
        return ranked
    first = max(quick, key=lambda proposal: proposal.saving_per_min)
    return [first, *(proposal for proposal in ranked if proposal is not first)]


def quick_place_first(circuit: Circuit, situation: Situation, ranked: list[Proposal]) -> list[Proposal]:
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


def nothing_read(belief: Belief, situation: Situation) -> bool:
    """True before the first reading."""
    return not situation.done and len(belief.steps) == 1


def in_same_setup(circuit: Circuit, ranked: Sequence[Proposal]) -> tuple[Proposal, ...]:
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


def varied(proposals: Iterable[Proposal], count: int) -> list[Proposal]:
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
