"""What is no longer proposed: the same thing with another instrument, and confirming what is certain and cheap."""

from __future__ import annotations

from typing import cast

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.judge import Judgement, judge
from sondar.core.diagnosis.predictions import Outlook, Predictor
from sondar.core.diagnosis.proposal import Proposal
from sondar.core.diagnosis.worth import settles
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading

ON = {"key": "on", "fan": "on"}


def relay_contact_open(predictor: Predictor, *more: Reading) -> Judgement:
    """The relay clicks, the fan stands, battery before the contact and nothing behind it."""
    setup = predictor.circuit.setup(ON)
    readings = [
        Reading("1", Test("functional-check", "K3", "BAT.neg", setup), None, "operates"),
        Reading("2", Test("functional-check", "M5", "BAT.neg", setup), None, "inoperative"),
        Reading("3", Test("voltmeter", "X3.87", "BAT.neg", setup), 0.0, None, 0.005),
        Reading("4", Test("voltmeter", "X3.30", "X3.87", setup), 12.29, None, 0.005),
    ]
    return judge(predictor, [*readings, *more], Situation(setup))


def test_nothing_is_measured_again_with_every_lamp_there_is(fan_predictor: Predictor) -> None:
    setup = fan_predictor.circuit.setup(ON)
    judged = relay_contact_open(
        fan_predictor,
        Reading("5", Test("voltmeter", "X3.86", "X3.85", setup), 12.2, None, 0.005),
        Reading("6", Test("lamp-5w", "X3.87", "BAT.neg", setup), None, "off"),
    )
    units = judged.belief.units()
    assert judged.ranking.leading[0] == "K3"
    assert units.max() < 0.95, "its two contacts in the carrier are left"
    assert judged.ranking.proposals
    for proposal in judged.ranking.proposals:
        assert (proposal.test.instrument, proposal.test.red) != ("lamp-21w", "X3.87")
        moved = max(np.abs(np.array(o.units) - units).max() for o in proposal.outcomes if o.probability >= 0.03)
        assert moved >= min(0.01, 0.08 * (1.0 - units.max())), "something that it may well show moves a suspect"


def test_what_is_certain_enough_and_cheap_to_be_wrong_about_is_called() -> None:
    dear, cheap = 8.0, 1.5
    telling = (a_proposal(saving_min=3.0, minutes=0.4),)
    assert settles(0.96, telling, Situation(Setup(())), dear) == (False, "pays")
    assert settles(0.96, telling, Situation(Setup(())), cheap) == (True, "certain")
    assert settles(0.90, telling, Situation(Setup(())), cheap) == (False, "pays"), "cheap to be wrong about, and not certain"


def a_proposal(saving_min: float, minutes: float) -> Proposal:
    test = Test("voltmeter", "X3.86", "BAT.neg", Setup(()))
    return Proposal(test, cast(Outlook, None), minutes, 0.0, (), saving_min)
