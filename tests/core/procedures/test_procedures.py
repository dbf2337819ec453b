"""Manufacturers' procedures: read, refused, followed, and laid beside Sondar's own order."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.errors import CircuitDocumentError
from sondar.core.instruments.reading import Reading
from sondar.core.limits.condition import limit_test
from sondar.core.procedures.compare import compare, pass_chance
from sondar.core.procedures.document import ProcedureDocument, read_procedure
from sondar.core.procedures.follow import follow_procedure

STEPS: dict[str, Any] = {
    "1": {"do": "Is there 5 V at the open plug?", "red": "X31.1", "when": {"key": "on"}, "unplugged": ["X31"], "min": 4.7, "max": 5.3,
          "if_pass": "2", "if_fail": {"unit": "W1"}},
    "2": {"do": "Resistance of the sensor", "with": "ohmmeter", "red": "X31.1/c", "black": "X31.2/c", "unplugged": ["X31"], "min": "1.8k",
          "max": "3.5k", "if_pass": {"text": "Replace the module", "unit": "BCM"}, "if_fail": {"unit": "B9"}},
}  # fmt: skip


def document(**changed: Any) -> dict[str, Any]:
    return {"sondar_procedure": 1, "title": "Outside temperature", "circuit": "ambient-temperature", "steps": STEPS, **changed}


@pytest.fixture
def procedure(ambient: Circuit) -> ProcedureDocument:
    return read_procedure(document(), ambient)


def taken(procedure: ProcedureDocument, circuit: Circuit, step: str, value: float | None, word: str | None = None) -> Reading:
    return Reading(step, limit_test(circuit, procedure.steps[step]), value, word, 0.005)


def test_a_chart_is_followed_as_far_as_the_readings_go(procedure: ProcedureDocument, ambient_predictor: Predictor) -> None:
    circuit = ambient_predictor.circuit
    belief = update(ambient_predictor, [])
    fresh = follow_procedure(procedure, circuit, belief, [], 20.0)
    assert [s.decision for s in fresh.path] == ["open"]
    first = taken(procedure, circuit, "1", 5.0)
    then = follow_procedure(procedure, circuit, update(ambient_predictor, [first]), [first], 20.0)
    assert [(s.id, s.decision) for s in then.path] == [("1", "pass"), ("2", "open")]
    readings = [first, taken(procedure, circuit, "2", None, "OL")]
    end = follow_procedure(procedure, circuit, update(ambient_predictor, readings), readings, 20.0)
    assert end.end_unit == "B9"
    assert "at fault with" in end.agrees


def test_a_reading_too_near_the_limit_does_not_decide(procedure: ProcedureDocument, ambient_predictor: Predictor) -> None:
    near = taken(procedure, ambient_predictor.circuit, "1", 4.7)
    view = follow_procedure(procedure, ambient_predictor.circuit, update(ambient_predictor, [near]), [near], 20.0)
    assert [s.decision for s in view.path] == ["in doubt"]
    assert view.end == ""


@pytest.mark.parametrize(
    ("changed", "message"),
    [
        ({"circuit": "radiator-fan-relay"}, "this is a procedure of"),
        ({"steps": {"1": {**STEPS["1"], "if_pass": "7"}}}, "no step '7'"),
        ({"steps": {"1": {**STEPS["1"], "if_pass": "1"}}}, "in a circle"),
        ({"steps": {**STEPS, "1": {**STEPS["1"], "red": "X99.1"}}}, "no point"),
        ({"steps": {**STEPS, "1": {**STEPS["1"], "if_fail": {"unit": "Z1"}}}}, "no unit"),
        ({"steps": {**STEPS, "1": {**STEPS["1"], "with": "crystal ball"}}}, "no instrument"),
        ({"steps": {**STEPS, "1": {**STEPS["1"], "when": {"key": "lost"}}}}, "no position"),
        ({"steps": {**STEPS, "1": {**STEPS["1"], "unplugged": ["X77"]}}}, "no connector"),
        ({"steps": {}}, "at least 1"),
        ({"colour": "blue"}, "not permitted"),
    ],
)
def test_what_is_wrong_with_a_chart_is_said(changed: dict[str, Any], message: str, ambient: Circuit) -> None:
    with pytest.raises(CircuitDocumentError) as caught:
        read_procedure(document(**changed), ambient)
    assert any(message in problem.message for problem in caught.value.problems)


def test_no_mapping_is_no_chart() -> None:
    with pytest.raises(CircuitDocumentError, match="expected a procedure"):
        read_procedure(["not", "a", "procedure"])


def test_pass_chances_follow_the_predictions(procedure: ProcedureDocument, ambient_predictor: Predictor) -> None:
    hypotheses = ambient_predictor.hypotheses
    step = procedure.steps["1"]
    chance = pass_chance(step, ambient_predictor.display_of(limit_test(ambient_predictor.circuit, step)))
    assert chance[0] > 0.95
    assert chance[hypotheses.index("W1.open")[0]] < 0.05
    assert chance[hypotheses.index("B9.open")[0]] > 0.95, "the sensor is unplugged: its fault does not show here"


def test_a_chart_that_never_tests_the_wire_condemns_more_good_parts(
    procedure: ProcedureDocument, ambient_predictor: Predictor
) -> None:
    circuit = ambient_predictor.circuit
    result = compare(procedure, ambient_predictor, update(ambient_predictor, []), Situation(circuit.rest_setup()))
    assert 0.0 < result.covered <= 1.0
    assert result.own_right > result.procedure_right
    assert result.own_wrong <= result.procedure_wrong
    assert result.own_loss < result.procedure_loss
    assert result.procedure_minutes > 0
    assert set(result.saving_per_min) == {"1", "2"}
    assert max(result.saving_per_min.values()) > 0


def test_minutes_of_a_chart_by_hand(procedure: ProcedureDocument, ambient_predictor: Predictor) -> None:
    """Step 1: key 0.2, plug reached 3 and disconnected 0.3, black probe at the battery 0.5, reading 0.4; an open W1 ends there."""
    circuit = ambient_predictor.circuit
    only = circuit.faults["W1.open"]
    belief = update(ambient_predictor, [])
    h = ambient_predictor.hypotheses.index(only.id)[0]
    certain = replace(belief, now=0 * belief.now)
    certain.now[h] = 1.0
    certain.steps[-1][:] = certain.now
    result = compare(procedure, ambient_predictor, certain, Situation(circuit.rest_setup()))
    assert result.procedure_right == pytest.approx(1.0, abs=0.02)
    assert result.procedure_minutes == pytest.approx(0.2 + 3.0 + 0.3 + 0.5 + 0.4, abs=0.05)
