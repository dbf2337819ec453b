"""Circuits of one make and model become one vehicle: the same designation is one thing, and what Sondar named itself is not."""

from __future__ import annotations

from typing import Any

import pytest

from sondar.app.describing import made_of
from sondar.circuit_edits.writing import written
from sondar.circuit_files import library_circuits, library_vehicles, load_circuit_text, load_vehicle_text
from sondar.code_library import generic_codes
from sondar.core.circuit.network import Circuit
from sondar.core.circuit.vehicle import VehicleNetwork, read_vehicle
from sondar.core.circuit_review import problems_of
from sondar.core.describing.gathering import Gathered, gathered
from sondar.core.describing.sheet import Sheet
from sondar.core.describing.tying import faults_of, likely_codes, tied_code, with_ties
from sondar.core.instruments import displays
from sondar.core.instruments.base import Population, Test
from sondar.core.solving.fuses import blown_fuses
from sondar.core.triage.model import TriageModel
from sondar.core.wording.labels import expected_range
from sondar.yaml_text import load_yaml
from tests.core.describing.sheets import OIL_CONTROL_VALVE, PRESSURE_AND_TEMPERATURE, SHEETS

QUAY = {"make": "Tessel", "model": "Quay", "module": "ECM"}
MAIN_RELAY = {"source": "main relay", "fuse": "F14", "relay": "K9"}


def sheet(**given: Any) -> dict[str, Any]:
    return dict(load_yaml(made_of(Sheet(**given))[1]))


def oil_valve(**more: Any) -> dict[str, Any]:
    return sheet(**{**OIL_CONTROL_VALVE, **QUAY, "supply": {**MAIN_RELAY, "fuse_a": 15}, **more})


def purge_valve(**more: Any) -> dict[str, Any]:
    rows = [{"cavity": str(n), "carries": n} for n in (1, 2)]
    return sheet(
        **{"template": "valve-pulsed", "part": "purge valve", **QUAY, "plug": "X51", "rows": rows, "supply": MAIN_RELAY, **more}
    )


def pressure() -> dict[str, Any]:
    return sheet(**{**PRESSURE_AND_TEMPERATURE, **QUAY})


def network(found: Gathered) -> VehicleNetwork:
    documents = {name: written(data)[0] for name, data in found.circuits.items()}
    for document in documents.values():
        assert problems_of(document) == []
    vehicle = {
        "sondar_vehicle": 1,
        "id": "own",
        "title": "Own",
        "vehicle": {"make": "Tessel"},
        "circuits": list(documents),
        "shared": found.shared,
    }
    return VehicleNetwork(read_vehicle(vehicle), documents)


def shared_parts(joined: VehicleNetwork) -> set[str]:
    return {part for part, owners in joined.owners.items() if len(owners) > 1}


def test_designations_are_recognised_and_the_rest_is_kept_apart() -> None:
    found = gathered([oil_valve(), purge_valve(), pressure()], {})
    joined = network(found)
    assert {"BAT", "IGN", "F14", "K9", "G2", "G3"} <= shared_parts(joined)
    assert {question.id: question.same for question in found.questions} == {
        "IGN": True, "F14": True, "K9": True, "G3": True, "ECM": True, "G2": True,
    }  # fmt: skip
    assert found.differs == []
    own = [part for part in joined.network.document.parts if part not in shared_parts(joined)]
    assert len({joined.network.document.parts[part].title for part in own}) > 5
    for name, data in found.circuits.items():
        mine = load_circuit_text(written(data)[1])
        assert mine.parts["F14"].rating_a == 15.0 if "F14" in mine.parts else name.endswith("temperature-sensor")  # type: ignore[union-attr]


def test_every_circuit_is_the_same_circuit_under_its_new_names() -> None:
    """Gathering renames; it must not change what anything shows: the healthy voltages at each plug stay."""
    sources = [oil_valve(), purge_valve(), pressure()]
    found = gathered(sources, {})
    for source in sources:
        before, after = (Circuit(written(data)[0]) for data in (source, found.circuits[str(source["id"])]))
        assert len(before.parts) == len(after.parts)
        assert len(before.faults) == len(after.faults)
        assert sorted(healthy(before)) == sorted(healthy(after))


def healthy(circuit: Circuit) -> list[str]:
    setup = circuit.setup({"key": "on"}, frozenset(), 20.0)
    points = [point for point in circuit.points if "/" not in point and point.startswith("X")]
    tests = tuple(Test("voltmeter", point, circuit.black_reference, setup) for point in points)
    tests = tuple(test for test in tests if circuit.node(test.red) != circuit.node(test.black))
    shown = displays(Population(circuit, setup, [()], blown_fuses(circuit, [()], 20.0), [None], 1), tests)["voltmeter"]
    return [expected_range(shown.at(number))[0] for number in range(len(tests))]


