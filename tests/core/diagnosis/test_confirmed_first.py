"""What is looked at or tried before it is called: a new fuse in place of a blown one, wires in the wrong cavities."""

from __future__ import annotations

import pytest

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.judge import Judgement, judge
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments import ORDINARY, instrument
from sondar.core.instruments.base import Test
from sondar.core.instruments.new_fuse import BLOWS, HOLDS, NewFuse
from sondar.core.instruments.reading import Reading
from sondar.simulators.vehicle import SimulatedVehicle

TOOLS = (*ORDINARY, "visual-inspection")


@pytest.fixture(scope="module")
def predictor(fan: Circuit) -> Predictor:
    return Predictor(fan, instruments=TOOLS)


def blown(predictor: Predictor, *more: Reading, tools: tuple[str, ...] = TOOLS) -> Judgement:
    """The fan's power fuse: battery before it, nothing behind it, and no short there either."""
    on = predictor.circuit.setup({"key": "on", "fan": "on"})
    volts = [
        Reading("1", Test("voltmeter", "F14.1", "BAT.neg", on), 12.3, None, 0.005),
        Reading("2", Test("lamp-21w", "F14.2", "BAT.neg", on), None, "off"),
        Reading("3", Test("voltmeter", "F14.1", "F14.2", on), 12.3, None, 0.005),
    ]
    rest = predictor.circuit.rest_setup()
    behind = Reading("0", Test("ohmmeter", "F14.2", "BAT.neg", rest), None, "OL")
    looked = Reading("4", Test("visual-inspection", "F14", "BAT.neg", rest), None, "damaged")
    return judge(predictor, [*volts, behind, looked, *more], Situation(on, instruments=tools))


def new_fuse(predictor: Predictor, word: str) -> Reading:
    return Reading("5", Test(NewFuse.id, "F14", "BAT.neg", predictor.circuit.rest_setup()), None, word)


def share(judgement: Judgement, unit: str) -> float:
    return float(judgement.belief.units()[judgement.belief.hypotheses.units.index(unit)])


def test_a_blown_fuse_is_replaced_on_trial_before_it_is_called(predictor: Predictor) -> None:
    before = blown(predictor, tools=(NewFuse.id,))
    assert before.ranking.leading[0] == "F14"
    assert (before.ranking.settled, before.ranking.reason) == (False, "look")
    assert before.ranking.proposals[0].test.instrument == NewFuse.id
    assert "output to ground" in instrument(NewFuse.id).caution
    after = blown(predictor, new_fuse(predictor, HOLDS), tools=(NewFuse.id,))
    assert after.ranking.settled
    assert share(after, "F14") > share(before, "F14")


def test_one_that_blows_again_was_not_the_fault(predictor: Predictor) -> None:
    before, after = blown(predictor), blown(predictor, new_fuse(predictor, BLOWS))
    assert share(after, "F14") < share(before, "F14") - 0.2
    assert not after.ranking.settled, "what has blown it is looked for"
    nothing_else = blown(predictor, new_fuse(predictor, BLOWS), tools=(NewFuse.id,))
    assert "F14" not in nothing_else.ranking.leading
    assert after.ranking.proposals[0].test.instrument != NewFuse.id


def test_it_is_not_planned_while_nothing_points_at_a_fuse(predictor: Predictor) -> None:
    rest = predictor.circuit.rest_setup()
    start = judge(predictor, [], Situation(rest, instruments=TOOLS))
    assert all(p.test.instrument != NewFuse.id for p in start.ranking.proposals)


def test_a_simulated_short_blows_it_again(fan: Circuit) -> None:
    sound = SimulatedVehicle(fan, [("F14.open", "open")], 3)
    shorted = SimulatedVehicle(fan, [("M5.short", None)], 3)
    rest = fan.rest_setup()
    assert sound.measure(NewFuse.id, "F14", "BAT.neg", rest) == (None, HOLDS)
    assert shorted.measure(NewFuse.id, "F14", "BAT.neg", rest) == (None, BLOWS)
