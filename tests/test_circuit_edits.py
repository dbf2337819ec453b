"""What becomes known of a circuit, written into its file without touching what readings refer to."""

from __future__ import annotations

from typing import Any

import pytest

from sondar.circuit_edits.comparing import versions_compared
from sondar.circuit_edits.filling import Fill, filled_in, known_of
from sondar.circuit_edits.inserting import Insertion, with_insertion
from sondar.circuit_edits.limits import NewLimit, with_limit, without_limit
from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.code_library import circuit_templates, circuit_text
from sondar.core.circuit.network import Circuit
from sondar.core.errors import InvalidError
from sondar.core.instruments import displays
from sondar.core.instruments.base import Population, Test
from sondar.core.instruments.reading import Reading
from sondar.core.limits.card import limits_card
from sondar.core.limits.condition import limit_test
from sondar.core.solving.fuses import blown_fuses
from sondar.core.wording.labels import expected_range

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


def coil(**more: Any) -> NewLimit:
    given = {"title": "Valve winding", "instrument": "ohmmeter", "red": "X2.1/c", "black": "X2.2/c", "source": "manufacturer"}
    return NewLimit(**{**given, "least": "24 Ω", "most": "28", "unplugged": ("X2",), "when": {"key": "off"}, **more})


def test_a_limit_of_ones_own_stands_in_the_file_and_is_judged_by() -> None:
    document, text, said = with_limit(VALVE, coil(note="Sheet 14, page 2", copper_at_c=20.0, typical="26"))
    limit = document.limits["valve-winding"]
    assert (limit.min, limit.max, limit.typical, limit.copper_at_c) == (24.0, 28.0, 26.0, 20.0)
    assert (limit.source, limit.note, limit.unplugged) == ("manufacturer", "Sheet 14, page 2", ["X2"])
    assert said == "limit added: Valve winding, 24 to 28"
    test = limit_test(Circuit(document), limit)
    reading = Reading("r1", test, 33.0, None, 0.05)
    [card] = limits_card(Circuit(document), [reading])
    assert (card.decision, card.source) == ("fail", "manufacturer")
    again, text, said = with_limit(text, coil(id="valve-winding", most="35"))
    assert (again.limits["valve-winding"].max, said) == (35.0, "limit changed: Valve winding, 24 to 35")
    second, _, _ = with_limit(text, coil())
    assert list(second.limits) == ["valve-winding", "valve-winding-2"]
    gone, _, said = without_limit(text, "valve-winding")
    assert (gone, said) == (load_circuit_text(VALVE), "limit taken away: Valve winding")


def test_a_finding_can_be_a_limit() -> None:
    wanted = coil(instrument="visual-inspection", red="Y", black="", least="", most="", word="OK", unplugged=())
    document, _, said = with_limit(VALVE, wanted)
    assert document.limits["valve-winding"].word == "OK"
    assert said == "limit added: Valve winding, OK"


CANNOT_BE_KEPT: list[tuple[dict[str, Any], str]] = [
    ({"least": "", "most": ""}, "least"),
    ({"least": "many"}, "least"),
    ({"least": "40", "most": "3"}, "valve-winding"),
    ({"red": "X77.1"}, "red"),
    ({"instrument": "crystal-ball"}, "test.instrument"),
    ({"id": "nothing"}, "id"),
    ({"when": {"key": "sideways"}}, "key"),
]


@pytest.mark.parametrize(("change", "field"), CANNOT_BE_KEPT)
def test_a_limit_that_cannot_be_kept_says_at_which_field(change: dict[str, Any], field: str) -> None:
    with pytest.raises(InvalidError) as refused:
        with_limit(VALVE, coil(**change))
    assert any(field in one.field or field in one.message for one in refused.value.problems), refused.value.problems


@pytest.mark.parametrize(
    "wanted",
    [
        Insertion("W1", "connector", "X90", "Boot connector", "under the sill", "3"),
        Insertion("W1", "fuse", "12", rating_a=10.0),
        Insertion("W1", "joint"),
    ],
)
def test_what_is_in_a_wire_can_fail_and_no_point_is_lost(wanted: Insertion) -> None:
    before = Circuit(load_circuit_text(VALVE))
    document, _, said = with_insertion(VALVE, wanted)
    after = Circuit(document)
    assert before.points.keys() <= after.points.keys()
    assert set(before.faults) <= set(after.faults)
    name = next(
        name
        for name in (*document.parts, *document.connectors)
        if name not in (*before.document.parts, *before.document.connectors)
    )
    assert name in said
    assert any(fault.part.startswith(name) for fault in after.faults.values()), "what is in the wire is a suspect"
    assert (
        document.wires["W1"].length_m == document.wires["W1-2"].length_m == pytest.approx(before.document.wires["W1"].length_m / 2)
    )
    assert healthy(before) == healthy(after)


def healthy(circuit: Circuit) -> list[str]:
    setup = circuit.setup({"key": "on"}, frozenset(), 20.0)
    tests = tuple(Test("voltmeter", f"X2.{cavity}", circuit.black_reference, setup) for cavity in ("1", "2"))
    population = Population(circuit, setup, [()], blown_fuses(circuit, [()], 20.0), [None], 1)
    shown = displays(population, tests)["voltmeter"]
    return [expected_range(shown.at(number))[0] for number in range(len(tests))]


def test_a_second_wire_goes_through_the_same_connector() -> None:
    _, text, _ = with_insertion(VALVE, Insertion("W1", "connector", "X90"))
    document, _, _ = with_insertion(text, Insertion("W2", "connector", "X90"))
    assert list(document.connectors["X90"].cavities) == ["1", "2"]


@pytest.mark.parametrize(
    ("wanted", "field"),
    [
        (Insertion("W99", "joint"), "wire"), (Insertion("W1", "fuse", "F1", rating_a=5.0), "name"), (Insertion("W1", "fuse", "F7"), "rating_a"),
        (Insertion("W1", "connector", "X2"), "name"), (Insertion("W1", "connector", "Y"), "name"),
    ],
)  # fmt: skip
def test_an_insertion_that_cannot_be_made_says_at_which_field(wanted: Insertion, field: str) -> None:
    with pytest.raises(InvalidError) as refused:
        with_insertion(VALVE, wanted)
    assert [one.field for one in refused.value.problems] == [field]


def test_one_cavity_has_one_wire() -> None:
    _, text, _ = with_insertion(VALVE, Insertion("W1", "connector", "X90", cavity="4"))
    with pytest.raises(InvalidError, match="has a wire already"):
        with_insertion(text, Insertion("W2", "connector", "X90", cavity="4"))


def test_versions_say_what_was_added_renamed_and_changed() -> None:
    _, text, _ = with_insertion(VALVE, Insertion("W1", "connector", "X90", "Boot connector"))
    said = versions_compared(VALVE, text)
    assert "connector X90 added (Boot connector)" in said
    assert "wire W1-2 added" in said
    assert any(line.startswith("wire W1: to X2.1 → X90.1, length 1.5 → 0.75") for line in said)
    renamed = VALVE.replace("G2:", "G9:").replace("G2.stud", "G9.stud")
    assert "part G2 is called G9" in versions_compared(VALVE, renamed)
    two = with_insertion(text, Insertion("W2", "joint"))[1]
    assert "wires added: W1-2, W2-2" in versions_compared(VALVE, two)
    assert versions_compared(
        VALVE, VALVE + "about: Something\n" if "about:" not in VALVE else VALVE.replace("Typical for", "Usual for")
    ) == ["words only: nothing that is measured by"]
