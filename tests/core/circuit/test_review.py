"""What is wrong with a whole circuit is said when it is loaded, not weeks later when somebody measures by it."""

from __future__ import annotations

import random
from collections.abc import Callable

import pytest

from sondar.circuit_files import CircuitFileError, doubts_in, library_circuits, load_circuit_text
from sondar.core.circuit.network import Circuit
from sondar.core.solving.solver import SetupSolver
from tests.conftest import FAN_TEXT


def problems(text: str) -> list[tuple[str, str]]:
    with pytest.raises(CircuitFileError) as caught:
        load_circuit_text(text)
    assert all(problem.line for problem in caught.value.problems)
    return [(problem.field, problem.message) for problem in caught.value.problems]


def changed(old: str, new: str) -> str:
    assert old in FAN_TEXT
    return FAN_TEXT.replace(old, new)


@pytest.mark.parametrize(
    ("text", "field", "said"),
    [
        (changed("with: functional-check", "with: functional-chek"), "limits.M5-acts.with", "did you mean functional-check?"),
        (changed("word: operates", "word: operats"), "limits.M5-acts.word", "did you mean operates or"),
        (changed("coil_ohm: 85", "coil_ohm: 85e12"), "parts.K3.coil_ohm", "is in no road vehicle"),
        (changed("gauge_mm2: 6,", "gauge_mm2: 6000,"), "wires.W1.gauge_mm2", "is in no road vehicle"),
        (changed("price: 140", "price: 14000000"), "parts.M5.price", "is in no road vehicle"),
        (changed("W4: {from: X20.2, to: G1.stud", "W4: {from: X20.2, to: F14.2"), "parts.G1", "joins nothing"),
        (changed("  - [BAT.neg, chassis]", "  - [BAT.neg, chassis]\n  - [BAT.pos, G1.stud]"), "parts.G1", "shorted to ground by"),
        (changed("  - [BAT.neg, chassis]", "  - [BAT.neg, chassis]\n  - [F14.2, G1.stud]"), "wires.W1", "shorted to ground by"),
    ],
)
def test_each_is_located_and_says_what_to_do(text: str, field: str, said: str) -> None:
    found = problems(text)
    assert any(name == field and said in message for name, message in found), found


def test_a_part_without_a_way_back_is_an_error() -> None:
    text = (
        changed("W9: {from: X1.40, to: G2.stud", "W9: {from: X1.40, to: X1.41")
        .replace('cavities: {"23": DRV.out, "40": DRV.gnd}', 'cavities: {"23": DRV.out, "40": DRV.gnd, "41": G3.stud}')
        .replace(
            "  G2: {family: ground_point, title: Module ground, place: plenum}",
            "  G3: {family: splice, title: Splice, legs: [stud, far]}",
        )
    )
    found = problems(text)
    assert {field for field, _ in found} >= {"parts.DRV"} or any("joins nothing" in message for _, message in found), found


def test_the_library_has_none_of_this() -> None:
    for name, text in library_circuits().items():
        assert doubts_in(text, Circuit(load_circuit_text(text))) == [], name


@pytest.mark.parametrize(
    ("text", "field", "said"),
    [
        (
            changed("min: 11.2, max: 12, typical: 11.58, source: predicted", "min: 4, max: 5"),
            "limits.X20-1-voltage",
            "shows about 11.",
        ),
        (changed("rating_a: 40", "rating_a: 10"), "parts.F14", "would blow in a healthy vehicle"),
    ],
)
def test_what_may_be_meant_is_a_note_with_its_line(text: str, field: str, said: str) -> None:
    found = doubts_in(text, Circuit(load_circuit_text(text)))
    assert [note.field for note in found if said in note.message] == [field], found
    assert all(note.line for note in found)


def bulbs(seed: int) -> str:
    """Bulbs, motors and resistors joined at random between a fuse and a ground."""
    chance = random.Random(seed)
    count = chance.randint(2, 7)
    kinds: list[Callable[[], str]] = [
        lambda: f"family: lamp, rated_v: {chance.choice([6, 12, 24])}, rated_w: {chance.choice([1.2, 5, 21, 55])}",
        lambda: f"family: resistor, resistance_ohm: {10 ** chance.uniform(-1, 4):.4g}",
        lambda: f"family: dc_motor, rated_v: 13, rated_a: {chance.choice([1, 5, 20])}, armature_ohm: 0.1",
    ]
    parts = [f"  E{i}: {{{chance.choice([kinds[0], kinds[0], *kinds])()}, title: Part {i}}}" for i in range(count)]
    plugs = [f'  X{i}: {{title: Plug {i}, cavities: {{"1": E{i}.1, "2": E{i}.2}}}}' for i in range(count)]
    wires = ["  W0: {from: BAT.pos, to: F1.1}", "  W1: {from: F1.2, to: X0.1}"]
    for i in range(count):
        for side in (1, 2):
            ends = ["F1.2", "G1.stud", *(f"X{j}.{s}" for j in range(i) for s in (1, 2))]
            wires.append(f"  W{len(wires)}: {{from: X{i}.{side}, to: {chance.choice(ends)}}}")
    return "\n".join([
        "sondar: 1", f"id: bulbs-{seed}", "title: Bulbs", "vehicle: {make: Halden, model: Tern}", "complaint: Dark.", "parts:",
        "  BAT: {family: battery, title: Battery}", "  F1: {family: fuse, title: Fuse, rating_a: 20}",
        "  G1: {family: ground_point, title: Ground}", *parts, "connectors:", *plugs, "wires:", *wires, "joins:", "  - [BAT.neg, chassis]", "",
    ])  # fmt: skip


def test_no_circuit_that_loads_fails_to_solve() -> None:
    """A quarter of these did not settle when each step was judged by its largest voltage alone."""
    loaded = 0
    for seed in range(90):
        try:
            circuit = Circuit(load_circuit_text(bulbs(seed)))
        except CircuitFileError:
            continue
        loaded += 1
        changes = [severity.changes for fault in circuit.faults.values() for severity in fault.severities]
        ends = [(circuit.node(f"X0.{side}"), circuit.node("BAT.neg")) for side in (1, 2)]
        points = SetupSolver(circuit, circuit.rest_setup(20.0), ends, samples=1).solve([(), *changes])
        assert abs(points.volts[0, 0]).max() < 15.0, "within what the battery gives"
    assert loaded > 30
