"""A sealed connector is measured while it is connected through a break-out lead: that takes time, a tool, and it has to come out again."""

from __future__ import annotations

from dataclasses import replace

import pytest

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.costs import LEAD_MIN, Situation, access_minutes, lead_at, reach, setup_change, steps_to, touched
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.ranking import evaluate
from sondar.core.diagnosis.worth import allowed_tests
from sondar.core.instruments.base import Test
from sondar.core.put_back import Left, to_put_back
from sondar.core.wording.proposals import CAUTION_SEALED, proposal_cautions, step_text


@pytest.fixture(scope="module")
def connected(fan: Circuit) -> Test:
    """The motor's supply at its sealed plug, connected."""
    return Test("voltmeter", "X20.1", "BAT.neg", fan.setup({"key": "on", "fan": "on"}))


def test_the_lead_takes_its_time_once(fan: Circuit, connected: Test) -> None:
    spec = fan.document.connectors["X20"]
    at_rest = Situation(fan.rest_setup())
    minutes, steps = reach(fan, connected, frozenset({"BAT"}), at_rest)
    assert minutes == pytest.approx(spec.access_min + 2 * spec.unplug_min + LEAD_MIN)
    assert "break-out lead between the halves of X20" in map(step_text, steps)
    there = frozenset(touched(fan, connected))
    assert reach(fan, replace(connected, red="X20.2"), there, at_rest) == (0.0, ()), "the lead is in: every cavity is on it"


def test_the_lead_is_put_in_with_the_key_off(fan: Circuit, connected: Test) -> None:
    lead = ["reach X20", "break-out lead between the halves of X20"]
    at_rest = Situation(fan.rest_setup(), frozenset({"BAT"}))

    def steps(situation: Situation, opened: frozenset[str]) -> list[str]:
        _, to_setup, _ = setup_change(fan, situation, connected.setup)
        return [*map(step_text, steps_to(fan, situation, connected, opened, to_setup))]

    assert steps(at_rest, frozenset({"BAT"})) == [*lead, "key on", "fan on"]
    commanded = replace(at_rest, setup=connected.setup)
    assert steps(commanded, frozenset({"BAT"})) == ["key off", *lead, "key on", "fan on"]
    assert steps(commanded, frozenset(touched(fan, connected))) == [], "the lead is in and the circuit is as it is wanted"


def test_taken_apart_the_same_plug_needs_no_lead(fan: Circuit, connected: Test) -> None:
    apart = replace(connected, setup=fan.setup({"key": "on"}, frozenset({"X20"})))
    assert lead_at("X20") not in touched(fan, apart)
    assert access_minutes(fan, touched(fan, apart), frozenset({"X20", "BAT"}), Situation(fan.rest_setup())) == 0.0


def test_without_leads_nothing_is_proposed_at_a_sealed_plug_that_is_connected(fan_predictor: Predictor, connected: Test) -> None:
    circuit = fan_predictor.circuit
    belief = update(fan_predictor, [])
    base = Situation(circuit.rest_setup(), instruments=("voltmeter", "lamp-5w"))

    def through_a_lead(situation: Situation) -> set[str]:
        predictions = fan_predictor.setup(connected.setup)
        may = [test for test, allowed in zip(predictions.tests, allowed_tests(predictions, situation), strict=True) if allowed]
        points = [(circuit.point(ref), test.setup) for test in may for ref in (test.red, test.black)]
        assert any(not point.needs_lead(setup) for point, setup in points)
        return {point.place for point, setup in points if point.needs_lead(setup)}

    assert "X20" in through_a_lead(base)
    assert through_a_lead(replace(base, break_out_leads=False)) == set()
    own = evaluate(fan_predictor, belief, replace(base, break_out_leads=False), connected)
    assert own is not None, "who has a lead after all may measure there"
    assert CAUTION_SEALED in proposal_cautions(circuit, own)


def test_the_lead_is_to_be_taken_out(fan: Circuit) -> None:
    left = Left(7, fan, {"key": "off", "fan": "off"}, [], (), [(5, "X20"), (6, "X3")])
    [lead] = to_put_back([left])
    assert lead.key == "lead X20@5"
    assert "Break-out lead at X20" in lead.title
    assert lead.caution
