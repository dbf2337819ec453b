from __future__ import annotations

import pytest

from sondar.circuit_files import library_circuits
from sondar.core.circuit.drawing import draw
from sondar.core.circuit.network import Circuit
from tests.conftest import circuit_of


@pytest.mark.parametrize("name", ["fan", "ambient", "latch"])
def test_everything_is_drawn_once_from_feed_down_to_ground(name: str, request: pytest.FixtureRequest) -> None:
    circuit: Circuit = request.getfixturevalue(name)
    drawing = draw(circuit)
    ids = [e.id for e in drawing.elements]
    assert len(ids) == len(set(ids))
    for wire in circuit.document.wires:
        assert wire in ids
    assert all(e.bottom > e.top for e in drawing.elements)
    assert drawing.depth == pytest.approx(max(e.bottom for e in drawing.elements))
    points = {m.ref for m in drawing.marks if m.kind == "point"}
    wired = {n for b in circuit.branches(circuit.rest_setup()) if b.part != "BAT" and b.resistance_ohm < 1e9 for n in (b.a, b.b)}
    missing = {p.ref for p in circuit.points.values() if p.node in wired} - points - {"chassis", "BAT.neg"}
    assert not missing


@pytest.mark.parametrize("name", ["fan", "ambient", "latch"])
def test_no_two_elements_share_a_place(name: str, request: pytest.FixtureRequest) -> None:
    drawing = draw(request.getfixturevalue(name))
    for i, one in enumerate(drawing.elements):
        for two in drawing.elements[i + 1 :]:
            if one.column == two.column:
                assert one.bottom <= two.top + 1e-9 or two.bottom <= one.top + 1e-9, (one.id, two.id)


def test_drawing_is_the_same_every_time(latch: Circuit) -> None:
    assert draw(latch) == draw(latch)


def test_the_simple_circuits_have_no_crossings(fan: Circuit, ambient: Circuit) -> None:
    assert draw(fan).crossings == draw(ambient).crossings == 0
    assert draw(ambient).columns == 1


@pytest.mark.parametrize("name", list(library_circuits()))
def test_every_library_circuit_is_drawn_without_crossings_and_modules_hold_only_their_own(name: str) -> None:
    circuit = circuit_of(library_circuits()[name])
    drawing = draw(circuit)
    assert drawing.crossings == 0
    for region in drawing.regions:
        inside = [e for e in drawing.elements if e.column == region.column and region.top <= e.top and e.bottom <= region.bottom]
        assert {e.module for e in inside} == {region.module}
    drawn = {e.part for e in drawing.elements}
    assert set(circuit.document.wires) <= drawn
    assert {i for i, p in circuit.document.parts.items() if p.family not in ("battery", "splice")} <= drawn | {"BAT"}
