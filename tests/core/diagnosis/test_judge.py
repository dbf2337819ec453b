"""The words: what is said must follow from the numbers, and what can hurt must stand where it can."""

from __future__ import annotations

import pytest

from sondar.circuit_files import library_circuits
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.hypotheses import build_hypotheses
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments import INSTRUMENTS
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.present.assessment import Assessment
from sondar.core.wording.conclusion import CAUTION_ALWAYS, CAUTION_TEXT
from sondar.core.wording.labels import expected_range
from sondar.core.wording.proposals import CAUTION_CONNECTOR, outcome_label
from tests.conftest import assessed, circuit_of


def judged(predictor: Predictor, *readings: Reading) -> Assessment:
    setup = readings[-1].test.setup if readings else predictor.circuit.rest_setup()
    return assessed(predictor, list(readings), Situation(setup))


def volts(
    predictor: Predictor, red: str, value: float, black: str = "BAT.neg", unplugged: tuple[str, ...] = (), **controls: str
) -> Reading:
    setup = predictor.circuit.setup(controls, frozenset(unplugged))
    return Reading(f"{red}={value}", Test("voltmeter", red, black, setup), value, None, 0.005)


def test_the_start_explains_itself(fan_predictor: Predictor) -> None:
    first = judged(fan_predictor)
    assert not first.conclusion.settled
    assert first.conclusion.sentence.startswith("Not certain yet")
    best = first.proposals[0]
    assert (best.test.instrument, best.test.setup.controls["fan"]) == ("functional-check", "on"), "commanded and listened to first"
    others = [p.saving_per_min for p in first.proposals[1:]]
    assert others == sorted(others, reverse=True)
    assert "points to" in best.why
    assert sum(o.probability for o in best.outcomes) > 0.9
    assert sum(1 for o in best.outcomes if o.within_expected) == 1
    assert len(first.track) == 1
    assert sum(first.branch_weights.values()) == pytest.approx(0.9, abs=0.02)


def test_a_verdict_names_place_evidence_and_what_to_do(fan_predictor: Predictor) -> None:
    on = {"key": "on", "fan": "on"}
    result = judged(
        fan_predictor,
        volts(fan_predictor, "X3.86", 12.1, **on),
        volts(fan_predictor, "X3.85", 12.1, **on),
        volts(fan_predictor, "X3.85", 12.08, "X1.23", **on),
        volts(fan_predictor, "X1.23", 0.02, **on),
    )
    conclusion = result.conclusion
    assert result.suspects[0].probability > 0.95
    assert conclusion.units == ["W8"]
    assert conclusion.group == "wiring"
    assert "Wire W8 blue/grey, X3.85 to X1.23 open circuit" in conclusion.sentence
    assert any("harness repair" in action for action in conclusion.actions)
    assert conclusion.actions[-1].startswith("Repeat the reading that failed")
    assert CAUTION_ALWAYS in conclusion.cautions
    weights = {e.reading: e.weight_ban for e in result.suspects[0].evidence}
    assert weights["X3.85=12.08"] > 0.5
    assert [e.within_expected for e in result.effects] == [True, False, False, True]
    assert result.effects[1].expected == "−0.1 to 0.2 V", "the battery is not measured yet"
    assert "ECM" in [m.unit for e in result.effects for m in e.moved] or any("ECM" in e.cleared for e in result.effects)


def test_a_coded_module_comes_with_the_order_to_prove_it_first(ambient_predictor: Predictor) -> None:
    """The input stays low with the harness cut off, and the wire alone is sound: only the module is left."""
    apart = ambient_predictor.circuit.setup({}, frozenset({"X2", "X12"}))
    wire = Reading("wire", Test("ohmmeter", "X2.11", "BAT.neg", apart), None, "OL")
    low = volts(ambient_predictor, "X2.11", 0.02, key="on", unplugged=("X12",))
    once = judged(ambient_predictor, low, wire)
    assert not once.conclusion.settled, "a probe beside its pin would have shown the same"
    again = volts(ambient_predictor, "X2.11", 0.01, key="on", unplugged=("X12", "X31"))
    same = judged(ambient_predictor, low, wire, again)
    assert same.suspects[0].probability == pytest.approx(once.suspects[0].probability, abs=0.02), (
        "electrically the same: it adds nothing"
    )
    inside = Reading("inside", Test("ohmmeter", "X2.11/c", "X2.12/c", apart), 0.4, None)
    result = judged(ambient_predictor, low, wire, inside)
    assert result.suspects[0].probability > 0.9, result.suspects[:3]
    assert result.conclusion.units == ["BCM"]
    assert result.conclusion.group == "module"
    text = " ".join(result.conclusion.actions)
    assert "prove its supplies and grounds under load" in text
    assert "save its coding" in text


def test_what_lies_between_two_closed_contacts_and_a_driver_is_one_class(fan_predictor: Predictor) -> None:
    on = {"key": "on", "fan": "on"}
    result = judged(
        fan_predictor,
        volts(fan_predictor, "X1.23", 12.1, **on),
        volts(fan_predictor, "X1.40", 0.0, **on),
        volts(fan_predictor, "X1.23", 12.1, "X1.40", **on),
        volts(fan_predictor, "X3.86", 0.0, "X3.85", **on),
    )
    assert set(result.conclusion.units) == {"X1.23", "X1.40", "ECM"}
    assert result.conclusion.inseparable
    assert "no test allowed here can tell apart" in result.conclusion.sentence


