"""A maker's step chart: read from a document, followed step by step, and laid beside Sondar's own order.

A step is a test with a limit and two ways on: another step, or an end that names what to do. Readings are evidence like any other;
where the chart stands follows from the readings that stand, so nothing is stored beside them.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel, BeforeValidator, Field, ValidationError
from scipy.special import ndtr

from sondar.core.circuit.document import Limit
from sondar.core.circuit.families.base import Fields
from sondar.core.circuit.network import Circuit
from sondar.core.conformity import Measured, conformity
from sondar.core.diagnosis.assess import describe_test, reading_label, setup_view, unit_title
from sondar.core.diagnosis.belief import Belief, Reading, update
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN
from sondar.core.diagnosis.limits import limit_test, newest, uncertainty
from sondar.core.diagnosis.plan import Bench, Plan, evaluate, loss_matrix, make_plan, setup_change
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.tests import Test
from sondar.core.diagnosis.views import SetupView
from sondar.core.errors import CircuitDocumentError, Problem
from sondar.core.instruments import INSTRUMENTS, Display, from_working, working
from sondar.core.quantities import format_si

Array = npt.NDArray[np.float64]

MOST_STEPS = 60
ROLLOUTS, ROLLOUT_STEPS = 12, 25
"""Hypotheses that Sondar's own order is tried on, the most likely first, and readings before one is given up."""


class ChartEnd(Fields):
    """Where a chart comes to: the unit it condemns, or only words."""

    unit: str = Field("", description="Id of the unit to replace or repair; empty if the chart only says words.")
    text: str = ""


class ChartStep(Limit):
    """One step: the test and its limit as in a limit, and the ways on: the id of another step, or an end."""

    do: str = Field("", description="What the maker's chart says, in its own words.")
    if_pass: str | ChartEnd = Field(description="Next step, or the end.")
    if_fail: str | ChartEnd = Field(description="Next step, or the end.")


def _first_key(value: object) -> object:
    """Step ids may be written bare, as numbers; titles are the step's words if left out."""
    if not isinstance(value, Mapping):
        return value
    steps = {}
    for name, step in value.items():
        if isinstance(step, Mapping):
            step = {**step, "title": step.get("title") or step.get("do") or f"Step {name}"}
            for way in ("if_pass", "if_fail"):
                if isinstance(step.get(way), int):
                    step[way] = str(step[way])
        steps[str(name)] = step
    return steps


class ChartDocument(Fields):
    """A chart of one circuit. Format version 1; the first step listed is where it starts."""

    sondar_chart: Literal[1]
    title: str = Field(min_length=1, max_length=200)
    circuit: str = Field(description="Id of the circuit it belongs to.")
    source: str = Field("", description="Where it was taken from.", max_length=200)
    steps: Annotated[dict[str, ChartStep], BeforeValidator(_first_key)] = Field(min_length=1, max_length=MOST_STEPS)


def read_chart(data: object, circuit: Circuit | None = None) -> ChartDocument:
    """Check plain data and return the chart; with its circuit given, every point, control and unit is checked too.

    Raises:
        CircuitDocumentError: lists every problem with the path to its field.
    """
    if not isinstance(data, Mapping):
        raise CircuitDocumentError([Problem((), "expected a chart with fields sondar_chart, title, circuit, steps")])
    try:
        chart = ChartDocument.model_validate(data)
    except ValidationError as error:
        raise CircuitDocumentError([_problem(item) for item in error.errors()]) from error
    problems = [*_loose_ends(chart), *(() if circuit is None else _unknown_names(chart, circuit))]
    if problems:
        raise CircuitDocumentError(problems)
    return chart


def _problem(error: Any) -> Problem:
    path = tuple(
        step for step in error["loc"] if step not in ("str", "ChartEnd", "function-before[_first_key(), dict[str,ChartStep]]")
    )
    return Problem(path, error["msg"].removeprefix("Value error, "))


