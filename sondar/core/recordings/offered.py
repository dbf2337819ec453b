"""What a stretch of a recording offers to be read off: levels, responses to commands, dropouts, words; each where it is, with its uncertainty.

Nothing here is taken as evidence: a person does that, feature by feature.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from sondar.core.recordings.behaviour import clipped, counted, is_constant, range_of
from sondar.core.recordings.dropouts import Dropouts, dropouts
from sondar.core.recordings.estimate import Estimate, noise_of, settled_level
from sondar.core.recordings.model import Channel, Lane, Step
from sondar.core.recordings.response import Response, response
from sondar.core.recordings.together import line, together
from sondar.core.recordings.trend import slope

SETTLED_PART = 0.5
"""Of the time in one position, the last part in which a level is read off."""
MOST_STEPS = 12
LEAST_AT_REST = 5
"""The level before a command is not told from fewer samples."""
STRAIGHT = 1.6
"""How many times the noise may be left beside a straight line."""
SHORTEST_SPELL_S = 0.1
"""A spell that a module takes for a fault, for the chance of having missed one."""


@dataclass(frozen=True)
class Feature:
    """One thing read off a channel.

    Attributes:
        kind: ``level``, ``gain``, ``dead``, ``lag``, ``reached``, ``overshoot``, ``no movement``, ``slope``,
            ``slope change``, ``range``, ``dropouts``, ``constant``,
            ``clipped``, ``difference``, ``correlation``, ``line gain``, ``line offset``, ``counted``.
        title: what it is, as a sentence begins. channel, other: the channels it is of.
        start_s, end_s: where it stands in the recording. estimate: the figure; None for words.
        word: what is said instead of, or beside, the figure. positions: of the lanes there.
    """

    kind: str
    title: str
    channel: str
    start_s: float
    end_s: float
    estimate: Estimate | None = None
    word: str = ""
    other: str = ""
    positions: tuple[tuple[str, str], ...] = ()


def positions_at(lanes: Sequence[Lane], seconds: float) -> tuple[tuple[str, str], ...]:
    """Position of every lane at a time."""
    return tuple((lane.name, lane.at(seconds)) for lane in lanes)


def stretches(lanes: Sequence[Lane], start_s: float, end_s: float) -> list[tuple[float, float]]:
    """Times between any two changes of any lane."""
    edges = sorted({start_s, end_s, *(t for lane in lanes for t, _ in lane.changes if start_s < t < end_s)})
    return [(a, b) for a, b in pairwise(edges) if b > a]


def features(channel: Channel, lanes: Sequence[Lane], start_s: float, end_s: float) -> list[Feature]:
    """Everything that a channel offers in a stretch; lanes are what may have driven it."""
    part = channel.within(start_s, end_s)
    if len(part.y) < 3:
        return []
    found = [*_behaviour(part, lanes, start_s, end_s)]
    lanes = [lane for lane in lanes if lane.name != channel.name]
    if part.role == "command":
        return found
    part = without_dropouts(part, lanes)
    spans = stretches(lanes, start_s, end_s)
    if len(spans) <= 2 * MOST_STEPS:
        for a, b in spans:
            found += _level(part, lanes, a, b, whole=len(spans) == 1)
    steps = sorted((s for lane in lanes if lane.commands for s in lane.steps if start_s < s.at_s < end_s), key=lambda s: s.at_s)
    for index, step in enumerate(steps[:MOST_STEPS]):
        before = steps[index - 1].at_s if index else start_s
        after = steps[index + 1].at_s if index + 1 < len(steps) else end_s
        found += _response(part, step, before, after)
    return found


def _behaviour(part: Channel, lanes: Sequence[Lane], start_s: float, end_s: float) -> list[Feature]:
    name, (a, b) = part.name, (float(part.t[0]), float(part.t[-1]))
    if part.role == "counter":
        return [Feature("counted", f"{name} counted", name, a, b, Estimate(counted(part), 0.0, part.unit))]
    seen = range_of(part)
    found = [
        Feature(
            "range", f"{name}, least to greatest", name, a, b, word=f"{seen.least:.6g} … {seen.greatest:.6g} {part.unit}".strip()
        )
    ]
    moved = any(start_s < step.at_s < end_s for lane in lanes if lane.commands and lane.name != name for step in lane.steps)
    if part.role == "command":
        return found
    if moved and is_constant(part):
        found.append(Feature("constant", f"{name} does not change while something is commanded", name, a, b, word="constant"))
    if end := clipped(part):
        found.append(Feature("clipped", f"{name} stands at its end", name, a, b, word=end))
    spells = dropouts(part)
    if spells is not None:
        found += _dropouts(name, spells, a, b)
    return found


def _dropouts(name: str, seen: Dropouts, a: float, b: float) -> list[Feature]:
    missed = 1.0 - min(1.0, SHORTEST_SPELL_S / seen.sample_s) if seen.sample_s > 0 else 0.0
    note = f"; of spells of {SHORTEST_SPELL_S:g} s this recording misses {100 * missed:.0f} % each" if missed > 0.02 else ""
    if not seen.spells:
        if not missed:
            return []
        return [Feature("dropouts", f"{name}, no dropout seen", name, a, b, word=f"none in {seen.watched_s:.0f} s{note}")]
    worst = max(seen.spells, key=lambda spell: spell.most_s)
    words = (
        f"{len(seen.spells)} in {seen.watched_s:.0f} s ({seen.low:.2g} to {seen.high:.2g} a minute); the longest {worst.least_s:.3g} to "
        f"{worst.most_s:.3g} s, at {worst.figure:.4g}{note}"
    )
    return [Feature("dropouts", f"{name} drops out", name, worst.start_s, worst.start_s + worst.most_s, word=words)]


def _level(part: Channel, lanes: Sequence[Lane], a: float, b: float, whole: bool) -> list[Feature]:
    """The level of a stretch in which nothing is commanded anew, or the slope on which it goes on: a level must be steady to be one."""
    begin = a if whole else b - SETTLED_PART * (b - a)
    inside = part.within(begin, b if whole else b - 1e-9)
    level = settled_level(inside)
    if level is None or len(inside.y) < 3:
        return []
    positions = positions_at(lanes, begin)
    at = ", ".join(f"{lane} {position}" for lane, position in positions if position)
    drift = drifts(inside)
    if drift is None:
        return [Feature("level", f"{part.name}{f' at {at}' if at else ''}", part.name, begin, b, level, positions=positions)]
    title = f"{part.name} goes on {'rising' if drift.value > 0 else 'falling'}{f' at {at}' if at else ''}"
    return [Feature("slope", title, part.name, begin, b, _a_minute(drift, part), positions=positions)]


def without_dropouts(part: Channel, lanes: Sequence[Lane]) -> Channel:
    """The channel without the samples of its dropouts, which say nothing of levels and responses; what stands at a command is kept."""
    seen = dropouts(part)
    if seen is None or not seen.spells:
        return part
    near = 3.0 * seen.sample_s
    steps = [step.at_s for lane in lanes if lane.commands for step in lane.steps]
    kept = np.ones(len(part.t), dtype=bool)
    for spell in seen.spells:
        begin, end = spell.start_s, spell.start_s + spell.most_s
        if not any(begin - near <= at <= end + near for at in steps):
            kept &= (part.t < begin - 1e-9) | (part.t > end + 1e-9)
    return Channel(part.name, part.unit, part.t[kept], part.y[kept], part.role, part.bound)


def drifts(channel: Channel) -> Estimate | None:
    """The slope of a stretch, if it moves on by more than its noise and its last digit; None if it is steady."""
    found = slope(channel)
    if found is None or abs(found.value) <= 3.0 * found.sd:
        return None
    moved = abs(found.value) * float(channel.t[-1] - channel.t[0])
    return found if moved > 2.0 * max(noise_of(channel.y), channel.resolution) else None


def _a_minute(drift: Estimate, part: Channel) -> Estimate:
    return Estimate(60.0 * drift.value, 60.0 * drift.sd, f"{part.unit}/min")


def _response(part: Channel, step: Step, before: float, after: float) -> list[Feature]:
    words = f"{step.lane} {step.before} → {step.after}"
    at = (step.at_s, after)
    if (change := _slope_change(part, step.at_s, before, after)) is not None:
        return [Feature("slope change", f"{part.name} changes its slope by", part.name, *at, _a_minute(change, part), words)]
    answer = response(part, step.at_s, _at_rest_since(part, before, step.at_s), after)
    if answer is None:
        return []
    if not answer.moved:
        most = abs(answer.gain.value) + 1.96 * answer.gain.sd
        seen = part.within(before, after).y
        if most > max(6.0 * noise_of(seen), 0.5 * float(seen.max() - seen.min())):
            return []  # it moves all the time, or had not come to rest before: nothing can be said about a step on top of that
        return [
            Feature(
                "no movement",
                f"{part.name} does not move, {words}",
                part.name,
                *at,
                word=f"by less than {most:.3g} {part.unit}".strip(),
            )
        ]
    return [
        Feature(kind, f"{part.name} {title} {words}", part.name, *at, estimate, word)
        for kind, title, estimate, word in _said(answer, part, step)
    ]


def _at_rest_since(part: Channel, since_s: float, at_s: float) -> float:
    """From when on a channel has come to rest before a command: what it still owed to the one before is not the level it starts from.

    The whole time where it does not come to rest.
    """
    begin = since_s
    while len(seen := part.within(begin, at_s - 1e-9).y) >= LEAST_AT_REST:
        if float(seen.std()) <= STRAIGHT * max(noise_of(seen), part.resolution / 3.0):
            return begin
        begin = (begin + at_s) / 2.0
    return since_s


def _slope_change(part: Channel, at_s: float, before: float, after: float) -> Estimate | None:
    """By how much the slope changes where a channel gathers up what is commanded (a pressure, a level, a temperature); None if it does not.

    Both sides must be straight: what is left beside the lines is no more than the noise.
    """
    sides = [part.within(before, at_s - 1e-9), part.within(at_s, after)]
    found = [slope(side) for side in sides]
    if found[0] is None or found[1] is None or min(len(side.y) for side in sides) < 10:
        return None
    for side, line_ in zip(sides, found, strict=True):
        assert line_ is not None
        left = side.y - side.y.mean() - line_.value * (side.t - side.t.mean())
        if float(left.std()) > STRAIGHT * max(noise_of(side.y), side.resolution / 3.0):
            return None
    change = found[1] - found[0]
    moved = abs(change.value) * (after - at_s)
    return (
        change
        if abs(change.value) > 4.0 * change.sd and moved > 4.0 * max(noise_of(part.within(before, after).y), part.resolution)
        else None
    )


def _said(answer: Response, part: Channel, step: Step) -> list[tuple[str, str, Estimate, str]]:
    shape = answer.shape if answer.settled else f"{answer.shape}; still on its way at the end"
    found = [("gain", "moves by,", answer.gain, shape)]
    if step.size != 1.0:
        each = Estimate(answer.gain.value / step.size, answer.gain.sd / abs(step.size), f"{part.unit} per unit of {step.lane}")
        found.append(("gain", "moves, per unit commanded,", each, ""))
    found += [("dead", "begins to move after,", answer.dead, ""), ("lag", "needs, from there to 63 %,", answer.lag, "")]
    found.append(("reached", "is at 90 % after,", answer.reached, ""))
    if answer.overshoot.value > 0.02 + 2.0 * answer.overshoot.sd:
        share = Estimate(100.0 * answer.overshoot.value, 100.0 * answer.overshoot.sd, "%")
        found.append(("overshoot", "passes its new level by,", share, ""))
    return found


def compared(a: Channel, b: Channel, start_s: float, end_s: float) -> list[Feature]:
    """The first against the second, as reported against a reference, bank against bank, sibling against sibling."""
    first, second = a.within(start_s, end_s), b.within(start_s, end_s)
    found: list[Feature] = []
    pair = together(first, second)
    if pair is not None:
        late = (
            f"; {b.name} is {abs(pair.lag_s):.3g} s {'later' if pair.lag_s > 0 else 'earlier'}"
            if abs(pair.lag_s) > first.sample_s
            else ""
        )
        words = f"{pair.r:.2f} ({pair.low:.2f} to {pair.high:.2f}){late}"
        found.append(
            Feature("correlation", f"{a.name} and {b.name} move together", a.name, start_s, end_s, word=words, other=b.name)
        )
    straight = line(first, second)
    if straight is not None and a.unit == b.unit:
        found.append(Feature("difference", f"{a.name} less {b.name}", a.name, start_s, end_s, straight.error, other=b.name))
        if straight.gain.sd < 1e6:
            found.append(
                Feature(
                    "line gain",
                    f"{a.name} moves, per {b.unit or 'unit'} of {b.name},",
                    a.name,
                    start_s,
                    end_s,
                    straight.gain,
                    other=b.name,
                )
            )
            found.append(
                Feature("line offset", f"{a.name} where {b.name} is 0", a.name, start_s, end_s, straight.offset, other=b.name)
            )
    return found
