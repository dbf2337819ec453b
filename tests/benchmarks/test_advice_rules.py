"""The rules of the trade find what breaks them, and what is proposed breaks none."""

from __future__ import annotations

from dataclasses import replace

import pytest

from benchmarks import advice
from benchmarks.advice import RULES, Said, play
from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.costs import Situation, Step
from sondar.core.diagnosis.judge import judge
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.base import Test

Bad = tuple[str, str, str, str, str, dict[str, str], tuple[str, ...]]
BAD: list[Bad] = [
    ("no_forbidden_load", "lisk-throttle-position", "lamp-21w", "X38.1", "BAT.neg", {"key": "on"}, ()),
    ("no_forbidden_load", "lisk-throttle-position", "lamp-5w", "BAT.pos", "X38.3", {"key": "on"}, ()),
    ("no_forbidden_load", "lisk-modules-and-bus", "loaded-circuit-test", "X12.3", "BAT.neg", {"key": "on"}, ()),
    ("no_forbidden_supply", "radiator-fan-relay", "applied-supply", "X1.23", "X1.40", {}, ()),
    ("possible", "tessel-filter-pressure", "voltmeter", "X59.2", "BAT.neg", {"key": "on", "flow": "high"}, ()),
    ("possible", "radiator-fan-relay", "voltmeter", "X3.30", "BAT.neg", {"key": "run"}, ("X1",)),
    ("possible", "radiator-fan-relay", "voltmeter", "X3.30", "BAT.neg", {"key": "on", "fan": "on"}, ("X1",)),
    ("no_ohms_on_electronics", "tern-rail-pressure", "ohmmeter", "X41.1", "X41.3", {}, ()),
    ("no_ohms_on_electronics", "radiator-fan-relay", "ohmmeter", "X20.1", "X20.2", {"key": "on"}, ()),
    ("no_meter_on_a_dead_module", "tern-rail-pressure", "voltmeter", "X1.50/c", "X1.40/c", {}, ("X1",)),
    ("command_before_listening", "radiator-fan-relay", "functional-check", "M5", "BAT.neg", {"key": "on"}, ()),
    ("quick_plug_first", "tern-accelerator", "voltmeter", "X1.56", "BAT.neg", {"key": "on"}, ()),
    ("no_hot_parts_by_hand", "orvane-front-oxygen", "functional-check", "R22", "BAT.neg", {"key": "run"}, ()),
    ("command_first", "radiator-fan-relay", "ohmmeter", "X3.87", "BAT.neg", {}, ()),
]  # fmt: skip


def said_of(circuit: Circuit, test: Test, done: tuple[Test, ...] = (), steps: tuple[Step, ...] = ()) -> Said:
    """A proposal as if it had been made; what it promises is that of a real one."""
    rest = circuit.rest_setup()
    real = judge(Predictor(circuit), [], Situation(rest)).ranking.proposals[0]
    return Said(circuit, replace(real, test=test, steps=steps), rest, done, frozenset())


@pytest.mark.parametrize(("rule", "name", "instrument", "red", "black", "controls", "apart"), BAD)
def test_each_rule_finds_what_breaks_it(
    rule: str, name: str, instrument: str, red: str, black: str, controls: dict[str, str], apart: tuple[str, ...]
) -> None:
    circuit = Circuit(load_circuit_text(library_circuits()[name]))
    said = said_of(circuit, Test(instrument, red, black, circuit.setup(controls, frozenset(apart))))
    assert list(getattr(advice, rule)(said))


def test_what_is_repeated_and_what_is_done_in_the_wrong_order_is_found(fan: Circuit) -> None:
    test = Test("voltmeter", "X3.30", "BAT.neg", fan.setup({"key": "on"}, frozenset({"X20"})))
    assert list(advice.not_again(said_of(fan, test, (test,))))
    assert not list(advice.not_again(said_of(fan, test)))
    wrong = (Step("control", "key", "on"), Step("disconnect", "X20"))
    right = (Step("disconnect", "X20"), Step("control", "key", "on"))
    assert list(advice.in_the_order_of_hands(said_of(fan, test, steps=wrong)))
    assert not list(advice.in_the_order_of_hands(said_of(fan, test, steps=right)))


@pytest.mark.parametrize("name", ["radiator-fan-relay", "lisk-throttle-position", "tern-tail-lamps", "orvane-front-oxygen"])
def test_the_first_steps_break_no_rule(name: str) -> None:
    played = play(name, faults=2, steps=6, seed=11)
    assert played.proposals >= 6
    assert not played.broken
    assert len(RULES) == 11