def _loose_ends(chart: ChartDocument) -> list[Problem]:
    found = []
    for name, step in chart.steps.items():
        for way in ("if_pass", "if_fail"):
            target = getattr(step, way)
            if isinstance(target, str) and target not in chart.steps:
                found.append(Problem(("steps", name, way), f"no step '{target}': name a step, or give an end {{unit: …, text: …}}"))
    if not found and _has_loop(chart):
        found.append(Problem(("steps",), "the steps run in a circle: every way must come to an end"))
    return found


def _has_loop(chart: ChartDocument) -> bool:
    done: set[str] = set()

    def visit(name: str, above: frozenset[str]) -> bool:
        if name in above:
            return True
        if name in done:
            return False
        ways = (chart.steps[name].if_pass, chart.steps[name].if_fail)
        loops = any(visit(way, above | {name}) for way in ways if isinstance(way, str))
        done.add(name)
        return loops

    return visit(next(iter(chart.steps)), frozenset())


def _unknown_names(chart: ChartDocument, circuit: Circuit) -> list[Problem]:
    found = []
    if chart.circuit != circuit.document.id:
        found.append(Problem(("circuit",), f"this is a chart of '{chart.circuit}', the circuit here is '{circuit.document.id}'"))
    for name, step in chart.steps.items():
        if step.instrument not in INSTRUMENTS:
            found.append(Problem(("steps", name, "with"), f"no instrument '{step.instrument}'"))
        for field in ("red", "black"):
            ref = getattr(step, field)
            if ref and ref not in circuit.points and ref not in circuit.targets:
                found.append(Problem(("steps", name, field), f"'{ref}' is no point of this circuit"))
        if step.table or step.per or step.change_from or step.copper_at_c is not None:
            found.append(Problem(("steps", name), "a step is judged by min, max or word only"))
        for control, value in step.when.items():
            if value not in circuit.controls.get(control, ()):
                found.append(Problem(("steps", name, "when", control), f"'{control}: {value}' is no position of a control here"))
        for connector in step.unplugged:
            if connector not in circuit.document.connectors:
                found.append(Problem(("steps", name, "unplugged"), f"no connector '{connector}'"))
        for way in ("if_pass", "if_fail"):
            end = getattr(step, way)
            if isinstance(end, ChartEnd) and end.unit and end.unit not in circuit.units:
                found.append(Problem(("steps", name, way, "unit"), f"no unit '{end.unit}' in this circuit"))
    return found


class ChartStepView(BaseModel):
    """One step on the way."""

    id: str
    do: str
    test: str = Field(description="The test in one phrase.")
    range: str
    instrument: str
    red: str
    black: str
    setup: SetupView
    shown: str
    decision: str = Field(description="pass, fail, in doubt, or open.")


class ChartView(BaseModel):
    """A chart followed as far as the readings go."""

    title: str
    source: str
    path: list[ChartStepView] = Field(description="Steps taken, the open one last if the chart has not come to its end.")
    end: str = Field(description="What the chart says at its end; empty before.")
    end_unit: str
    agrees: str = Field(description="What Sondar's belief says of that end; empty before.")


class ChartComparison(BaseModel):
    """A chart against Sondar's own order from where the technician stands, over the faults that are still believed."""

    chart_minutes: float
    chart_right: float = Field(description="Chance that the chart ends at the unit at fault.")
    chart_wrong: float = Field(description="Chance that it condemns a good one.")
    chart_loss: float = Field(description="Expected minutes lost by acting on its end, parts and comebacks included.")
    own_minutes: float
    own_right: float
    own_wrong: float
    own_loss: float
    covered: float = Field(description="Share of the belief that the comparison is over.")
    worth: dict[str, float] = Field(description="Step -> expected minutes saved per minute by that step now.")


