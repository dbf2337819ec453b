"""A procedure laid beside Sondar's own order, over the faults that are still believed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel, Field
from scipy.special import ndtr

from sondar.core.diagnosis.belief import Belief, update
from sondar.core.diagnosis.costs import Situation, loss_matrix, own_minutes, reach, setup_change, touched
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN
from sondar.core.diagnosis.lookahead import rank_tests
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.ranking import evaluate
from sondar.core.instruments.base import Display, Test
from sondar.core.instruments.ohmmeter import OVER
from sondar.core.instruments.reading import Reading
from sondar.core.limits.condition import limit_test
from sondar.core.procedures.document import ProcedureDocument, ProcedureEnd, ProcedureStep

Array = npt.NDArray[np.float64]

ROLLOUTS, ROLLOUT_STEPS = 12, 25
"""Hypotheses that Sondar's own order is tried on, the most likely first, and readings before one is given up."""


class ProcedureComparison(BaseModel):
    """A procedure against Sondar's own order from where the technician stands, over the faults that are still believed."""

    procedure_minutes: float
    procedure_right: float = Field(description="Chance that the procedure ends at the unit at fault.")
    procedure_wrong: float = Field(description="Chance that it condemns a good one.")
    procedure_loss: float = Field(description="Expected minutes lost by acting on its end, parts and comebacks included.")
    own_minutes: float
    own_right: float
    own_wrong: float
    own_loss: float
    covered: float = Field(description="Share of the belief that the comparison is over.")
    saving_per_min: dict[str, float] = Field(description="Step -> expected minutes saved per minute by that step now.")


def pass_chance(step: ProcedureStep, shown: Display) -> Array:
    """(H − 1,) chance that a step passes under each hypothesis, by where its reading falls."""
    device = shown.instrument
    words = shown.words[:, 0]
    if step.word:
        found: Array = words[:, device.words.index(step.word)] if step.word in device.words else np.zeros(len(words))
        return found
    low = -np.inf if step.min is None else float(device.working(step.min))
    high = np.inf if step.max is None else float(device.working(step.max))
    inside = ndtr((high - shown.mean[:, 0]) / shown.sd[:, 0]) - ndtr((low - shown.mean[:, 0]) / shown.sd[:, 0])
    chance: Array = inside * (1.0 - words.sum(axis=1))
    if step.max is None and OVER in device.words:
        chance = chance + words[:, device.words.index(OVER)]
    return chance


@dataclass(frozen=True)
class _Tally:
    minutes: float
    right: float
    wrong: float
    loss: float


def compare(procedure: ProcedureDocument, predictor: Predictor, belief: Belief, situation: Situation) -> ProcedureComparison:
    """Expected minutes, hits and losses of the procedure and of Sondar's own order, from where the technician stands."""
    circuit = predictor.circuit
    order = [h for h in np.argsort(-belief.now[:-1]) if belief.hypotheses.suspects[h].fault not in (NONE, UNKNOWN)][:ROLLOUTS]
    weights = belief.now[order]
    covered, weights = float(weights.sum()), weights / max(float(weights.sum()), 1e-12)
    loss = loss_matrix(circuit, belief.hypotheses, situation.rate_per_hour)
    theirs = [_chart_tally(procedure, predictor, belief, situation, int(h), loss) for h in order]
    ours = [_own_tally(predictor, belief, situation, int(h), loss) for h in order]

    def mean(tallies: Sequence[_Tally], name: str) -> float:
        return float(sum(w * getattr(t, name) for w, t in zip(weights, tallies, strict=True)))

    return ProcedureComparison(
        procedure_minutes=mean(theirs, "minutes"), procedure_right=mean(theirs, "right"), procedure_wrong=mean(theirs, "wrong"),
        procedure_loss=mean(theirs, "loss"), own_minutes=mean(ours, "minutes"), own_right=mean(ours, "right"), own_wrong=mean(ours, "wrong"),
        own_loss=mean(ours, "loss"), covered=covered, saving_per_min=_worth(procedure, predictor, belief, situation),
    )  # fmt: skip