def test_what_is_said_not_to_be_the_same_is_two_things() -> None:
    joined = network(gathered([oil_valve(), purge_valve()], {"F14": False, "K9": False}))
    assert not {"F14", "K9"} & shared_parts(joined)
    assert {"F14", "F14-2", "K9", "K9-2"} <= set(joined.network.document.parts)


def test_figures_that_contradict_each_other_make_two_things_and_say_why() -> None:
    found = gathered([oil_valve(), purge_valve(supply={**MAIN_RELAY, "fuse_a": 20})], {})
    [question] = [one for one in found.questions if one.id == "F14"]
    assert (question.same, question.why) == (False, "the same designation, but rating a 15.0 and 20.0")
    forced = gathered([oil_valve(), purge_valve(supply={**MAIN_RELAY, "fuse_a": 20})], {"F14": True})
    assert forced.differs == ["F14: rating a 15.0, elsewhere 20.0"]
    assert network(forced).network.document.parts["F14"].rating_a == 15.0  # type: ignore[union-attr]


def test_a_figure_that_is_known_takes_the_place_of_a_range() -> None:
    named = {"supply": MAIN_RELAY}
    found = gathered([oil_valve(**named), purge_valve()], {})
    assert found.circuits["tessel-quay-purge-valve-x51"]["parts"]["F14"]["rating_a"] == 20


def test_a_relay_that_is_two_has_two_carriers() -> None:
    joined = network(gathered([oil_valve(), purge_valve()], {"K9": False}))
    carriers = [name for name, one in joined.network.document.connectors.items() if one.title == "Main relay carrier"]
    assert len(carriers) == 2


def test_files_written_by_hand_keep_their_names() -> None:
    vehicle = load_vehicle_text(library_vehicles()["orvane-lisk"])
    data = [dict(load_yaml(library_circuits()[name])) for name in vehicle.circuits]
    found = gathered(data, {})
    assert set(vehicle.shared) <= set(found.shared)
    documents = {name: written(one)[0] for name, one in found.circuits.items()}
    joined = VehicleNetwork(vehicle.model_copy(update={"shared": found.shared}), documents)
    plain = VehicleNetwork(vehicle, {name: load_circuit_text(library_circuits()[name]) for name in vehicle.circuits})
    assert set(joined.network.parts) == set(plain.network.parts)


@pytest.mark.parametrize("names", [("oil-control valve", "wide-band sensor"), ("rear wiper", "ventilation heater"), tuple(SHEETS)])
def test_any_sheets_fit_together(names: tuple[str, ...]) -> None:
    network(gathered([sheet(**{**SHEETS[name], "make": "Tessel", "model": "Quay"}) for name in names], {}))


def test_codes_that_are_tied_are_explained_by_their_circuit() -> None:
    held = generic_codes()
    sources = {str(data["id"]): data for data in gathered([oil_valve(), purge_valve(), pressure()], {}).circuits.values()}
    found = gathered([oil_valve(), purge_valve(), pressure()], {})
    for name, code in (("tessel-quay-purge-valve-x51", "P0443"), ("tessel-quay-intake-pressure-and-temperature-sensor", "P0107")):
        item = held.codes[code]
        entry = tied_code(Circuit(written(sources[name])[0]), item.meaning, item.part, item.kind, item.manner)
        assert entry is not None
        found.circuits[name] = with_ties(found.circuits[name], {code: entry}, {})
    low = found.circuits["tessel-quay-intake-pressure-and-temperature-sensor"]["codes"]["P0107"]["sets"]
    assert low[0]["below"] == 0.25
    model = TriageModel(network(found))
    assert set(model.circuit.document.codes) == {"P0443", "P0107"}


def test_every_fault_but_the_batterys_can_be_behind_a_code_without_an_end() -> None:
    circuit = Circuit(written(purge_valve())[0])
    named = faults_of(circuit)
    assert "Y.open" in named
    assert not any(name.startswith("BAT.") for name in named)


def test_likely_codes_are_about_the_part() -> None:
    codes = [(one.code, (one.part, *one.aka), one.template or "") for one in generic_codes().codes.values()]
    assert "P0443" in likely_codes(codes, "valve-pulsed", "Purge valve")
    assert likely_codes(codes, "valve-pulsed", "Flux capacitor") == []
    assert likely_codes(codes, "valve-pulsed", "Oil-control valve") == [], "one word in common is none"
