"""Wiring sheets, cavity by cavity: the circuit that follows, what is not clear, and that it is judged like any other."""

from __future__ import annotations

from functools import cache
from typing import Any

import pytest
from pydantic import ValidationError

from benchmarks.technician import by_plan, follow_vehicle
from sondar.app.describing import healthy_readings, made_of, still_open
from sondar.circuit_edits.comparing import versions_compared
from sondar.circuit_files import load_circuit_text
from sondar.code_library import circuit_templates
from sondar.core.circuit.drawing import draw
from sondar.core.circuit.network import Circuit
from sondar.core.circuit_review import problems_of, warnings_of
from sondar.core.describing.sheet import Sheet
from sondar.core.describing.sheet_circuit import sheet_document
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.errors import InvalidError
from sondar.core.instruments.base import Test
from sondar.simulators.vehicle import SimulatedVehicle
from tests.core.describing.sheets import GEAR_RANGE_SWITCH, OIL_CONTROL_VALVE, PRESSURE_AND_TEMPERATURE, REAR_WIPER, SHEETS


@cache
def circuit(name: str) -> Circuit:
    return Circuit(made_of(Sheet(**SHEETS[name]))[0])


@pytest.mark.parametrize("name", SHEETS)
def test_every_sheet_gives_a_circuit_without_doubts_that_comes_back_from_its_file(name: str) -> None:
    sheet = Sheet(**SHEETS[name])
    document, text = made_of(sheet)
    assert problems_of(document) == []
    assert warnings_of(Circuit(document)) == []
    again = load_circuit_text(text)
    assert again == document
    assert Sheet(**again.sheet) == sheet, "the sheet comes back from the file as it was typed"
    assert made_of(Sheet(**again.sheet))[1] == text
    assert draw(Circuit(document)).elements