def _worth(procedure: ProcedureDocument, predictor: Predictor, belief: Belief, situation: Situation) -> dict[str, float]:
    found = {}
    for name, step in procedure.steps.items():
        proposal = evaluate(predictor, belief, situation, limit_test(predictor.circuit, step, predictor.temperature_c))
        found[name] = 0.0 if proposal is None else max(0.0, proposal.saving_per_min)
    return found


def _chart_tally(
    procedure: ProcedureDocument, predictor: Predictor, belief: Belief, situation: Situation, h: int, loss: Array
) -> _Tally:
    """Exact expectation over the ways of the procedure under one hypothesis."""
    units = belief.hypotheses.units
    true = units.index(belief.hypotheses.suspects[h].unit)

    def walk(name: str | ProcedureEnd, at: Situation, arrives: float) -> _Tally:
        if isinstance(name, ProcedureEnd):
            acted = units.index(name.unit) if name.unit in units else units.index(UNKNOWN)
            good = float(acted == true)
            return _Tally(0.0, good, float(name.unit in units and not good), float(loss[acted, true]))
        step = procedure.steps[name]
        test = limit_test(predictor.circuit, step, predictor.temperature_c)
        change, _, opened = setup_change(predictor.circuit, at, test.setup)
        access, _ = reach(predictor.circuit, test, opened, at)
        own = change + access + own_minutes(predictor.circuit, test)
        there = Situation(
            test.setup, opened | frozenset(touched(predictor.circuit, test)), rate_per_hour=at.rate_per_hour, seized=at.seized,
            break_out_leads=at.break_out_leads,
        )  # fmt: skip
        passes = float(pass_chance(step, predictor.display_of(test))[h])
        minutes, right, wrong, lost = own, 0.0, 0.0, 0.0
        for chance, way in ((passes, step.if_pass), (1.0 - passes, step.if_fail)):
            if arrives * chance > 1e-3:
                below = walk(way, there, arrives * chance)
                minutes += chance * below.minutes
                right, wrong, lost = right + chance * below.right, wrong + chance * below.wrong, lost + chance * below.loss
        return _Tally(minutes, right, wrong, lost)

    return walk(next(iter(procedure.steps)), situation, 1.0)


def _own_tally(predictor: Predictor, belief: Belief, situation: Situation, h: int, loss: Array) -> _Tally:
    """Sondar's own order on one hypothesis, each reading the most likely one."""
    readings: list[Reading] = []
    minutes, at, units = 0.0, situation, belief.hypotheses.units
    ranking = rank_tests(predictor, belief, at)
    while not ranking.settled and len(readings) < ROLLOUT_STEPS:
        first = ranking.proposals[0]
        minutes += first.minutes
        shown = predictor.display_of(first.test)
        readings.append(_likeliest(first.test, shown, h, str(len(readings))))
        refs = (first.test.red, first.test.black)
        opened = (
            at.opened | {predictor.circuit.point(ref).place for ref in refs} | (at.setup.unplugged ^ first.test.setup.unplugged)
        )
        at = Situation(
            first.test.setup, opened, at.instruments, at.refused, at.done | {first.test}, at.decision_threshold, at.rate_per_hour,
            seized=at.seized, break_out_leads=at.break_out_leads,
        )  # fmt: skip
        ranking = rank_tests(predictor, update(predictor, readings, belief.now), at)
    true = belief.hypotheses.suspects[h].unit
    right = float(true in ranking.leading)
    names = [name for name in ranking.leading if name not in (NONE, UNKNOWN)]
    acted = ranking.leading[0] if right == 0.0 else true
    return _Tally(minutes, right, float(bool(names) and not right), float(loss[units.index(acted), units.index(true)]))


def _likeliest(test: Test, shown: Display, h: int, name: str) -> Reading:
    words = shown.words[h, 0]
    if not shown.instrument.figures or words.sum() > 0.5:
        return Reading(name, test, None, shown.instrument.words[int(np.argmax(words))])
    return Reading(name, test, shown.instrument.from_working(float(shown.mean[h, 0])), None)
