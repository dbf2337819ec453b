"""Several circuits as one vehicle: joined through what they share, and caught where they disagree."""

from __future__ import annotations

import pytest

from sondar.circuit_files import (
    CircuitFileError,
    library_circuits,
    library_network,
    library_vehicles,
    load_circuit_text,
    load_vehicle_text,
)
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.circuit.model import Change
from sondar.core.circuit.vehicle import VehicleDocument, VehicleNetwork, read_vehicle, years_of
from sondar.core.errors import CircuitDocumentError
from sondar.core.solving.solver import SetupSolver
from sondar.core.triage.model import TriageModel


def parts_of(name: str) -> tuple[VehicleDocument, dict[str, CircuitDocument]]:
    document = load_vehicle_text(library_vehicles()[name])
    return document, {key: load_circuit_text(text) for key, text in library_circuits().items() if key in document.circuits}


def test_a_vehicle_of_one_circuit_keeps_its_responses() -> None:
    document = library_network("tessel-quay").network.document
    assert list(document.responses) == ["tessel-exhaust-valve-opens"]


@pytest.mark.parametrize("name", ["orvane-lisk", "halden-tern"])
def test_whole_vehicles_join_and_have_eight_circuits_or_more(name: str) -> None:
    network = library_network(name)
    assert len(network.circuits) >= 8
    shared = {part for part, owners in network.owners.items() if len(owners) > 1}
    assert shared, "circuits of a vehicle share parts"
    assert set(network.network.parts) == set(network.owners)
    assert {s.id for s in network.sections.values() if s.id.startswith("circuit:")} <= {f"circuit:{c}" for c in network.circuits}
    for circuit in network.circuits.values():
        assert set(circuit.codes) <= set(network.network.document.codes)


def test_one_fault_shows_in_every_circuit_that_shares_it() -> None:
    network = library_network("halden-tern")
    circuit = network.network
    setup = circuit.setup({"key": "on"})
    pairs = [(circuit.node(ref), circuit.node("BAT.neg")) for ref in ("X41.1", "X42.1", "X44.1")]
    short = circuit.faults["W30.to_ground"].severities[0].changes
    volts = SetupSolver(circuit, setup, pairs, samples=1).solve([(), short]).volts[0]
    assert volts[0] == pytest.approx([5.0, 5.0, 5.0], abs=0.1)
    assert volts[1, 0] == pytest.approx(volts[1, 1], abs=1e-4)
    assert volts[1, 0] < 0.5, "a short on the shared reference pulls both sensors' supply down"
    assert volts[1, 2] == pytest.approx(volts[0, 2], abs=0.05), (
        "the pedal has a reference of its own; only the module's ground shifts"
    )


def test_a_lost_shared_return_drives_all_its_signals_high(tern: TriageModel) -> None:
    circuit = tern.circuit
    pairs = [(circuit.node(f"{pin}.pin"), circuit.node(f"{pin}.gnd")) for pin in ("INR", "INB", "INC")]
    lost: tuple[Change, ...] = circuit.faults["W34.open"].severities[0].changes
    volts = SetupSolver(circuit, circuit.setup({"key": "on"}), pairs, samples=1).solve([(), lost]).volts[0]
    assert (volts[1] > 4.5).all()
    assert (volts[0] < 3.5).all()


def test_stretches_are_named_by_their_most_telling_part(tern: TriageModel) -> None:
    sections = tern.vehicle.sections
    assert sections["W9"].id == sections["X1.40"].id == sections["G2"].id == "shared:G2"
    assert sections["W66"].id == "shared:G7"
    assert sections["W8"].id == "circuit:radiator-fan-relay"
    assert sections["G7"].circuits == ("tern-tail-lamps", "tern-trailer-module")


def test_an_id_used_twice_by_a_slip_is_caught() -> None:
    document, circuits = parts_of("halden-tern")
    shared = {k: v for k, v in document.shared.items() if k != "G7"}
    with pytest.raises(CircuitDocumentError, match="'G7' stands in tern-tail-lamps and in tern-trailer-module: name it as shared"):
        VehicleNetwork(document.model_copy(update={"shared": shared}), circuits)