def test_what_no_single_fault_explains_is_called_unknown(ambient_predictor: Predictor) -> None:
    strange = [
        volts(ambient_predictor, p, v, key="on") for p, v in (("X31.1", 9.0), ("X31.2", 7.0), ("X12.8", 3.0), ("X2.11", 11.0))
    ]
    result = judged(ambient_predictor, *strange)
    assert result.conclusion.sentence.startswith("Inconclusive")
    assert any("ask for help" in a or "someone who knows" in a for a in [result.conclusion.sentence, *result.conclusion.actions])
    alone = judged(ambient_predictor, volts(ambient_predictor, "X31.1", 24.0, key="on"))
    assert "No single fault" in alone.effects[0].note


def test_cautions_stand_at_the_step_that_can_hurt(fan_predictor: Predictor) -> None:
    result = assessed(fan_predictor, [], Situation(fan_predictor.circuit.rest_setup()))
    for proposal in result.proposals:
        commanded = proposal.test.setup.controls["fan"] == "on"
        assert ("The fan starts without warning. Clear the blades first." in proposal.cautions) == commanded
        assert (CAUTION_CONNECTOR in proposal.cautions) == any("connect" in step for step in proposal.steps)
        assert (INSTRUMENTS["ohmmeter"].caution in proposal.cautions) == (proposal.test.instrument == "ohmmeter")


def test_control_positions_that_switch_nothing_new_are_not_offered(fan: Circuit, ambient: Circuit) -> None:
    states = [dict(s) for s in fan.distinct_states]
    assert {"key": "off", "fan": "on"} not in states, "a command with the key off changes nothing"
    assert len(states) == 3
    assert [dict(s)["key"] for s in ambient.distinct_states] == ["off", "on"]


def test_faults_nobody_could_notice_are_no_suspects(fan: Circuit) -> None:
    names = {s.fault for s in build_hypotheses(fan).suspects}
    assert "W8.open" in names
    assert not any(s.fault == "G2.resistance" and s.severity == "30 mΩ" for s in build_hypotheses(fan).suspects)


def test_priors_sum_to_one_and_keep_the_two_answers_that_are_not_faults(fan_predictor: Predictor) -> None:
    hypotheses = fan_predictor.hypotheses
    assert hypotheses.prior.sum() == pytest.approx(1.0)
    assert hypotheses.suspects[0].unit == "none"
    assert hypotheses.suspects[-1].unit == "unknown"
    assert (hypotheses.member.sum(axis=1) == 1).all()
    assert hypotheses.index("W8.resistance", "300 Ω")


@pytest.mark.parametrize(
    ("red", "black", "controls", "label"),
    [
        ("X3.86", "BAT.neg", {"key": "on"}, "12.0 to 12.6 V"),
        ("X3.85", "BAT.neg", {"key": "on", "fan": "on"}, "0.0 to 0.1 V"),
        ("F14.1", "BAT.neg", {}, "12.2 to 12.8 V"),
    ],
)
def test_healthy_ranges_in_shop_words(fan_predictor: Predictor, red: str, black: str, controls: dict[str, str], label: str) -> None:
    shown = fan_predictor.display_of(Test("voltmeter", red, black, fan_predictor.circuit.setup(controls)))
    assert expected_range(shown)[0] == label


def test_outcome_labels_do_not_overlap(fan_predictor: Predictor) -> None:
    predictions = fan_predictor.setup(fan_predictor.circuit.setup({"key": "on", "fan": "on"}))
    for index, test in enumerate(predictions.tests):
        if test.instrument != "voltmeter":
            continue
        edges = predictions.edges[index]
        assert (edges[1:] >= edges[:-1]).all()
        outlook = predictions.outlook(index)
        labels = [outcome_label(outlook, k) for k in range(len(outlook.outcome)) if outlook.chance[k].max() > 0.2]
        assert all(labels)
        assert len(labels) >= 2, test


def test_a_blown_fuse_is_not_the_end_of_it(fan_predictor: Predictor) -> None:
    on = {"key": "on", "fan": "on"}
    result = judged(
        fan_predictor,
        volts(fan_predictor, "F14.2", 0.0, **on),
        volts(fan_predictor, "F14.1", 12.2, **on),
        volts(fan_predictor, "F14.1", 12.2, "F14.2", **on),
    )
    assert result.conclusion.units[0] == "F14"
    assert any(action.startswith("A blown fuse has a cause") for action in result.conclusion.actions)


@pytest.mark.parametrize("name", list(library_circuits()))
def test_every_circuit_of_the_library_can_be_judged_from_nothing(name: str) -> None:
    """Proposals with words, places, cautions; every leading unit has its actions and cautions."""
    predictor = Predictor(circuit_of(library_circuits()[name]))
    result = assessed(predictor, [], Situation(predictor.circuit.rest_setup()))
    assert result.proposals
    for proposal in result.proposals:
        assert proposal.test.where.endswith(".")
        assert proposal.expected
        assert proposal.why
    for part in predictor.circuit.parts.values():
        assert set(part.CAUTIONS) <= set(CAUTION_TEXT)
