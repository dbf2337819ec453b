from __future__ import annotations

import pytest

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import starting_prior, update
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.triage.prior_factors import CONDITIONS, ENVIRONMENTS, Answers, fault_factors, neighbours, reasons


@pytest.mark.parametrize(
    ("answers", "raised", "left"),
    [
        (Answers(environments=frozenset({"salt"})), "X20.1.resistance", "M5.open"),
        (Answers(environments=frozenset({"rodents"})), "W8.open", "X3.30.open"),
        (Answers(environments=frozenset({"water"})), "G2.open", "K3.coil_open"),
        (Answers(environments=frozenset({"accident"})), "W1.open", "DRV.dead"),
        (Answers(environments=frozenset({"offroad"})), "W4.open", "W4.to_ground"),
        (Answers(conditions=frozenset({"bumps"})), "X1.23.open", "X1.23.resistance"),
        (Answers(conditions=frozenset({"wet"})), "W3.to_ground", "K3.coil_open"),
        (Answers(conditions=frozenset({"load"})), "F14.resistance", "F14.open"),
        (Answers(conditions=frozenset({"cold"})), "DRV.weak", "W8.open"),
        (Answers(conditions=frozenset({"hot"})), "M5.open", "W8.open"),
        (Answers(conditions=frozenset({"start"})), "BAT.low", "W8.open"),
        (Answers(battery_v=11.2), "BAT.low", "F14.open"),
    ],
)
def test_each_answer_raises_what_it_speaks_of(fan: Circuit, answers: Answers, raised: str, left: str) -> None:
    factors = fault_factors(fan, answers)
    assert factors[raised] > 1.4
    assert factors[left] == 1.0
    assert reasons(fan, answers)


def test_a_good_battery_is_cleared_a_little(fan: Circuit) -> None:
    assert fault_factors(fan, Answers(battery_v=12.6))["BAT.low"] < 1
    assert set(fault_factors(fan, Answers(battery_v=12.1)).values()) == {1.0}


def test_every_offered_answer_means_something(fan: Circuit) -> None:
    for key in ENVIRONMENTS:
        assert max(fault_factors(fan, Answers(environments=frozenset({key}))).values()) > 1
    for key in set(CONDITIONS) - {"always", "sometimes"}:
        assert max(fault_factors(fan, Answers(conditions=frozenset({key}))).values()) > 1


def test_neighbours_are_the_plug_and_the_wire_behind_it(fan: Circuit) -> None:
    near = neighbours(fan, frozenset({"K3"}))
    assert {"K3", "X3.85", "X3.86", "W7", "W8"} <= near
    assert "W4" not in near
    assert neighbours(fan, frozenset({"not a part"})) == frozenset()
    factors = fault_factors(fan, Answers(recent_work=frozenset({"K3"})))
    assert factors["W8.open"] == 3.0
    assert factors["K3.coil_open"] == pytest.approx(3.0), "a new part can be bad, or the wrong one"


def test_the_prior_keeps_its_answers_that_are_no_faults(fan_predictor: Predictor, fan: Circuit) -> None:
    prior = starting_prior(fan_predictor.hypotheses, {}, fault_factors(fan, Answers(environments=frozenset({"rodents"}))))
    plain = fan_predictor.hypotheses.prior
    assert prior.sum() == pytest.approx(1.0)
    assert (prior[0], prior[-1]) == (plain[0], plain[-1])
    wire = fan_predictor.hypotheses.index("W8.open")
    relay = fan_predictor.hypotheses.index("K3.coil_open")
    assert prior[wire].sum() / prior[relay].sum() == pytest.approx(5 * plain[wire].sum() / plain[relay].sum())


def test_a_normal_reading_clears_less_when_the_fault_comes_and_goes(ambient_predictor: Predictor) -> None:
    circuit = ambient_predictor.circuit
    test = Test("voltmeter", "X2.11", "BAT.neg", circuit.setup({"key": "on"}))
    opened = ambient_predictor.hypotheses.index("W1.open")

    def share(present: float) -> float:
        belief = update(ambient_predictor, [Reading("r", test, 2.75, None, 0.01, present=present)])
        return float(belief.now[opened].sum())

    assert share(1.0) < 0.2 * share(0.35)
    assert share(0.35) < share(0.0) + 1e-9


def test_a_worse_meter_moves_belief_less(ambient_predictor: Predictor) -> None:
    circuit = ambient_predictor.circuit
    test = Test("voltmeter", "X2.11", "BAT.neg", circuit.setup({"key": "on"}))

    def moved(error: float) -> float:
        belief = update(ambient_predictor, [Reading("r", test, 3.3, None, 0.01, meter_error=error)])
        return float(abs(belief.now - belief.steps[0]).sum())

    assert moved(1.5) < moved(0.0)
