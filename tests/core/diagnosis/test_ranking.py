from __future__ import annotations

import numpy as np
import pytest

from benchmarks.hidden_faults import Case, draw_cases, follow_plan
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.costs import Situation, loss_matrix, setup_change
from sondar.core.diagnosis.expectations import learned_outlooks
from sondar.core.diagnosis.lookahead import _first_of_two, rank_tests
from sondar.core.diagnosis.predictions import CLASSES, Predictor
from sondar.core.diagnosis.ranking import candidate_setups, evaluate
from sondar.core.instruments import sensible_tests
from sondar.core.instruments.reading import Reading
from sondar.core.wording.proposals import step_text


def test_outcomes_of_every_test_are_distributions(fan_predictor: Predictor) -> None:
    for setup in candidate_setups(fan_predictor, Situation(fan_predictor.circuit.rest_setup())):
        predictions = fan_predictor.setup(setup)
        total = np.add.reduceat(predictions.chance, predictions.first[:-1], axis=0)
        assert np.abs(total - 1).max() < 2e-3, "all but outcomes that no hypothesis leads to"
        assert predictions.chance.min() >= -1e-6
        assert predictions.outcome.max() < CLASSES


def test_no_test_is_expected_to_make_things_worse(fan_predictor: Predictor) -> None:
    """The potential is concave in belief, so information never hurts on average; checked on every sensible test."""
    belief = update(fan_predictor, [])
    situation = Situation(fan_predictor.circuit.rest_setup())
    for test in fan_predictor.setup(situation.setup).tests:
        proposal = evaluate(fan_predictor, belief, situation, test)
        assert proposal is not None
        assert proposal.saving_min > -1e-4, test


def test_the_proposal_is_the_best_of_all_by_full_enumeration(ambient_predictor: Predictor) -> None:
    """Full enumeration with a plain loop over outcomes against the batched ranking; both of what has been learned."""
    belief = update(ambient_predictor, [])
    situation = Situation(ambient_predictor.circuit.rest_setup())
    plan = rank_tests(ambient_predictor, belief, situation)
    loss = loss_matrix(ambient_predictor.circuit, belief.hypotheses)
    best = -np.inf
    for setup in candidate_setups(ambient_predictor, situation):
        predictions = ambient_predictor.setup(setup)
        outlooks = learned_outlooks(ambient_predictor, belief, [(predictions, index) for index in range(len(predictions.tests))])
        for test, outlook in zip(predictions.tests, outlooks, strict=True):
            expected = 0.0
            for chance in outlook.chance:
                joint = (chance * belief.now) @ belief.hypotheses.member
                if joint.sum() > 0:
                    after = joint / joint.sum()
                    expected += joint.sum() * float(after @ loss @ after)
            minutes = evaluate(ambient_predictor, belief, situation, test).minutes  # type: ignore[union-attr]
            best = max(best, (plan.expected_loss - expected) / minutes)
    assert plan.proposals[0].saving_per_min == pytest.approx(best, rel=0.05), "only the best by the tables are weighed again"


def test_loss_is_nothing_when_right_and_dear_for_a_coded_module(fan_predictor: Predictor) -> None:
    hypotheses = fan_predictor.hypotheses
    loss = loss_matrix(fan_predictor.circuit, hypotheses)
    names = hypotheses.units
    assert np.diag(loss) == pytest.approx(0.0)
    assert loss[names.index("ECM"), names.index("W8")] > 3 * loss[names.index("W8"), names.index("ECM")]


def test_refused_places_and_missing_tools_drop_out(fan_predictor: Predictor) -> None:
    belief = update(fan_predictor, [])
    situation = Situation(fan_predictor.circuit.rest_setup(), instruments=("lamp-21w",), refused=frozenset({"X3", "F7.2"}))
    for proposal in rank_tests(fan_predictor, belief, situation, 50).proposals:
        assert proposal.test.instrument == "lamp-21w"
        assert not {fan_predictor.circuit.points[r].place for r in (proposal.test.red, proposal.test.black)} & {"X3"}
        assert "F7.2" not in (proposal.test.red, proposal.test.black)
        assert "X3" not in proposal.test.setup.unplugged


def test_set_up_changes_cost_minutes_from_where_one_stands(fan: Circuit) -> None:
    rest, target = fan.rest_setup(), fan.setup({"key": "on"}, frozenset({"X20"}))
    minutes, steps, opened = setup_change(fan, Situation(rest), target)
    assert minutes == pytest.approx(4 + 0.5 + 0.2), "reach X20, unplug it, key on"
    assert [step_text(step) for step in steps] == ["disconnect X20", "key on"]
    again, _, _ = setup_change(fan, Situation(rest, opened), target)
    assert again == pytest.approx(0.5 + 0.2), "what has been reached once is reached"


def test_lamps_stay_off_inputs_and_drivers_and_ohms_off_live_or_module_lines(fan: Circuit, ambient: Circuit) -> None:
    for circuit in (fan, ambient):
        for controls in circuit.control_states():
            for test in sensible_tests(circuit, circuit.setup(dict(controls))):
                refs = {test.red, test.black}
                if test.instrument.startswith("lamp"):
                    assert not refs & {"X3.85", "X1.23", "X31.1", "X12.7", "X2.11"}, test
                if test.instrument == "ohmmeter":
                    assert test.setup["key"] == "off"
                    assert not refs & {"X1.23", "X3.85", "X2.11", "X31.1"}, test