def follow_chart(
    chart: ChartDocument, circuit: Circuit, belief: Belief, readings: Sequence[Reading], temperature_c: float
) -> ChartView:
    """Where the chart stands after the readings that were taken."""
    name: str | ChartEnd = next(iter(chart.steps))
    path = []
    while isinstance(name, str):
        step = chart.steps[name]
        test = limit_test(circuit, step, temperature_c)
        reading = newest(readings, test)
        decision = "open" if reading is None else step_decision(step, reading)
        path.append(
            ChartStepView(
                id=name, do=step.do or step.title, test=describe_test(circuit, test), range=_range(step, INSTRUMENTS[test.instrument].unit),
                instrument=test.instrument, red=test.red, black=test.black, setup=setup_view(test.setup),
                shown="" if reading is None else reading_label(reading), decision=decision,
            )
        )  # fmt: skip
        if decision not in ("pass", "fail"):
            return ChartView(title=chart.title, source=chart.source, path=path, end="", end_unit="", agrees="")
        name = step.if_pass if decision == "pass" else step.if_fail
    words = name.text or (f"Replace or repair {unit_title(circuit, name.unit)}" if name.unit else "End of the chart")
    share = float(belief.units()[belief.hypotheses.units.index(name.unit)]) if name.unit in belief.hypotheses.units else 0.0
    agrees = f"Sondar holds {unit_title(circuit, name.unit)} to be at fault with {share * 100:.0f} %." if name.unit else ""
    return ChartView(title=chart.title, source=chart.source, path=path, end=words, end_unit=name.unit, agrees=agrees)


def step_decision(step: ChartStep, reading: Reading) -> str:
    """Pass, fail or in doubt; a word passes only where it is the one asked for, OL where no upper limit stands."""
    if step.word:
        return "pass" if reading.state == step.word else "fail"
    if reading.value is None:
        return "pass" if reading.state == "OL" and step.max is None else "fail"
    return conformity(Measured(reading.value, uncertainty(reading)), step.min, step.max).decision


def _range(step: ChartStep, unit: str) -> str:
    if step.word:
        return step.word
    low, high = (None if v is None else format_si(v, unit) for v in (step.min, step.max))
    return f"at most {high}" if low is None else f"at least {low}" if high is None else f"{low} to {high}"


def pass_chance(step: ChartStep, shown: Display) -> Array:
    """(H − 1,) chance that a step passes under each hypothesis, by where its reading falls."""
    device = shown.instrument
    words = shown.words[:, 0]
    if step.word:
        found: Array = words[:, device.words.index(step.word)] if step.word in device.words else np.zeros(len(words))
        return found
    low = -np.inf if step.min is None else float(working(device.kind, step.min))
    high = np.inf if step.max is None else float(working(device.kind, step.max))
    inside = ndtr((high - shown.mean[:, 0]) / shown.sd[:, 0]) - ndtr((low - shown.mean[:, 0]) / shown.sd[:, 0])
    chance: Array = inside * (1.0 - words.sum(axis=1))
    if step.max is None and "OL" in device.words:
        chance = chance + words[:, device.words.index("OL")]
    return chance


@dataclass(frozen=True)
class _Tally:
    minutes: float
    right: float
    wrong: float
    loss: float


def compare(chart: ChartDocument, predictor: Predictor, belief: Belief, bench: Bench) -> ChartComparison:
    """Expected minutes, hits and losses of the chart and of Sondar's own order, from where the technician stands."""
    circuit = predictor.circuit
    order = [h for h in np.argsort(-belief.now[:-1]) if belief.hypotheses.suspects[h].fault not in (NONE, UNKNOWN)][:ROLLOUTS]
    weights = belief.now[order]
    covered, weights = float(weights.sum()), weights / max(float(weights.sum()), 1e-12)
    loss = loss_matrix(circuit, belief.hypotheses, bench.rate_per_hour)
    theirs = [_chart_tally(chart, predictor, belief, bench, int(h), loss) for h in order]
    ours = [_own_tally(predictor, belief, bench, int(h), loss) for h in order]

    def mean(tallies: Sequence[_Tally], name: str) -> float:
        return float(sum(w * getattr(t, name) for w, t in zip(weights, tallies, strict=True)))

    return ChartComparison(
        chart_minutes=mean(theirs, "minutes"), chart_right=mean(theirs, "right"), chart_wrong=mean(theirs, "wrong"),
        chart_loss=mean(theirs, "loss"), own_minutes=mean(ours, "minutes"), own_right=mean(ours, "right"), own_wrong=mean(ours, "wrong"),
        own_loss=mean(ours, "loss"), covered=covered, worth=_worth(chart, predictor, belief, bench),
    )  # fmt: skip


