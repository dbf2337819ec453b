"""Set-ups that a vehicle can be in, and the order in which hands get there."""

from __future__ import annotations

from typing import Any

import pytest

from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.document.checks import read_document
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.costs import Situation, after_cranking, made_in, setup_change
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.ranking import candidate_setups, evaluate, ranked_tests
from sondar.core.errors import CircuitDocumentError
from sondar.core.instruments.base import Test
from sondar.core.put_back import Left, to_put_back
from sondar.yaml_text import load_yaml
from tests.conftest import FAN_TEXT


def in_words(circuit: Circuit, now: dict[str, str], apart: set[str], then: dict[str, str], apart_then: set[str]) -> list[str]:
    """The steps from one set-up to another."""
    situation = Situation(circuit.setup(now, frozenset(apart)))
    _, steps, _ = setup_change(circuit, situation, circuit.setup(then, frozenset(apart_then)))
    return [f"{step.kind} {step.target} {step.position}".strip() for step in steps]


def test_connectors_are_parted_with_the_key_off_and_commands_are_given_again(fan: Circuit) -> None:
    commanded = {"key": "on", "fan": "on"}
    assert in_words(fan, commanded, set(), commanded, {"X20"}) == [
        "control key off", "disconnect X20", "control key on", "control fan on",
    ]  # fmt: skip
    assert in_words(fan, commanded, {"X20"}, {}, set()) == ["control key off", "connect X20"]
    assert in_words(fan, commanded, set(), {"key": "on"}, set()) == ["control fan off"]
    assert in_words(fan, {}, set(), commanded, set()) == ["control key on", "control fan on"]


def test_the_way_over_the_key_is_paid_for(fan: Circuit) -> None:
    on, off = fan.setup({"key": "on"}), fan.rest_setup()
    apart = frozenset({"X3"})
    direct, _, _ = setup_change(fan, Situation(off), off.with_unplugged(apart))
    around, _, _ = setup_change(fan, Situation(on), on.with_unplugged(apart))
    assert around == pytest.approx(direct + 2 * fan.document.controls["key"].minutes)


def test_who_only_looks_switches_off_and_leaves_apart_what_is_apart(fan: Circuit) -> None:
    circuit, looking = fan, Predictor(fan, instruments=("voltmeter", "visual-inspection"))
    now = circuit.setup({"key": "on"}, frozenset({"X20"}))
    look = Test("visual-inspection", "W3", circuit.black_reference, circuit.rest_setup())
    assert made_in(circuit, now, look) == circuit.rest_setup().with_unplugged(frozenset({"X20"}))
    proposal = evaluate(looking, update(looking, []), Situation(now), look)
    assert proposal is not None
    assert [(step.kind, step.target, step.position) for step in proposal.steps if step.kind != "reach"] == [
        ("control", "key", "off")
    ]
    belief = update(looking, [])
    _, ranked = ranked_tests(looking, belief, Situation(now, instruments=("visual-inspection",)))
    assert ranked
    assert not [step for one in ranked for step in one.steps if step.kind == "connect"], "nothing is connected for a look"
    measured = Test("voltmeter", "X3.86", circuit.black_reference, circuit.setup({"key": "on"}))
    assert made_in(circuit, now, measured) == measured.setup


@pytest.mark.parametrize(
    ("circuit", "controls", "apart", "why"),
    [
        ("radiator-fan-relay", {"fan": "on"}, set(), "does not go with the other controls"),
        ("radiator-fan-relay", {"key": "run"}, {"X1"}, "needs X1 connected"),
        ("radiator-fan-relay", {"key": "on", "fan": "on"}, {"X1"}, "needs X1 connected"),
        ("lisk-fuel-pump", {"key": "run"}, {"X45"}, "needs X45 connected"),
        ("tessel-crank-sensor", {"engine": "cranking"}, set(), "Engine cranking"),
        ("tessel-crank-sensor", {"key": "run"}, set(), "Engine standing"),
        ("tessel-filter-pressure", {"key": "on", "flow": "high"}, set(), "Exhaust flow high"),
        ("radiator-fan-relay", {"key": "on", "fan": "on"}, {"X20"}, ""),
        ("lisk-brake-switch", {"brake": "pressed"}, {"X36"}, ""),
    ],
)
def test_set_ups_no_vehicle_can_be_in(circuit: str, controls: dict[str, str], apart: set[str], why: str) -> None:
    found = Circuit(load_circuit_text(library_circuits()[circuit]))
    said = found.impossible(found.setup(controls, frozenset(apart)))
    assert (why in said) if why else said == ""


def test_only_possible_set_ups_are_candidates() -> None:
    pump = Circuit(load_circuit_text(library_circuits()["lisk-fuel-pump"]))
    situation = Situation(pump.setup({"key": "on", "pump": "on"}))
    found = candidate_setups(Predictor(pump), situation)
    assert len(found) > 5
    assert not [setup.describe() for setup in found if pump.impossible(setup)]


def changed(**control: Any) -> dict[str, Any]:
    data: dict[str, Any] = load_yaml(FAN_TEXT)
    data["controls"]["fan"].update(control)
    return data


@pytest.mark.parametrize(
    ("control", "place"),
    [
        ({"requires": {"half": {"key": "on"}}}, ("controls", "fan", "requires", "half")),
        ({"requires": {"on": {"kee": "on"}}}, ("controls", "fan", "requires", "on", "kee")),
        ({"excludes": {"on": {"key": "start"}}}, ("controls", "fan", "excludes", "on", "key")),
        ({"needs": {"on": ["X1", "X99"]}}, ("controls", "fan", "needs", "on", 1)),
        ({"requires": {"off": {"key": "on"}}}, ("controls", "fan")),
    ],
)
def test_mistakes_are_located(control: dict[str, Any], place: tuple[str | int, ...]) -> None:
    with pytest.raises(CircuitDocumentError) as caught:
        read_document(changed(**control))
    assert place in [problem.path for problem in caught.value.problems]


def test_nobody_goes_on_cranking_while_the_next_reading_is_prepared() -> None:
    circuit = Circuit(load_circuit_text(library_circuits()["tessel-crank-sensor"]))
    cranking, standing = circuit.setup({"key": "run", "engine": "cranking"}), circuit.setup({"key": "on"})
    again, steps, _ = setup_change(circuit, Situation(cranking), cranking)
    assert again > 0.0
    assert steps
    assert setup_change(circuit, Situation(cranking), standing)[0] < again


def test_after_cranking_the_engine_stands_and_the_key_is_on() -> None:
    circuit = Circuit(load_circuit_text(library_circuits()["tessel-crank-sensor"]))
    cranking = circuit.setup({"key": "on", "engine": "cranking"})
    assert after_cranking(circuit, dict(cranking.controls)) == dict(circuit.setup({"key": "on"}).controls)
    left = Left(3, circuit, dict(cranking.controls), [])
    assert [item.title for item in to_put_back([left])] == ["Key: back to off"], (
        "who let go of the starter need not stop the engine"
    )
