"""A second fault is asked for before the call, and both are named where the readings show them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from sondar.circuit_files import library_circuits
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.judge import Judgement, judge
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.second_cause import beside, one_place
from sondar.core.instruments import ORDINARY
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.wording.conclusion import reason_text, sentence
from sondar.simulators.vehicle import SimulatedVehicle
from tests.conftest import circuit_of

MOST = 40


def followed(predictor: Predictor, faults: list[tuple[str, str | None]], seed: int) -> list[Judgement]:
    """Every judgement on the way to the call, doing what is proposed."""
    circuit = predictor.circuit
    vehicle = SimulatedVehicle(circuit, faults, seed)
    situation = Situation(circuit.rest_setup(), instruments=tuple(predictor.instruments))
    readings: list[Reading] = []
    found = [judge(predictor, readings, situation)]
    while not found[-1].ranking.settled and len(readings) < MOST:
        test = found[-1].ranking.proposals[0].test
        value, word = vehicle.measure(test.instrument, test.red, test.black, test.setup)
        readings.append(Reading(str(len(readings)), test, value, word, 0.005))
        opened = situation.opened | {circuit.point(ref).place for ref in (test.red, test.black)}
        situation = replace(situation, setup=test.setup, opened=opened | (situation.setup.unplugged ^ test.setup.unplugged))
        found.append(judge(predictor, readings, situation))
    return found


def test_one_fault_is_called_alone_after_a_second_was_asked_for() -> None:
    tools = (*ORDINARY, "live-data", "module-communication")
    way = followed(
        Predictor(circuit_of(library_circuits()["tessel-purge-valve"]), instruments=tools), [("Y6.open", "open")], seed=4
    )
    asked = [judgement for judgement in way if judgement.ranking.reason == "second"]
    assert asked, "the call is put off for a test that would show another fault"
    for judgement in asked:
        assert judgement.ranking.leading == ("Y6",)
        assert judgement.ranking.certainty >= judgement.situation.decision_threshold
        assert "second fault" in reason_text(judgement)
        assert judgement.ranking.proposals[0].saving_min > 0.0
    assert way[-1].ranking.settled
    assert way[-1].ranking.leading == ("Y6",)
    assert "two faults" not in sentence(way[-1])


def test_a_corroded_ground_wire_behind_an_open_contact_is_found_after_its_repair() -> None:
    """Nothing flows while the contact is open, so the wire shows nothing; it is no part of the first call and is the second."""
    predictor = Predictor(circuit_of(library_circuits()["tern-coolant-temperature"]))
    first = followed(predictor, [("X43.2.open", "open"), ("W9.resistance", "10 kΩ")], seed=8)[-1]
    assert first.ranking.settled
    named = {unit for pair in first.pairs if pair.probability > 0.2 for unit in pair.units} | set(first.ranking.leading)
    assert "X43.2" in named
    assert named <= {"W9", "X43.1", "X43.2"}, "the two contacts of one plug cannot be told apart from outside it"
    then = followed(predictor, [("W9.resistance", "10 kΩ")], seed=8)[-1]
    assert then.ranking.settled
    assert then.ranking.leading == ("W9",)


def test_what_the_first_fault_makes_blind_is_not_asked_about(fan_predictor: Predictor) -> None:
    """With the fuse of the load side open nothing of the load side can be seen at work, whatever else is wrong with it."""
    circuit = fan_predictor.circuit
    vehicle = SimulatedVehicle(circuit, [("F14.open", "open")], 3)
    situation = Situation(circuit.setup({"key": "on", "fan": "on"}), instruments=("voltmeter",))
    readings = []
    for point in ("F14.1", "F14.2", "X3.86", "X3.85"):
        value, word = vehicle.measure("voltmeter", point, "BAT.neg", situation.setup)
        readings.append(Reading(point, Test("voltmeter", point, "BAT.neg", situation.setup), value, word, 0.005))
    found = beside(fan_predictor, update(fan_predictor, readings), readings, situation)
    assert found is not None
    assert found.first in fan_predictor.hypotheses.index("F14.open")
    assert 0.0 < found.share < 0.3
    assert found.ranking.proposals
    asked = {(p.test.red, p.test.black) for p in found.ranking.proposals}
    assert not asked & {("X3.87", "BAT.neg"), ("X3.30", "BAT.neg"), ("X20.1", "BAT.neg")}, (
        "no voltage gets there past the open fuse"
    )


def test_one_event_damages_what_runs_together(fan: Circuit) -> None:
    assert one_place(fan, "X3.30", "X3.87"), "two contacts of one plug get wet together"
    assert one_place(fan, "X20.1", "W3"), "a wire and the contact it ends in"
    assert not one_place(fan, "X3.30", "X20.1")
    assert not one_place(fan, "F14", "M5"), "parts are no harness"
    assert not one_place(fan, "W3", "F14")


def test_a_second_fault_at_the_place_of_the_first_is_likelier(fan_predictor: Predictor) -> None:
    circuit = fan_predictor.circuit
    vehicle = SimulatedVehicle(circuit, [("X20.1.open", "open")], 3)
    setup = circuit.setup({"key": "on", "fan": "on"})
    readings = []
    for red, black in (("X20.1", "BAT.neg"), ("X20.1", "X20.2"), ("X3.87", "BAT.neg")):
        test = Test("voltmeter", red, black, setup)
        value, word = vehicle.measure("voltmeter", red, black, setup)
        readings.append(Reading(red + black, test, value, word, 0.005))
    start = np.where(
        np.isin(np.arange(len(fan_predictor.hypotheses.prior)), fan_predictor.hypotheses.index("X20.1.open")), 50.0, 1.0
    )
    prior = start * fan_predictor.hypotheses.prior
    found = beside(fan_predictor, update(fan_predictor, readings, prior / prior.sum()), readings, Situation(setup))
    assert found is not None
    suspects = fan_predictor.hypotheses.suspects
    assert suspects[found.first].unit == "X20.1"
    share: dict[str, float] = {}
    for row, probability in found.rows:
        fault = suspects[row].fault
        share[fault] = share.get(fault, 0.0) + probability / circuit.faults[fault].rate
    assert share["X20.2.resistance"] > 3.0 * share["X3.85.resistance"], "for its rate, the neighbour in the same plug is likelier"
