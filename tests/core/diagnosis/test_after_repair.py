"""After a repair: readings before it speak about the vehicle before, readings since about the vehicle now."""

from __future__ import annotations

from dataclasses import replace

import pytest

from sondar.circuit_files import library_circuits
from sondar.core.circuit.model import Setup
from sondar.core.diagnosis.after_repair import CURED, Repair, judge_repaired, prior_after
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.hypotheses import NONE
from sondar.core.diagnosis.judge import judge
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.wording.conclusion import actions, reason_text, sentence
from sondar.simulators.vehicle import SimulatedVehicle
from tests.conftest import circuit_of


@pytest.fixture
def situation(ambient_predictor: Predictor) -> Situation:
    return Situation(ambient_predictor.circuit.rest_setup(), instruments=tuple(ambient_predictor.instruments))


def taken(vehicle: SimulatedVehicle, tests: list[Test]) -> list[Reading]:
    return [
        Reading(str(i), test, *vehicle.measure(test.instrument, test.red, test.black, test.setup)) for i, test in enumerate(tests)
    ]


def wanted(predictor: Predictor) -> list[Test]:
    on = predictor.circuit.setup({"key": "on"})
    return [
        Test("voltmeter", "X31.1", "X31.2", on), Test("voltmeter", "X2.11", "X2.12", on), Test("voltmeter", "X12.7", "X12.8", on),
        Test("voltmeter", "X31.1", "BAT.neg", on), Test("voltmeter", "X31.2", "BAT.neg", on),
    ]  # fmt: skip


def faulty(predictor: Predictor) -> list[Reading]:
    return taken(SimulatedVehicle(predictor.circuit, [("W2.open", "open")], 3), wanted(predictor))


def test_what_was_measured_before_does_not_argue_with_the_repair(ambient_predictor: Predictor, situation: Situation) -> None:
    before = faulty(ambient_predictor)
    found = judge(ambient_predictor, before, situation)
    assert found.ranking.leading[0] == "W2"
    healthy = taken(SimulatedVehicle(ambient_predictor.circuit, [], 3), wanted(ambient_predictor))
    repair = Repair(("W2",), "Wire replaced", len(before))
    after = judge_repaired(ambient_predictor, [*before, *healthy], situation, [repair])
    assert after.now.ranking.leading == (NONE,)
    assert after.now.belief.units()[0] > 0.95
    assert "After the repair" in sentence(after.now)
    assert any("again" in action for action in actions(after.now))
    # All together, as if nothing had been repaired, no single fault explains both halves.
    mixed = judge(ambient_predictor, [*before, *healthy], situation)
    assert mixed.belief.units()[0] < 0.05


def test_right_after_the_repair_the_belief_is_that_it_cured(ambient_predictor: Predictor, situation: Situation) -> None:
    before = faulty(ambient_predictor)
    share = dict(zip(ambient_predictor.hypotheses.units, judge(ambient_predictor, before, situation).belief.units(), strict=True))
    after = judge_repaired(ambient_predictor, before, situation, [Repair(("W2",), "Wire replaced", len(before))])
    units = dict(zip(ambient_predictor.hypotheses.units, after.now.belief.units(), strict=True))
    assert units["W2"] == pytest.approx((1 - CURED) * share["W2"], rel=0.05, abs=0.01)
    assert units[NONE] > 0.85 * share["W2"]


def test_failed_tests_are_the_list_to_verify(ambient_predictor: Predictor, situation: Situation) -> None:
    before = faulty(ambient_predictor)
    repair = Repair(("W2",), "Wire replaced", len(before))
    waiting = judge_repaired(ambient_predictor, before, situation, [repair]).to_verify
    assert {item.test.red for item in waiting} >= {"X31.1"}
    assert all(item.passed is None for item in waiting)
    again = [item.test for item in waiting]
    warmer = [replace(test, setup=replace(test.setup, temperature_c=26.0)) for test in again]  # the day went on
    healthy = taken(SimulatedVehicle(ambient_predictor.circuit, [], 3), warmer)
    done = judge_repaired(ambient_predictor, [*before, *healthy], situation, [repair]).to_verify
    assert len(done) == len(waiting)
    assert all(item.passed for item in done)


def test_a_repair_that_did_not_cure_is_seen(ambient_predictor: Predictor, situation: Situation) -> None:
    before = faulty(ambient_predictor)
    still = [replace(reading, id=f"again {reading.id}") for reading in before]
    repair = Repair(("X31.1",), "Contact cleaned", len(before))
    after = judge_repaired(ambient_predictor, [*before, *still], situation, [repair])
    assert after.now.ranking.leading[0] == "W2"
    assert any(item.passed is False for item in after.to_verify)


