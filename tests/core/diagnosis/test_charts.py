"""Makers' charts: read, refused, followed, and laid beside Sondar's own order."""

from __future__ import annotations

from typing import Any

import pytest

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Reading, update
from sondar.core.diagnosis.charts import ChartDocument, compare, follow_chart, pass_chance, read_chart
from sondar.core.diagnosis.limits import limit_test
from sondar.core.diagnosis.plan import Bench
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.errors import CircuitDocumentError

STEPS: dict[str, Any] = {
    "1": {"do": "Is there 5 V at the open plug?", "red": "X31.1", "when": {"key": "on"}, "unplugged": ["X31"], "min": 4.7, "max": 5.3,
          "if_pass": "2", "if_fail": {"unit": "W1"}},
    "2": {"do": "Resistance of the sensor", "with": "ohmmeter", "red": "X31.1/c", "black": "X31.2/c", "unplugged": ["X31"], "min": "1.8k",
          "max": "3.5k", "if_pass": {"text": "Replace the module", "unit": "BCM"}, "if_fail": {"unit": "B9"}},
}  # fmt: skip


def document(**changed: Any) -> dict[str, Any]:
    return {"sondar_chart": 1, "title": "Outside temperature", "circuit": "ambient-temperature", "steps": STEPS, **changed}


@pytest.fixture
def chart(ambient: Circuit) -> ChartDocument:
    return read_chart(document(), ambient)


def taken(chart: ChartDocument, circuit: Circuit, step: str, value: float | None, word: str | None = None) -> Reading:
    return Reading(step, limit_test(circuit, chart.steps[step]), value, word, 0.005)


def test_a_chart_is_followed_as_far_as_the_readings_go(chart: ChartDocument, ambient_predictor: Predictor) -> None:
    circuit = ambient_predictor.circuit
    belief = update(ambient_predictor, [])
    fresh = follow_chart(chart, circuit, belief, [], 20.0)
    assert [s.decision for s in fresh.path] == ["open"]
    first = taken(chart, circuit, "1", 5.0)
    then = follow_chart(chart, circuit, update(ambient_predictor, [first]), [first], 20.0)
    assert [(s.id, s.decision) for s in then.path] == [("1", "pass"), ("2", "open")]
    readings = [first, taken(chart, circuit, "2", None, "OL")]
    end = follow_chart(chart, circuit, update(ambient_predictor, readings), readings, 20.0)
    assert end.end_unit == "B9"
    assert "at fault with" in end.agrees


def test_a_reading_too_near_the_limit_does_not_decide(chart: ChartDocument, ambient_predictor: Predictor) -> None:
    near = taken(chart, ambient_predictor.circuit, "1", 4.7)
    view = follow_chart(chart, ambient_predictor.circuit, update(ambient_predictor, [near]), [near], 20.0)
    assert [s.decision for s in view.path] == ["in doubt"]
    assert view.end == ""


@pytest.mark.parametrize(
    ("changed", "message"),
    [
        ({"circuit": "radiator-fan-relay"}, "this is a chart of"),
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
        read_chart(document(**changed), ambient)
    assert any(message in problem.message for problem in caught.value.problems)


def test_no_mapping_is_no_chart() -> None:
    with pytest.raises(CircuitDocumentError, match="expected a chart"):
        read_chart(["not", "a", "chart"])


def test_pass_chances_follow_the_predictions(chart: ChartDocument, ambient_predictor: Predictor) -> None:
    hypotheses = ambient_predictor.hypotheses
    step = chart.steps["1"]
    chance = pass_chance(step, ambient_predictor.display_of(limit_test(ambient_predictor.circuit, step)))
    assert chance[0] > 0.95
    assert chance[hypotheses.index("W1.open")[0]] < 0.05
    assert chance[hypotheses.index("B9.open")[0]] > 0.95, "the sensor is unplugged: its fault does not show here"


def test_a_chart_that_never_tests_the_wire_condemns_more_good_parts(chart: ChartDocument, ambient_predictor: Predictor) -> None:
    circuit = ambient_predictor.circuit
    result = compare(chart, ambient_predictor, update(ambient_predictor, []), Bench(circuit.rest_setup()))
    assert 0.0 < result.covered <= 1.0
    assert result.own_right > result.chart_right
    assert result.own_wrong <= result.chart_wrong
    assert result.own_loss < result.chart_loss
    assert result.chart_minutes > 0
    assert set(result.worth) == {"1", "2"}
    assert max(result.worth.values()) > 0


def test_minutes_of_a_chart_by_hand(chart: ChartDocument, ambient_predictor: Predictor) -> None:
    """Step 1: key 0.2, plug reached 3 and parted 0.3, black lead at the battery 0.5, reading 0.4; an open W1 ends there."""
    circuit = ambient_predictor.circuit
    only = circuit.faults["W1.open"]
    belief = update(ambient_predictor, [])
    h = ambient_predictor.hypotheses.index(only.id)[0]
    certain = type(belief)(belief.hypotheses, 0 * belief.now, belief.steps, belief.log_likelihood)
    certain.now[h] = 1.0
    certain.steps[-1][:] = certain.now
    result = compare(chart, ambient_predictor, certain, Bench(circuit.rest_setup()))
    assert result.chart_right == pytest.approx(1.0, abs=0.02)
    assert result.chart_minutes == pytest.approx(0.2 + 3.0 + 0.3 + 0.5 + 0.4, abs=0.05)
