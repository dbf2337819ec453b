"""How a circuit is built where nobody has seen its sheet: the readings decide, and a circuit built otherwise is not called a fault."""

from __future__ import annotations

from dataclasses import replace
from functools import cache
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sondar.circuit_files import CircuitFileError, load_circuit_text, variants_in
from sondar.code_library import circuit_templates, circuit_text
from sondar.core.circuit.document.variants import difference, merged
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.judge import Judgement, judge
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.variants import AS_DRAWN, Way, certainty_of, considered, offered
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.simulators.vehicle import SimulatedVehicle
from sondar.yaml_text import load_yaml


@cache
def text(template: str) -> str:
    return circuit_text(circuit_templates()[template], {"make": "Brigg"})


@cache
def drawn(template: str) -> tuple[Predictor, tuple[Way, ...]]:
    ways = (Way(k, one.title, one.share, Predictor(Circuit(made))) for k, (one, made) in variants_in(text(template)).items())
    return Predictor(Circuit(load_circuit_text(text(template)))), tuple(ways)


def vehicle(template: str, variant: str, fault: str = "", severity: str = "") -> SimulatedVehicle:
    documents = variants_in(text(template))
    circuit = Circuit(documents[variant][1] if variant else load_circuit_text(text(template)))
    return SimulatedVehicle(circuit, [(fault, severity)] if fault else [], 3)


def read(template: str, real: SimulatedVehicle, points: list[tuple[str, str, dict[str, str], tuple[str, ...]]]) -> Judgement:
    predictor, ways = drawn(template)
    readings = []
    for number, (device, red, controls, apart) in enumerate(points):
        test = Test(device, red, predictor.circuit.black_reference, predictor.circuit.setup(controls, frozenset(apart), 20.0))
        value, word = real.measure(device, test.red, test.black, test.setup)
        readings.append(Reading(str(number), test, value, word))
    return judge(predictor, readings, Situation(predictor.circuit.rest_setup(20.0)), ways=ways)


@pytest.mark.parametrize(
    ("template", "variant", "points"),
    [
        ("solenoid-low-side", "permanent", [("voltmeter", "X2.1", {"key": "off"}, ())]),
        ("solenoid-low-side", "other-side",
         [("voltmeter", "X2.1", {"key": "on"}, ()), ("voltmeter", "X2.2", {"key": "on"}, ()),
          ("voltmeter", "X2.1", {"key": "on", "valve": "on"}, ())]),
        ("pressure-three-wire", "pull-up-in", [("voltmeter", "X2.2", {"key": "on"}, ("X2",))]),
    ],
)  # fmt: skip
def test_readings_of_a_healthy_vehicle_show_how_it_is_built(template: str, variant: str, points: list[Any]) -> None:
    found = read(template, vehicle(template, variant), points)
    taken = offered(found.ways)
    assert taken is not None
    assert taken.way.id == variant
    assert found.ranking.certainty < 0.95 or found.ranking.leading == ("none",)
    as_drawn = read(template, vehicle(template, ""), points)
    assert offered(as_drawn.ways) is None
    assert as_drawn.ways.drawn > 0.8


def test_a_circuit_built_otherwise_is_not_condemned_before_it_is_known_how_it_is_built() -> None:
    predictor, _ = drawn("solenoid-low-side")
    points = [("voltmeter", "X2.1", {"key": "off"}, ()), ("voltmeter", "F1.2", {"key": "off"}, ())]
    readings = read("solenoid-low-side", vehicle("solenoid-low-side", "permanent"), points).readings
    without = judge(predictor, readings, Situation(predictor.circuit.rest_setup(20.0)))
    assert without.ranking.leading[0] == "IGN", "12 V with the key off looks like a contact that stays closed"
    found = read("solenoid-low-side", vehicle("solenoid-low-side", "permanent"), points)
    assert found.ranking.certainty < 0.5 < without.ranking.certainty