def _worth(chart: ChartDocument, predictor: Predictor, belief: Belief, bench: Bench) -> dict[str, float]:
    found = {}
    for name, step in chart.steps.items():
        proposal = evaluate(predictor, belief, bench, limit_test(predictor.circuit, step, predictor.temperature_c))
        found[name] = 0.0 if proposal is None else max(0.0, proposal.worth)
    return found


def _chart_tally(chart: ChartDocument, predictor: Predictor, belief: Belief, bench: Bench, h: int, loss: Array) -> _Tally:
    """Exact expectation over the ways of the chart under one hypothesis."""
    units = belief.hypotheses.units
    true = units.index(belief.hypotheses.suspects[h].unit)

    def walk(name: str | ChartEnd, at: Bench, reach: float) -> _Tally:
        if isinstance(name, ChartEnd):
            acted = units.index(name.unit) if name.unit in units else units.index(UNKNOWN)
            good = float(acted == true)
            return _Tally(0.0, good, float(name.unit in units and not good), float(loss[acted, true]))
        step = chart.steps[name]
        test = limit_test(predictor.circuit, step, predictor.temperature_c)
        change, _, opened = setup_change(predictor.circuit, at, test.setup)
        refs = (test.red, test.black) if INSTRUMENTS[test.instrument].probes else (test.red,)
        places = {predictor.circuit.point(ref).place: predictor.circuit.point(ref).access_min for ref in refs}
        own = change + INSTRUMENTS[test.instrument].minutes + sum(m for place, m in places.items() if place not in opened)
        there = Bench(test.setup, opened | frozenset(places), rate_per_hour=at.rate_per_hour)
        passes = float(pass_chance(step, predictor.display_of(test))[h])
        minutes, right, wrong, lost = own, 0.0, 0.0, 0.0
        for chance, way in ((passes, step.if_pass), (1.0 - passes, step.if_fail)):
            if reach * chance > 1e-3:
                below = walk(way, there, reach * chance)
                minutes += chance * below.minutes
                right, wrong, lost = right + chance * below.right, wrong + chance * below.wrong, lost + chance * below.loss
        return _Tally(minutes, right, wrong, lost)

    return walk(next(iter(chart.steps)), bench, 1.0)


def _own_tally(predictor: Predictor, belief: Belief, bench: Bench, h: int, loss: Array) -> _Tally:
    """Sondar's own order on one hypothesis, each reading the most likely one."""
    readings: list[Reading] = []
    minutes, at, units = 0.0, bench, belief.hypotheses.units
    plan: Plan = make_plan(predictor, belief, at)
    while not plan.settled and len(readings) < ROLLOUT_STEPS:
        first = plan.proposals[0]
        minutes += first.minutes
        shown = predictor.display_of(first.test)
        readings.append(_likeliest(first.test, shown, h, str(len(readings))))
        refs = (first.test.red, first.test.black)
        opened = (
            at.opened | {predictor.circuit.point(ref).place for ref in refs} | (at.setup.unplugged ^ first.test.setup.unplugged)
        )
        at = Bench(first.test.setup, opened, at.instruments, at.refused, at.done | {first.test}, at.boldness, at.rate_per_hour)
        plan = make_plan(predictor, update(predictor, readings, belief.now), at)
    true = belief.hypotheses.suspects[h].unit
    right = float(true in plan.leading)
    names = [name for name in plan.leading if name not in (NONE, UNKNOWN)]
    acted = plan.leading[0] if right == 0.0 else true
    return _Tally(minutes, right, float(bool(names) and not right), float(loss[units.index(acted), units.index(true)]))


def _likeliest(test: Test, shown: Display, h: int, name: str) -> Reading:
    words = shown.words[h, 0]
    if shown.instrument.only_words or words.sum() > 0.5:
        return Reading(name, test, None, shown.instrument.words[int(np.argmax(words))])
    return Reading(name, test, from_working(shown.instrument.kind, float(shown.mean[h, 0])), None)