@pytest.mark.parametrize("case", [
    Case("radiator-fan-relay", "DRV.dead", "open", "ECM", 1),
    Case("radiator-fan-relay", "K3.coil_open", "open", "K3", 2),
    Case("radiator-fan-relay", "W3.resistance", "1.0 Ω", "W3", 3),
    Case("ambient-temperature", "B9.open", "open", "B9", 4),
    Case("ambient-temperature", "W2.to_ground", "200 Ω", "W2", 6),
], ids=lambda c: c.fault)  # fmt: skip
def test_following_the_plan_finds_the_hidden_unit(case: Case, fan_predictor: Predictor, ambient_predictor: Predictor) -> None:
    predictor = fan_predictor if case.circuit == "radiator-fan-relay" else ambient_predictor
    outcome = follow_plan(predictor, case)
    assert outcome.right, outcome
    assert outcome.certainty > 0.9


def test_an_open_pull_up_is_not_called_something_else_for_certain(ambient_predictor: Predictor) -> None:
    """Only whether a point floats tells it from the contact of its pin, and what floats may stand at 0 V by chance."""
    outcome = follow_plan(ambient_predictor, Case("ambient-temperature", "AIN.pull_open", "open", "BCM", 5))
    assert outcome.right or not outcome.condemns, outcome


def test_a_healthy_vehicle_is_not_condemned(ambient_predictor: Predictor) -> None:
    healthy = Case("ambient-temperature", "", "", "none", 11)
    outcome = follow_plan(ambient_predictor, healthy)
    assert outcome.called == ("none",)


def test_cases_are_drawn_from_the_prior(fan_predictor: Predictor, ambient_predictor: Predictor) -> None:
    predictors = {"radiator-fan-relay": fan_predictor, "ambient-temperature": ambient_predictor}
    cases = draw_cases(predictors, 8, seed=1)
    assert cases == draw_cases(predictors, 8, seed=1)
    assert {c.circuit for c in cases} == set(predictors)


def test_inseparable_contacts_are_called_as_one_class(fan_predictor: Predictor) -> None:
    """The two contacts of the fan plug and its closed halves: no allowed test tells a corroded pin of one from the other."""
    outcome = follow_plan(fan_predictor, Case("radiator-fan-relay", "X20.2.resistance", "10 Ω", "X20.2", 9))
    assert {"X20.1", "X20.2"} <= set(outcome.called)


def test_a_reading_that_was_made_is_not_proposed_again(ambient_predictor: Predictor) -> None:
    situation = Situation(ambient_predictor.circuit.rest_setup())
    first = rank_tests(ambient_predictor, update(ambient_predictor, []), situation).proposals[0].test
    seen = Reading("1", first, None, "OL") if first.instrument == "ohmmeter" else Reading("1", first, 2.75, None)
    after = Situation(first.setup, done=frozenset({first}))
    proposals = rank_tests(ambient_predictor, update(ambient_predictor, [seen]), after, 100).proposals
    assert first not in [p.test for p in proposals]


def test_dear_labour_makes_a_wrong_part_matter_less(fan_predictor: Predictor) -> None:
    """The workshop's rate turns prices into minutes: at twice the rate a part is worth half as many of them."""
    hypotheses = fan_predictor.hypotheses
    cheap, dear = (loss_matrix(fan_predictor.circuit, hypotheses, rate) for rate in (45.0, 90.0))
    unit, other = hypotheses.units.index("ECM"), hypotheses.units.index("W8")
    price = fan_predictor.circuit.units["ECM"].price
    assert cheap[unit, other] - dear[unit, other] == pytest.approx(price / 0.75 - price / 1.5)
    assert np.isfinite(loss_matrix(fan_predictor.circuit, hypotheses, 0.0)).all(), "a workshop that sets no rate"


def test_readings_beside_the_proposed_one_cost_only_their_own_minutes(fan_predictor: Predictor) -> None:
    circuit = fan_predictor.circuit
    plan = rank_tests(fan_predictor, update(fan_predictor, []), Situation(circuit.rest_setup(), refused=frozenset({"K3", "M5"})))
    first = plan.proposals[0]
    assert plan.same_setup
    for proposal in plan.same_setup:
        assert proposal.test.setup == first.test.setup
        assert proposal.minutes < 1.0
        assert proposal.steps == ()
        assert proposal.test != first.test


def test_the_second_step_adds_its_saving_and_its_minutes(fan_predictor: Predictor, monkeypatch: pytest.MonkeyPatch) -> None:
    circuit, belief = fan_predictor.circuit, update(fan_predictor, [])
    situation = Situation(circuit.rest_setup(), instruments=("voltmeter", "ohmmeter"))
    ranked = rank_tests(fan_predictor, belief, situation, alternatives=30).proposals
    pair = _first_of_two(fan_predictor, belief, situation, ranked)
    assert pair is not None
    alone = next(p for p in ranked if p.test == pair.test)
    assert pair.saving_min > alone.saving_min
    assert pair.minutes > alone.minutes
    monkeypatch.setattr("sondar.core.diagnosis.lookahead.PAYS_ABOVE", 1e9)
    assert _first_of_two(fan_predictor, belief, situation, ranked) is None