def test_what_tells_how_it_is_built_is_asked_for_before_a_call() -> None:
    predictor, _ = drawn("solenoid-low-side")
    found = read("solenoid-low-side", vehicle("solenoid-low-side", ""), [("voltmeter", "X2.1", {"key": "on"}, ())])
    called = replace(found.ranking, settled=True, reason="certain", leading=("Y",), certainty=0.97)
    ranking = considered(predictor, found.belief, called, found.situation, found.ways)
    assert (ranking.settled, ranking.reason) == (False, "ways")
    assert ranking.certainty < found.situation.decision_threshold
    first = ranking.proposals[0]
    assert first.test.instrument == "voltmeter"
    assert first.minutes > 0.0
    assert considered(predictor, found.belief, called, found.situation, AS_DRAWN) == called, "nothing to tell apart"


@given(st.floats(0.0, 1.0))
def test_certainty_over_all_ways_is_a_probability(drawn_share: float) -> None:
    predictor, _ = drawn("solenoid-low-side")
    found = read("solenoid-low-side", vehicle("solenoid-low-side", "permanent"), [("voltmeter", "X2.1", {"key": "off"}, ())])
    assert found.ways.drawn + sum(one.probability for one in found.ways.others) == pytest.approx(1.0)
    certainty = certainty_of(predictor, ("Y",), drawn_share, found.ways)
    assert 0.0 <= certainty <= 1.0
    assert certainty >= found.ways.drawn * drawn_share - 1e-12


def test_a_way_without_the_points_that_were_measured_at_is_not_offered() -> None:
    found = read(
        "solenoid-low-side", vehicle("solenoid-low-side", ""),
        [("voltmeter", "F1.2", {"key": "on"}, ()), ("voltmeter", "X2.1", {"key": "on"}, ())],
    )  # fmt: skip
    other = next(one for one in found.ways.others if one.way.id == "other-side")
    assert not other.complete
    assert other.probability < other.way.share, "a fuse that was measured at is there"


def test_a_variant_that_makes_no_circuit_is_refused_with_its_place() -> None:
    bad = text("solenoid-low-side").replace("family: high_side_driver", "family: high_side_drivr", 1)
    assert bad != text("solenoid-low-side")
    with pytest.raises(CircuitFileError, match=r"variants\.other-side.*so changed") as refused:
        load_circuit_text(bad)
    assert all(problem.line and problem.line > 20 for problem in refused.value.problems)


# The examples of RFC 7386, appendix A, that are about objects.
@pytest.mark.parametrize(
    ("value", "patch", "result"),
    [
        ({"a": "b"}, {"a": "c"}, {"a": "c"}), ({"a": "b"}, {"b": "c"}, {"a": "b", "b": "c"}), ({"a": "b"}, {"a": None}, {}),
        ({"a": "b", "b": "c"}, {"a": None}, {"b": "c"}), ({"a": ["b"]}, {"a": "c"}, {"a": "c"}), ({"a": "c"}, {"a": ["b"]}, {"a": ["b"]}),
        ({"a": {"b": "c"}}, {"a": {"b": "d", "c": None}}, {"a": {"b": "d"}}), ({"a": [{"b": "c"}]}, {"a": [1]}, {"a": [1]}),
        ({"e": None}, {"a": 1}, {"e": None, "a": 1}), ({}, {"a": {"bb": {"ccc": None}}}, {"a": {"bb": {}}}), ({"a": "foo"}, "bar", "bar"),
    ],
)  # fmt: skip
def test_merge_patches_are_those_of_the_standard(value: object, patch: object, result: object) -> None:
    assert merged(value, patch) == result


leaf = st.integers(0, 3)
plain = leaf | st.dictionaries(st.sampled_from("abc"), leaf | st.dictionaries(st.sampled_from("ab"), leaf, max_size=2), max_size=3)


@given(st.dictionaries(st.sampled_from("abc"), plain), st.dictionaries(st.sampled_from("abc"), plain))
def test_the_difference_of_two_makes_one_into_the_other(one: dict[str, Any], two: dict[str, Any]) -> None:
    assert merged(one, difference(one, two)) == two


def test_every_variant_of_every_typical_circuit_can_be_judged() -> None:
    """Each differs from what is drawn in something that a meter shows, healthy."""
    seen = 0
    for name in circuit_templates():
        data = load_yaml(text(name))
        for key, (variant, document) in variants_in(text(name)).items():
            seen += 1
            assert variant.title
            assert document != load_circuit_text(text(name)), f"{name}: {key}"
            assert set(document.connectors) == set(data.get("connectors", {})), f"{name}: {key}"
    assert seen >= 45