def test_two_readings_of_one_thing_are_caught() -> None:
    document, circuits = parts_of("halden-tern")
    text = library_circuits()["tern-washer-pump"].replace("title: Front ground", "title: Another ground")
    circuits["tern-washer-pump"] = load_circuit_text(text)
    with pytest.raises(CircuitDocumentError, match="'G1' does not read the same"):
        VehicleNetwork(document, circuits)


def test_a_missing_circuit_is_named() -> None:
    document, circuits = parts_of("orvane-lisk")
    circuits.pop("lisk-brake-switch")
    with pytest.raises(CircuitDocumentError, match="no circuit 'lisk-brake-switch'") as caught:
        VehicleNetwork(document, circuits)
    assert caught.value.problems[0].path == ("circuits", document.circuits.index("lisk-brake-switch"))


def test_vehicle_files_are_checked_with_lines() -> None:
    with pytest.raises(CircuitFileError) as caught:
        load_vehicle_text("sondar_vehicle: 1\nid: x y\ntitle: X\nvehicle: {make: Brigg}\ncircuits: []\nshared: {}\nsurprise: 1\n")
    fields = {p.field: p.line for p in caught.value.problems}
    assert fields == {"id": 2, "circuits": 5, "surprise": 7}
    with pytest.raises(CircuitDocumentError):
        read_vehicle([1])


@pytest.mark.parametrize(
    ("text", "years"), [("2014-2021", (2014, 2021)), ("2016", (2016, 2016)), ("", None), ("2010–2012", (2010, 2012))]
)
def test_years(text: str, years: tuple[int, int] | None) -> None:
    assert years_of(text) == years


def test_live_data_and_commands_must_have_a_place_in_the_circuits() -> None:
    document, circuits = parts_of("orvane-lisk")
    supply, pump = document.data["engine_supply"], document.commands["pump"]
    for section, name, changed, said in (
        ("data", "engine_supply", supply.model_copy(update={"measures": ["ECMS.core", "NOWHERE.1"]}), "no terminal 'NOWHERE.1'"),
        ("data", "engine_supply", supply.model_copy(update={"measures": [], "flows": "M99.brushes"}), "no branch 'M99.brushes'"),
        ("data", "engine_supply", supply.model_copy(update={"module": "TCM"}), "'TCM' has no diagnostic address"),
        ("commands", "pump", pump.model_copy(update={"control": "hatch"}), "no control 'hatch'"),
        ("commands", "pump", pump.model_copy(update={"positions": {"off": 0, "half": 1}}), "has no position 'half'"),
    ):
        broken = document.model_copy(update={section: {**getattr(document, section), name: changed}})
        with pytest.raises(CircuitDocumentError, match=said) as refused:
            VehicleNetwork(broken, circuits)
        assert refused.value.problems[0].field.startswith(f"{section}.{name}")


def test_what_was_filled_in_last_is_right_for_what_circuits_share() -> None:
    whole = library_network("orvane-lisk")
    changed = dict(whole.circuits)
    wire = changed["lisk-throttle-position"].wires["W14"]
    throttle = changed["lisk-throttle-position"]
    changed["lisk-throttle-position"] = throttle.model_copy(
        update={"wires": {**throttle.wires, "W14": wire.model_copy(update={"colour": "brown/yellow"})}}
    )
    with pytest.raises(CircuitDocumentError, match="does not read the same"):
        VehicleNetwork(whole.document, changed)
    order = [name for name in whole.document.circuits if name != "lisk-throttle-position"]
    joined = VehicleNetwork(whole.document, changed, [*order, "lisk-throttle-position"])
    assert joined.network.document.wires["W14"].colour == "brown/yellow"
    older = VehicleNetwork(whole.document, changed, ["lisk-throttle-position", *order])
    assert older.network.document.wires["W14"].colour == wire.colour
    assert joined.sections.keys() == whole.sections.keys()
    ground = changed["lisk-coolant-temperature"]
    changed["lisk-coolant-temperature"] = ground.model_copy(update={"parts": {**ground.parts, "G5": ground.parts["SR"]}})
    with pytest.raises(CircuitDocumentError, match="G5"):
        VehicleNetwork(whole.document, changed, order)