@pytest.mark.parametrize("name", SHEETS)
def test_five_faults_of_every_sheet_are_found(name: str) -> None:
    """Drawn over the units of the circuit, so that wiring, module and part are among them; the plan is followed to its call."""
    made = circuit(name)
    predictor = Predictor(made)
    suspects = [one for one in predictor.hypotheses.suspects[1:-1] if one.severity in ("open", "broken", "stuck off", "stays open")]
    units = list(dict.fromkeys(one.unit for one in suspects))
    step = max(1, len(units) // 5)
    chosen = [next(one for one in suspects if one.unit == unit) for unit in units[::step][:5]]
    assert len(chosen) == 5
    right = wrong = 0
    for number, one in enumerate(chosen):
        vehicle = SimulatedVehicle(made, [(one.fault, one.severity)], 100 + number)
        found = follow_vehicle(predictor, vehicle, (frozenset({one.unit}),), by_plan)
        right += found.right
        wrong += found.condemns and not found.right
    assert wrong == 0
    assert right >= 4


def test_colours_pins_and_shared_wires_stand_where_the_sheet_says() -> None:
    document = circuit("pressure and temperature").document
    colours = {wire.to: wire.colour for wire in document.wires.values()}
    assert colours["X2.1"] == "pink/black"
    joints = [name for name, part in document.parts.items() if part.family == "splice"]
    assert len(joints) == 2, "reference and return are each joined with the throttle sensor's"
    assert document.parts["B-2"].title == "Throttle sensor"
    healthy = {row.cavity: row.shows for row in healthy_readings(Circuit(document), Sheet(**PRESSURE_AND_TEMPERATURE))}
    assert healthy["2"][2].startswith("4.9"), "5 V on the reference with the plug apart"
    assert healthy["3"][2].startswith("4.9"), "and on the pulled-up temperature line, too"


def test_a_main_relay_feeds_three_valves_through_one_fuse_and_one_joint() -> None:
    document = circuit("oil-control valve").document
    assert document.parts["F1"].rating_a == 15.0  # type: ignore[union-attr]
    assert {wire.to for wire in document.wires.values() if wire.from_.startswith("SPS1.leg")} == {"X2.1", "X11.1", "X12.1"}
    assert any(wire.from_ == "X4.87" and wire.to == "F1.1" for wire in document.wires.values())


def test_every_cavity_of_a_connector_on_the_way_is_two_wires() -> None:
    document = circuit("rear wiper").document
    assert set(document.connectors) == {"X90", "X5", "X1"}
    assert document.connectors["X5"].inline
    assert document.connectors["X5"].cavities == {"1": None, "2": None, "3": None}
    ends = {end for wire in document.wires.values() for end in (wire.from_, wire.to)}
    assert {f"X5.{n}" for n in "123"} | {f"X5.{n}/c" for n in "123"} <= ends


def test_a_code_table_is_what_the_contacts_do() -> None:
    document = circuit("gear range switch").document
    assert document.controls["range"].values == ["P", "R", "N", "D"]
    closed = [document.parts[name].closed_when["range"] for name in ("SA", "SB", "SC", "SD")]  # type: ignore[union-attr]
    assert [list(one) for one in closed] == [["P", "N"], ["R", "N"], ["P", "D"], ["P", "N"]]
    assert document.connectors["X1"].pins == {"3": "11", "4": "12", "5": "13", "6": "14"}
    assert "TCM" in document.modules


def test_what_the_sheet_does_not_say_is_listed() -> None:
    text = made_of(Sheet(**PRESSURE_AND_TEMPERATURE))[1]
    said = [one.what for one in still_open(text, Sheet(**PRESSURE_AND_TEMPERATURE))]
    assert any("pull resistor" in what.lower() for what in said)
    assert "Pins at the module" in said
    given = {**OIL_CONTROL_VALVE, "rows": [{**row, "pin": str(n)} for n, row in enumerate(OIL_CONTROL_VALVE["rows"], 40)]}
    assert not any("Oil-control valve" in one.what for one in still_open(made_of(Sheet(**given))[1], Sheet(**given)))


@pytest.mark.parametrize(
    ("sheet", "change", "field", "said"),
    [
        (PRESSURE_AND_TEMPERATURE, {"template": "flux-capacitor"}, "template", "no typical circuit"),
        (PRESSURE_AND_TEMPERATURE, {"row": (1, {"cavity": "1"})}, "rows.1.cavity", "twice"),
        (PRESSURE_AND_TEMPERATURE, {"row": (0, {"colour": "bl"})}, "rows.0.colour", "black or blue"),
        (PRESSURE_AND_TEMPERATURE, {"row": (0, {"carries": None})}, "rows", "no cavity carries: signal"),
        (PRESSURE_AND_TEMPERATURE, {"row": (0, {"carries": 2})}, "rows.1.carries", "two cavities"),
        (PRESSURE_AND_TEMPERATURE, {"row": (0, {"carries": 9})}, "rows.0.carries", "4 cavities"),
        (OIL_CONTROL_VALVE, {"figures": {"Q9.coil_ohm": "7"}}, "figures.Q9.coil_ohm", "no part"),
        (OIL_CONTROL_VALVE, {"figures": {"Y.coil_ohm": "seven"}}, "figures.Y.coil_ohm", "seven"),
        (OIL_CONTROL_VALVE, {"table": {"P": "1"}}, "table", "no coded contacts"),
        (GEAR_RANGE_SWITCH, {"table": {"P": "101", "R": "0100"}}, "table.P", "4 digits"),
        (REAR_WIPER, {"through": [{"title": "Boot", "cavities": {"9": "1"}}]}, "through.0.cavities", "no cavity 9"),
        (REAR_WIPER, {"through": [{"title": "Boot", "cavities": {"1": "1", "2": "1"}}]}, "through.0.cavities", "twice"),
    ],
)  # fmt: skip
def test_what_is_not_clear_is_said_at_its_field(sheet: dict[str, Any], change: dict[str, Any], field: str, said: str) -> None:
    if "row" in change:
        index, more = change["row"]
        change = {"rows": [{**row, **more} if place == index else row for place, row in enumerate(sheet["rows"])]}
    with pytest.raises(InvalidError) as refused:
        made_of(Sheet(**{**sheet, **change}))
    assert any(one.field == field and said in one.message for one in refused.value.problems), refused.value.problems


@pytest.mark.parametrize("change", [{"make": ""}, {"rows": []}, {"supply": {"fuse_a": -1}}, {"plug": "x" * 61}, {"boo": 1}])
def test_a_sheet_has_bounds(change: dict[str, Any]) -> None:
    with pytest.raises(ValidationError):
        Sheet(**{**OIL_CONTROL_VALVE, **change})


def test_the_same_part_of_the_same_vehicle_is_the_same_circuit() -> None:
    templates = circuit_templates()
    one = sheet_document(Sheet(**OIL_CONTROL_VALVE), templates)
    two = sheet_document(Sheet(**{**OIL_CONTROL_VALVE, "figures": {"Y.coil_ohm": "7.2"}}), templates)
    assert one["id"] == two["id"] == "tessel-quay-2-2-oil-control-valve"
    assert one != two


def test_versions_are_compared_in_words() -> None:
    before = made_of(Sheet(**OIL_CONTROL_VALVE))[1]
    after = made_of(
        Sheet(**{**OIL_CONTROL_VALVE, "figures": {"Y.coil_ohm": "7.4"}, "supply": {"source": "main relay", "fuse_a": 20}})
    )[1]
    said = versions_compared(before, after)
    assert said == ["part Y: coil resistance 7 to 8 → 7.4", "part F1: rating 15.0 → 20.0"]
    assert versions_compared(before, before) == []


def test_designations_of_the_vehicle_win_over_names_of_sondar() -> None:
    """A fuse 2, a plug X1 and a relay on a vehicle whose second fuse, module plug and main relay carrier have those names here."""
    sheet = {
        **OIL_CONTROL_VALVE, "plug": "X1", "module": "DDE", "ground": "4",
        "supply": {"source": "main relay", "fuse": "2", "fuse_a": 15, "relay": "K9"},
    }  # fmt: skip
    document, text = made_of(Sheet(**sheet))
    assert document.parts["F2"].title == "Fuse F2"
    assert document.connectors["X1"].title.endswith("valve plug")
    assert document.parts["K9"].title == "Main relay K9"
    [module_plug] = [name for name, one in document.connectors.items() if one.title == "DDE plug"]
    assert module_plug not in ("X1", "X2")
    assert Sheet(**load_circuit_text(text).sheet) == Sheet(**sheet)
    used = [*document.parts, *document.connectors, *document.modules, *document.wires]
    assert len(used) == len(set(used))
    plain, _ = made_of(Sheet(**OIL_CONTROL_VALVE))
    assert len(document.wires) == len(plain.wires)
    assert len(Circuit(document).points) == len(Circuit(plain).points)


def test_one_designation_for_two_things_is_refused_where_it_stands() -> None:
    sheet = Sheet(**{**OIL_CONTROL_VALVE, "plug": "F12", "supply": {"source": "key", "fuse": "F12"}})
    with pytest.raises(InvalidError) as refused:
        made_of(sheet)
    assert [(one.field, "F12" in one.message) for one in refused.value.problems] == [("plug", True)]


def test_a_main_relay_needs_a_supply_to_feed() -> None:
    rows = [{"cavity": str(n), "carries": n} for n in range(1, circuit_templates()["reference-5v"].wires + 1)]
    with pytest.raises(InvalidError) as refused:
        made_of(Sheet(template="reference-5v", make="Brigg", rows=rows, supply={"source": "main relay"}))
    assert [one.field for one in refused.value.problems] == ["supply.source"]


def test_a_fault_is_outside_what_the_preview_calls_healthy() -> None:
    """What is accepted before saving is what readings are later judged by: an open reference wire shows something else."""
    made = circuit("pressure and temperature")
    shown = {row.cavity: row.shows[2] for row in healthy_readings(made, Sheet(**PRESSURE_AND_TEMPERATURE))}
    test = Test("voltmeter", "X2.2", made.black_reference, made.setup({"key": "on"}, frozenset({"X2"}), 20.0))
    low, high = (float(end) for end in shown["2"].removesuffix(" V").split(" to "))
    assert low <= (SimulatedVehicle(made, [], 5).measure(test.instrument, test.red, test.black, test.setup)[0] or 0.0) <= high
    wire = next(name for name, one in made.document.wires.items() if one.to == "X2.2")
    broken = SimulatedVehicle(made, [(f"{wire}.open", "open")], 5)
    value, word = broken.measure(test.instrument, test.red, test.black, test.setup)
    assert word == "unstable" or not low <= (value or 0.0) <= high