def test_a_second_fault_that_the_first_one_hid_is_found_after_the_repair(
    ambient_predictor: Predictor, situation: Situation
) -> None:
    """A cut wire hides a sensor that has changed its value; with the wire mended the sensor shows."""
    circuit = ambient_predictor.circuit
    severity = "×8"
    before = taken(SimulatedVehicle(circuit, [("W2.open", "open"), ("B9.drift", severity)], 3), wanted(ambient_predictor))
    ohms = Test("ohmmeter", "X31.1/c", "X31.2/c", Setup(circuit.rest_setup().controls, frozenset({"X31"})))
    since = taken(SimulatedVehicle(circuit, [("B9.drift", severity)], 3), [*wanted(ambient_predictor), ohms])
    after = judge_repaired(ambient_predictor, [*before, *since], situation, [Repair(("W2",), "Wire replaced", len(before))])
    ahead = dict(zip(ambient_predictor.hypotheses.units, after.now.belief.units(), strict=True))
    assert ahead["B9"] > 0.5
    assert ahead["W2"] < 0.1


def test_the_failed_test_is_proposed_first_after_the_repair(ambient_predictor: Predictor, situation: Situation) -> None:
    before = faulty(ambient_predictor)
    repair = Repair(("W2",), "Wire replaced", len(before))
    after = judge_repaired(ambient_predictor, before, situation, [repair])
    ranking = after.now.ranking
    assert ranking.reason == "verify"
    assert not ranking.settled
    assert ranking.proposals[0].test == after.to_verify[0].test
    assert reason_text(after.now) == "the repair is proved by the tests that failed before it"
    healthy = taken(SimulatedVehicle(ambient_predictor.circuit, [], 3), [item.test for item in after.to_verify])
    proved = judge_repaired(ambient_predictor, [*before, *healthy], situation, [repair])
    assert proved.now.ranking.reason != "verify"
    failing = taken(SimulatedVehicle(ambient_predictor.circuit, [("W2.open", "open")], 3), [after.to_verify[0].test])
    not_cured = judge_repaired(ambient_predictor, [*before, *failing], situation, [repair])
    assert not_cured.now.ranking.reason != "verify", "what failed again is looked into first"


def test_what_two_faults_explained_leaves_the_other_one_when_one_is_repaired() -> None:
    # With plugs that can be probed from behind: at a sealed one the first of the two is found before anything asks for the second.
    circuit = circuit_of(library_circuits()["tessel-purge-valve"].replace("    back_probe: false\n", ""))
    predictor = Predictor(circuit)
    vehicle = SimulatedVehicle(circuit, [("W3.open", None), ("W4.open", None)], 3)
    readings: list[Reading] = []
    tools = ("voltmeter", "ohmmeter", "functional-check")
    situation = Situation(circuit.rest_setup(20.0), instruments=tools)
    for number in range(30):
        found = judge(predictor, readings, situation)
        if found.ranking.settled:
            break
        test = found.ranking.proposals[0].test
        value, word = vehicle.measure(test.instrument, test.red, test.black, test.setup)
        readings.append(Reading(str(number), test, value, word, 0.01 if value is None else abs(value) * 1e-3 + 1e-3))
        situation = replace(situation, setup=test.setup if not readings[-1].device.finding else situation.setup)
    assert {unit for pair in found.pairs[:1] for unit in pair.units} == {"W3", "W4"}
    after = prior_after(found, ["W3"])
    belief = found.belief.at_last(after)
    assert belief.units()[belief.hypotheses.units.index("W4")] > 0.9
    both = found.belief.at_last(prior_after(found, ["W3", "W4"]))
    assert both.units()[both.hypotheses.units.index("none")] > 0.9


@pytest.mark.parametrize(("volts", "within"), [(-0.16, True), (0.4, True), (12.3, False)])
def test_a_small_figure_at_a_point_that_floats_is_no_failure(volts: float, within: bool) -> None:
    predictor = Predictor(circuit_of(library_circuits()["tessel-purge-valve"]))
    circuit = predictor.circuit
    read = Reading("1", Test("voltmeter", "X51.1", circuit.black_reference, circuit.setup({"key": "off"})), volts, None, 0.01)
    found = judge(predictor, [read], Situation(circuit.rest_setup(20.0)))
    assert found.effects[0].within_expected is within
