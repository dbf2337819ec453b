"""The benchmarks of vehicles that nobody has described draw what they say, from outside what they judge."""

from __future__ import annotations

import numpy as np

from benchmarks import undescribed, wires
from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.code_library import circuit_templates
from sondar.core.circuit.document.checks import read_document
from sondar.core.describing.templates import circuit_document


def test_plugs_are_shuffled_partly_faulty_and_half_from_the_library() -> None:
    rng = np.random.default_rng(2)
    drawn = [wires.draw(rng) for _ in range(40)]
    from_library = [plug for plug in drawn if plug.name in library_circuits()]
    assert 10 < len(from_library) < 30
    assert 4 < sum(plug.faulty for plug in drawn) < 22
    assert any(plug.order != tuple(sorted(plug.order)) for plug in drawn)
    assert all(sorted(plug.order) == list(range(len(plug.carries))) for plug in drawn)


def test_the_plugs_of_the_library_are_there() -> None:
    for (name, connector), carries in wires.LIBRARY_PLUGS.items():
        assert len(load_circuit_text(library_circuits()[name]).connectors[connector].cavities) == len(carries), name


def test_a_plug_is_read_at_its_own_places() -> None:
    rng = np.random.default_rng(5)
    plug = next(p for p in (wires.draw(rng) for _ in range(200)) if p.name == "tessel-purge-valve" and not p.faulty)
    at_supply = plug.read(plug.truth.index("supply") + 1, "on")
    assert at_supply is not None
    assert at_supply > 11.0


def test_the_truth_has_figures_from_the_whole_range_and_sometimes_another_structure() -> None:
    rng = np.random.default_rng(3)
    item = circuit_templates()["pressure-three-wire"]
    data = circuit_document(item, {"make": "Brigg"})
    (place, (low, high)), *_ = undescribed._figures(data).items()
    assert (place, low, high) == (("IN", "pull_ohm"), 5e4, 5e5)
    data["parts"]["IN"]["pull_ohm"] = 1e5
    made = circuit_document(item, {"make": "Brigg"}) | {"parts": data["parts"]}
    drawn = [undescribed._other_structure(made, rng) for _ in range(24)]
    done = {what for what, _ in drawn}
    assert {undescribed.kind_of(what) for what in done} == {"a known variant", "off the drawing"}
    assert "pull-up-in" in done
    assert all(read_document(other) != read_document(made) for _, other in drawn)
    assert made["parts"]["IN"]["pull_ohm"] == 1e5, "the data that it was drawn from stays"


def test_a_case_is_a_vehicle_and_what_is_known_of_it() -> None:
    case = undescribed.draw("valve-pulsed", np.random.default_rng(4))
    typical = read_document(circuit_document(circuit_templates()["valve-pulsed"], {"make": "Brigg"}))
    assert case.typical == typical
    assert read_document(case.published) != typical, "the published figures are narrower"
    assert case.units
    measured = case.vehicle.measure("voltmeter", "BAT.pos", "BAT.neg", case.vehicle.circuit.rest_setup())[0]
    assert measured is not None
    assert 9.0 < measured < 16.0
