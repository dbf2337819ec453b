"""Severities between those of the grid, probes at wrong places, and diagnoses that are confirmed."""

from __future__ import annotations

import numpy as np
import pytest

from sondar.core.circuit.model import Change
from sondar.core.diagnosis.belief import reading_error_of, update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.lookahead import rank_tests
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.solving.solver import SetupSolver
from tests.conftest import assessed

ON = {"key": "on", "fan": "on"}


def volts(predictor: Predictor, red: str, value: float, black: str = "BAT.neg", **controls: str) -> Reading:
    setup = predictor.circuit.setup(controls)
    return Reading(f"{red} {value}", Test("voltmeter", red, black, setup), value, None, 0.005)


@pytest.mark.parametrize("ohms", [130.0, 170.0, 220.0])
def test_a_resistance_between_two_strengths_is_believed(fan_predictor: Predictor, ohms: float) -> None:
    """Neither 100 nor 300 Ω predicts to the millivolt what 170 Ω in the control wire shows."""
    circuit = fan_predictor.circuit
    setup = circuit.setup(ON)
    pairs = [(circuit.node(p), circuit.node("BAT.neg")) for p in ("X3.85", "X1.23")]
    shown = SetupSolver(circuit, setup, pairs, samples=1).solve([(Change("W8", add_ohm=ohms),)]).volts[0, 0]
    readings = [volts(fan_predictor, p, float(v), **ON) for p, v in zip(("X3.85", "X1.23"), shown, strict=True)]
    belief = update(fan_predictor, readings)
    units = dict(zip(belief.hypotheses.units, belief.units(), strict=True))
    assert max(units, key=units.__getitem__) == "W8", units
    assert units["W8"] > 1.5 * units["unknown"]


@pytest.mark.parametrize("ohms", [40.0, 53.0, 62.0, 72.0, 90.0])
def test_a_resistance_at_which_a_relay_just_pulls_in_or_no_longer_does_is_believed(fan_predictor: Predictor, ohms: float) -> None:
    """Between 30 and 100 Ω in its control wire the relay drops: neither end predicts both the coil's voltage and the contact."""
    circuit = fan_predictor.circuit
    points = (("X3.85", "BAT.neg"), ("X3.86", "X3.85"), ("X3.30", "X3.87"), ("X3.87", "BAT.neg"), ("X3.85", "X1.23"))
    pairs = [(circuit.node(red), circuit.node(black)) for red, black in points]
    shown = SetupSolver(circuit, circuit.setup(ON), pairs, samples=1).solve([(Change("W8", add_ohm=ohms),)]).volts[0, 0]
    readings = [volts(fan_predictor, red, float(v), black, **ON) for (red, black), v in zip(points, shown, strict=True)]
    belief = update(fan_predictor, readings)
    units = dict(zip(belief.hypotheses.units, belief.units(), strict=True))
    assert units["W8"] > 0.9, units


def test_neighbours_are_strengths_of_the_same_fault(fan_predictor: Predictor) -> None:
    hypotheses = fan_predictor.hypotheses
    for index, suspect in enumerate(hypotheses.suspects[:-1]):
        for other in (hypotheses.milder[index], hypotheses.worse[index]):
            assert hypotheses.suspects[other].fault == suspect.fault
    graded = [i for i in hypotheses.index("W8.resistance") if hypotheses.worse[i] != i]
    ends = len(hypotheses.index("W8.resistance")) - len(graded)
    assert ends == 3, "the worst, and where the relay drops with the battery's voltage and with the alternator's"
    for index in graded:
        assert hypotheses.milder[hypotheses.worse[index]] == index


def test_one_impossible_zero_does_not_condemn(fan_predictor: Predictor) -> None:
    """A probe on a ground by mistake shows 0 V: the likeliest error of all must not weigh like a proof."""
    error = volts(fan_predictor, "F14.2", 0.0, **ON)
    once = update(fan_predictor, [error])
    units = dict(zip(once.hypotheses.units, once.units(), strict=True))
    assert max(v for k, v in units.items() if k not in ("none", "unknown")) < 0.95
    assert not rank_tests(fan_predictor, once, Situation(error.test.setup)).settled


def test_a_error_is_recognised_once_the_others_speak(fan_predictor: Predictor) -> None:
    readings = [
        volts(fan_predictor, "F14.2", 0.0, **ON),  # really taken at the ground
        volts(fan_predictor, "X3.30", 12.0, **ON),
        volts(fan_predictor, "X3.87", 11.9, **ON),
        volts(fan_predictor, "X20.1", 11.9, **ON),
    ]
    belief = update(fan_predictor, readings)
    found = reading_error_of(fan_predictor, belief, 0, readings[0])
    assert found.probability > 0.9
    assert found.looks_like is not None
    assert reading_error_of(fan_predictor, belief, 1, readings[1]).probability < 0.1
    result = assessed(fan_predictor, readings, Situation(readings[-1].test.setup))
    assert "possibly a probe at a wrong place" in result.effects[0].note
    assert not any(effect.note for effect in result.effects[1:])


def test_outcome_tables_are_distributions(ambient_predictor: Predictor) -> None:
    predictions = ambient_predictor.setup(ambient_predictor.circuit.setup({"key": "on"}))
    assert np.allclose(np.add.reduceat(predictions.chance, predictions.first[:-1], axis=0), 1.0, atol=2e-3)
    assert (predictions.chance >= 0).all()


def test_a_call_is_confirmed_while_that_is_cheap(ambient_predictor: Predictor) -> None:
    """95 % from one decisive reading is not the end if a second one costs a minute and a wrong part costs an hour."""
    apart = ambient_predictor.circuit.setup({"key": "off"}, frozenset({"X31"}))
    decisive = Reading("1", Test("ohmmeter", "X31.1/c", "X31.2/c", apart), None, "OL")
    plan = rank_tests(
        ambient_predictor,
        update(ambient_predictor, [decisive]),
        Situation(apart, frozenset({"X31"}), done=frozenset({decisive.test})),
    )
    if plan.certainty >= 0.95:
        assert plan.settled == (plan.proposals[0].saving_per_min < 1.0)
    else:
        assert not plan.settled
