"""What becomes known of a circuit, written into its file without touching what readings refer to."""

from __future__ import annotations

import pytest

from sondar.circuit_edits import Fill, filled_in, known_of
from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.code_library import circuit_templates, circuit_text
from sondar.core.circuit.network import Circuit
from sondar.core.errors import InvalidError

VALVE = circuit_text(circuit_templates()["valve-pulsed"], {"make": "Brigg"}, "purge valve")


def test_ranges_come_first_and_are_open() -> None:
    known = known_of(VALVE)
    assert [(one.id, one.field, one.value, one.open) for one in known[:1]] == [("Y", "coil_ohm", "3 to 40", True)]
    assert not any(one.open for one in known[1:])
    assert {(one.kind, one.field) for one in known} >= {("wire", "colour"), ("connector", "place"), ("part", "title")}


def test_a_figure_a_colour_and_a_place() -> None:
    document, text, said = filled_in(
        VALVE,
        [
            Fill("part", "Y", "coil_ohm", "24 to 28 Ω"),
            Fill("wire", "W1", "colour", "RD/YE"),
            Fill("connector", "X2", "place", "inlet manifold"),
        ],
    )
    assert document.wires["W1"].colour == "red/yellow"
    assert document.connectors["X2"].place == "inlet manifold"
    assert said == "Y coil resistance 24 to 28 Ω; W1 colour red/yellow; X2 place inlet manifold"
    assert next(one for one in known_of(text) if one.field == "coil_ohm").value == "24 to 28"
    exact, _, _ = filled_in(text, [Fill("part", "Y", "coil_ohm", "26")])
    assert exact.parts["Y"].coil_ohm == 26  # type: ignore[attr-defined]


def test_nothing_that_readings_refer_to_is_changed() -> None:
    before, after = (
        Circuit(load_circuit_text(text)) for text in (VALVE, filled_in(VALVE, [Fill("part", "Y", "coil_ohm", "26")])[1])
    )
    assert [point.ref for point in before.points.values()] == [point.ref for point in after.points.values()]
    assert before.faults.keys() == after.faults.keys()


@pytest.mark.parametrize("name", ["tern-coolant-temperature", "radiator-fan-relay", "tern-accelerator"])
def test_library_files_keep_everything_else(name: str) -> None:
    text = library_circuits()[name]
    wire = next(iter(load_circuit_text(text).wires))
    before = load_circuit_text(text)
    after, made, _ = filled_in(text, [Fill("wire", wire, "colour", "pink")])
    assert after.wires[wire].colour == "pink"
    again, _, _ = filled_in(made, [Fill("wire", wire, "colour", before.wires[wire].colour)])
    assert again == before


@pytest.mark.parametrize(
    ("fill", "words"),
    [(Fill("wire", "W99", "colour", "red"), "no 'colour'"), (Fill("wire", "W1", "from", "X1.1"), "no 'from'"),
     (Fill("part", "Y", "family", "lamp"), "no 'family'"), (Fill("wire", "W1", "colour", "bl"), "black or blue"),
     (Fill("part", "Y", "coil_ohm", "8 to 7"), "smaller figure first"), (Fill("part", "Y", "coil_ohm", ""), "range such as 7 to 8"),
     (Fill("part", "Y", "coil_ohm", "many"), ""), (Fill("part", "Y", "coil_ohm", "-3"), ""), (Fill("wire", "W1", "gauge_mm2", "thick"), ""),
     (Fill("part", "Y", "title", "x" * 300), "longer than")],
)  # fmt: skip
def test_what_cannot_be_filled_in_is_said_at_its_place(fill: Fill, words: str) -> None:
    with pytest.raises(InvalidError) as caught:
        filled_in(VALVE, [Fill("wire", "W2", "colour", "red"), fill])
    assert words in caught.value.detail
    assert [problem.path for problem in caught.value.problems] in ([("changes", 1, "value")], [])
    assert caught.value.detail


def test_a_pin_has_the_number_of_the_vehicle_and_readings_keep_the_cavity() -> None:
    document, text, said = filled_in(VALVE, [Fill("connector", "X1", "pin 3", "57")])
    circuit = Circuit(document)
    assert said == "X1 cavity 3 pin 57"
    assert circuit.point("X1.3").title == "Module plug X1, cavity 3 (pin 57), wire side"
    assert next(one.value for one in known_of(text) if one.field == "pin 3" and one.id == "X1") == "57"
    assert load_circuit_text(filled_in(text, [Fill("connector", "X1", "pin 3", "")])[1]) == load_circuit_text(VALVE)
    for wrong in (Fill("connector", "X1", "pin 9", "57"), Fill("connector", "X1", "pin 3", "fifty seven")):
        with pytest.raises(InvalidError):
            filled_in(VALVE, [wrong])


def test_taking_a_colour_away_is_possible() -> None:
    coloured = filled_in(VALVE, [Fill("wire", "W1", "colour", "red")])[1]
    assert load_circuit_text(filled_in(coloured, [Fill("wire", "W1", "colour", "")])[1]) == load_circuit_text(VALVE)
