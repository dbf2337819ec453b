"""Demo data: Port Alder Harbour workshop with its people, and jobs at every stage, each vehicle with hidden faults.

Only the start command uses this. The jobs are made through the same store functions as any other; their readings are taken from the
simulated vehicles, following Sondar's own proposals.
"""

from __future__ import annotations

import json
import threading
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from uuid import NAMESPACE_URL, UUID, uuid5

from argon2 import PasswordHasher
from psycopg_pool import ConnectionPool

from sondar.circuit_files import (
    library_circuits,
    library_network,
    library_procedures,
    library_vehicle,
    library_vehicles,
    load_circuit_text,
    load_document,
    load_vehicle_text,
)
from sondar.core.circuit.network import Circuit
from sondar.core.codes import parse_codes
from sondar.core.diagnosis.costs import Situation, reached_by
from sondar.core.diagnosis.judge import judge
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments import BREAK_OUT_LEADS, ORDINARY, instrument
from sondar.core.instruments.reading import Reading
from sondar.core.procedures.document import read_procedure
from sondar.core.quantities import format_si
from sondar.core.recordings.packed import pack
from sondar.core.vin import check_digit
from sondar.core.wording import conclusion as words
from sondar.demo_recordings import RECORDINGS
from sondar.simulators.bench_meter import DescribedVehicles
from sondar.simulators.can_vehicle import CanAdapter, CanVehicle
from sondar.simulators.diagnostic_vehicle import DiagnosticVehicle, HiddenFault
from sondar.simulators.doip_vehicle import DoipServer
from sondar.simulators.vehicle import SimulatedVehicle
from sondar.store import circuits, codes, evidence, intake, jobs, people, procedures, recordings, vehicles
from sondar.store.database import Db, act_for

WORKSHOP = "Port Alder Harbour workshop"
PASSWORD = "low-water-mark"
PEOPLE = (
    ("harbour", "M. V., workshop lead", "lead"),
    ("bay-two", "T. R., technician", "technician"),
    ("office", "A. K., office", "read-only"),
)
"""(sign-in, name, role) of the demo's people; all share ``PASSWORD``."""


@dataclass(frozen=True)
class DemoJob:
    """One demo vehicle: what the customer says, what is hidden, how far the job has come.

    Attributes:
        model: library vehicle, empty for one that nobody has described; circuit: the circuit to test, empty if nothing has been chosen yet.
        readings: how many of Sondar's proposals have been carried out; −1 for all, with the diagnosis concluded.
        answers: what has been asked at check-in.
    """

    name: str
    model: str
    circuit: str
    vehicle: vehicles.NewVehicle
    complaint: str
    codes: str
    faults: tuple[HiddenFault, ...]
    readings: int
    answers: dict[str, Any] = field(default_factory=dict)
    note: str = ""


def _vin(text: str) -> str:
    return text[:8] + check_digit(text) + text[9:]


DEMO_JOBS = (
    DemoJob("lisk-40", "orvane-lisk", "ambient-temperature",
            vehicles.NewVehicle("Orvane", "Lisk", 2018, "PA 40 LSK", 88410, "1.2 petrol", _vin("WRVLSK18000004012")),
            "Outside temperature shows dashes since the bumper was off. Air conditioning does not start.", "BCM: P0073 confirmed",
            (HiddenFault("W2.open", "open"),), -1,
            {"recent_work_text": "Front bumper off for paint, other shop", "recent_work": ["B9"], "symptoms": ["ambient-dashes"]}),
    DemoJob("tern-12", "halden-tern", "radiator-fan-relay",
            vehicles.NewVehicle("Halden", "Tern", 2017, "PA 12 TRN", 164200, "2.0 diesel", _vin("WHDTRN17000001203")),
            "Temperature climbs in traffic on the quay, the fan never comes on. Relay was swapped, no change.", "ECM: P0480 confirmed",
            (HiddenFault("W8.resistance", "300 Ω"),), 2, {"environment": ["salt"], "symptoms": ["fan-silent"]}),
    DemoJob("tern-19", "halden-tern", "radiator-fan-relay",
            vehicles.NewVehicle("Halden", "Tern", 2019, "PA 19 TRN", 97310, "2.0 diesel", _vin("WHDTRN19000001904")),
            "Fan silent, coolant boils over when idling in the loading bay.", "", (HiddenFault("F14.open", "open"),), 0),
    DemoJob("tern-27", "halden-tern", "",
            vehicles.NewVehicle("Halden", "Tern", 2016, "PA 27 TRN", 201850, "2.0 diesel", _vin("WHDTRN16000002709")),
            "Tail lamps glow weakly or not at all, trailer socket dead. Worse since the winter on the slipway.", "",
            (HiddenFault("W66.open", "open"), HiddenFault("B6.drift", "×3.3", "gone")), 0,
            {"environment": ["salt"], "conditions": ["always"], "symptoms": ["trailer-dead"]}),
    DemoJob("lisk-07", "orvane-lisk", "",
            vehicles.NewVehicle("Orvane", "Lisk", 2020, "PA 07 LSK", 60120, "1.2 petrol", _vin("WRVLSK20000000711")),
            "Idle hunts and limps, compressor does not engage, since yesterday's rain.",
            "ECM: P0122 confirmed\nECM: P0532 confirmed\nECM: P0571 history",
            (HiddenFault("W39.to_ground", "100 mΩ"),), 0, {"conditions": ["wet"], "symptoms": ["idle-hunts"], "battery_v": 12.5},
            "Water in the left wheel arch liner."),
    DemoJob("skerry-61", "", "", vehicles.NewVehicle("Brigg", "Skerry scooter", 2021, "PA 61 BRG", 11240, "125 petrol"),
            "Warning lamp on, runs rich until warm.", "P0118 confirmed\nP0032", (), 0, {"environment": ["salt"]},
            "No sheet of this make in the house."),
    DemoJob("brae-62", "", "", vehicles.NewVehicle("Tessel", "Brae light truck", 2015, "PA 62 TSL", 188300, "3.0 diesel"),
            "Light on after filling up, smells of fuel.", "ECM: P0443-14 confirmed\nECM: P0441 confirmed", (), 0),
    DemoJob("corrie-33", "", "", vehicles.NewVehicle("Orvane", "Corrie", 2017, "PA 33 ORV", 121600, "1.6 petrol"),
            "No power uphill, engine lamp. Air filter changed last week by the owner.", "ECM: P0171 confirmed", (), 0),
    DemoJob("corrie-34", "", "", vehicles.NewVehicle("Orvane", "Corrie", 2018, "PA 34 ORV", 84100, "1.6 petrol"),
            "Idles roughly, drives well. Engine lamp since the oil change.", "ECM: P0171 confirmed", (), 0),
    DemoJob("marl-35", "", "", vehicles.NewVehicle("Orvane", "Marl", 2016, "PA 35 ORV", 158900, "2.8 V6 petrol"),
            "Engine lamp in the morning, lame until warm.", "ECM: P0011 confirmed", (), 0,
            {"conditions": ["cold"]}),
    DemoJob("quay-36", "tessel-quay", "tessel-cluster",
            vehicles.NewVehicle("Tessel", "Quay", 2020, "PA 36 QUY", 71300, "2.0 diesel", _vin("WTSKAY20000003608")),
            "Fuel gauge stays at empty with a full tank, the other one works.", "", (HiddenFault("DF.dead", "open"),), 0,
            {"symptoms": ["gauge-empty"]}),
    DemoJob("sound-37", "halden-sound", "halden-fan-module",
            vehicles.NewVehicle("Halden", "Sound", 2019, "PA 37 HLD", 133700, "2.0 diesel", _vin("WHDSND19000003701")),
            "Temperature climbs in traffic, the fan never comes on.", "", (HiddenFault("KF.contact_open", "open"),), 0,
            {"symptoms": ["fan-silent"]}),
    DemoJob("sound-38", "halden-sound", "halden-fan-module",
            vehicles.NewVehicle("Halden", "Sound", 2018, "PA 38 HLD", 176200, "2.0 diesel", _vin("WHDSND18000003802")),
            "Fan never turns, smells hot after a while.", "", (HiddenFault("M1.seized", "seized"),), 0,
            {"symptoms": ["fan-silent"]}),
    DemoJob("quay-24", "tessel-quay", "",
            vehicles.NewVehicle("Tessel", "Quay", 2019, "PA 24 QUY", 143900, "2.0 diesel", _vin("WTSKAY19000002408")),
            "Hesitates when pulling away from the lights, engine lamp since Tuesday.", "ECM: P0404 confirmed",
            (HiddenFault("M12.sluggish", "6 times as slow"),), 0, {"symptoms": ["hesitates"]}),
)  # fmt: skip


def load_library(db: Db) -> dict[str, circuits.CircuitVersion]:
    """Store the library's circuits and vehicles; unchanged ones stay the version they are."""
    stored, found = circuits.stored_texts(db), {}
    for slug, text in library_circuits().items():
        found[slug] = stored.get(text) or circuits.save_circuit(db, load_circuit_text(text), text)
    models = {model.source_text for model in vehicles.newest_models(db)}
    for text in library_vehicles().values():
        if text not in models:
            vehicles.save_model(db, load_vehicle_text(text), text)
    return found


def seed(pool: ConnectionPool[Db]) -> None:
    """Create the demo workshop, its people and its jobs once; a later start finds them."""
    with pool.connection() as db:
        versions = load_library(db)
        workshop_id, account_id = _people(db)
        act_for(db, workshop_id, account_id)
        for item in DEMO_JOBS:
            key = _key(item.name)
            if jobs.job_of_key(db, key) is None:
                _create(db, key, item, versions)
        for slug, text in library_procedures().items():
            if all(kept.source_text != text for kept in procedures.procedures_of(db, slug)):
                procedures.save_procedure(db, slug, load_document(text, read_procedure).title, text)


def _people(db: Db) -> tuple[UUID, UUID]:
    found = people.find_account(db, PEOPLE[0][0])
    if found is not None:
        return found[1], found[0]
    workshop_id = people.create_workshop(db, WORKSHOP)
    made = [people.create_account(db, sign_in, name, role, PasswordHasher().hash(PASSWORD)) for sign_in, name, role in PEOPLE]
    shop = people.workshop(db)
    people.change_workshop(
        db,
        shop.version,
        {
            **shop.__dict__,
            "tools": [
                *ORDINARY,
                BREAK_OUT_LEADS,
                "live-data",
                "module-communication",
                "visual-inspection",
                "wiggle-test",
                "loaded-circuit-test",
                "line-state",
                "applied-ground",
                "applied-supply",
            ],
        },
    )
    people.add_meter(
        db, {"name": "Bay 1 bench meter", "volts_percent": 0.5, "volts_floor": 0.02, "ohms_percent": 1.0, "ohms_floor": 0.2}
    )
    people.add_meter(
        db, {"name": "Old pocket meter", "volts_percent": 3.0, "volts_floor": 0.1, "ohms_percent": 5.0, "ohms_floor": 2.0}
    )
    assert made[1] is not None
    return workshop_id, made[1]


def _key(name: str) -> UUID:
    return uuid5(NAMESPACE_URL, f"sondar-demo/{name}")


def _create(db: Db, key: UUID, item: DemoJob, versions: dict[str, circuits.CircuitVersion]) -> None:
    vehicle_id = vehicles.create_vehicle(db, item.vehicle)
    model_id = vehicles.model_for(db, item.vehicle.make, item.vehicle.model, item.vehicle.year)
    found = parse_codes(item.codes) if item.codes else []
    listed = ", ".join(code.code for code in found)
    job_id = jobs.create_job(
        db, jobs.NewJob(key, vehicle_id, model_id, item.complaint, listed, 20.0, item.name if item.model else "")
    )
    for name, value in {**item.answers, "mileage_km": item.vehicle.mileage_km}.items():
        intake.give_answer(db, job_id, uuid5(job_id, name), name, value, 0)
    if found:
        codes.add_scan(db, job_id, uuid5(job_id, "codes"), "typed", found, {}, [])
    if item.note:
        intake.add_note(db, job_id, uuid5(job_id, "note"), item.note)
    for name, made in RECORDINGS.get(item.name, ()):
        recording_id = recordings.begin(db, job_id, uuid5(job_id, name), name, "file", 0, "reading")
        recordings.keep(db, recording_id, pack(made()))
    if item.circuit:
        version = versions[item.circuit]
        diagnosis_id = jobs.open_diagnosis(db, job_id, uuid5(job_id, "diagnosis"), version.id, "chosen at check-in", {})
        diagnosis = jobs.diagnosis_by_id(db, diagnosis_id)
        assert diagnosis is not None
        _measure(db, diagnosis, item)


def _measure(db: Db, diagnosis: jobs.CircuitDiagnosis, item: DemoJob) -> None:
    circuit = Circuit(load_circuit_text(library_circuits()[item.circuit]))
    predictor = Predictor(circuit)
    vehicle = SimulatedVehicle(circuit, [(f.fault, f.severity) for f in item.faults if f.behaviour == "hard"], seed_of(item.name))
    readings: list[Reading] = []
    situation = Situation(circuit.rest_setup())
    while item.readings < 0 or len(readings) < item.readings:
        ranking = judge(predictor, readings, situation).ranking
        if ranking.settled:
            break
        test = ranking.proposals[0].test
        device = instrument(test.instrument)
        value, word = vehicle.measure(test.instrument, test.red, test.black, test.setup)
        text = word if value is None else format_si(value, device.unit, 4)
        assert text is not None
        entry = device.understand(text)
        reading = Reading(str(len(readings)), test, entry.value, entry.state, entry.resolution)
        readings.append(reading)
        evidence.append_reading(db, diagnosis, evidence.NewReading.of(uuid5(diagnosis.id, reading.id), test, text, entry, "meter"))
        opened = situation.opened | reached_by(circuit, test) | test.setup.unplugged
        situation = Situation(test.setup, opened)
    if item.readings < 0:
        judgement = judge(predictor, readings, situation)
        ranking = judgement.ranking
        evidence.append_conclusion(
            db, diagnosis, uuid5(diagnosis.id, "conclusion"),
            {"sentence": words.sentence(judgement), "group": words.leading_suspect(judgement).group, "units": list(ranking.leading),
             "certainty": min(1.0, ranking.certainty), "settled": ranking.settled},
        )  # fmt: skip


def seed_of(name: str) -> int:
    """Seed of a demo vehicle's tolerances."""
    return sum(name.encode())


def write_vehicles(path: Path) -> None:
    """Describe the demo vehicles for the simulator bench meter."""
    described = {
        item.name: {"vehicle": item.model, "faults": [[f.fault, f.severity] for f in item.faults if f.behaviour == "hard"],
                    "seed": seed_of(item.name)}
        for item in DEMO_JOBS if item.model
    }  # fmt: skip
    path.write_text(json.dumps(described, indent=2, ensure_ascii=False))


def _interface(item: DemoJob) -> DoipServer | CanAdapter:
    """CAN for a vehicle whose file gives its identifiers there, DoIP for every other."""

    def vehicle() -> DiagnosticVehicle:
        return DiagnosticVehicle(library_network(item.model), item.faults, item.vehicle.vin)

    document = library_vehicle(item.model)
    return CanAdapter(CanVehicle(vehicle, document.module_addresses)) if document.can_ids else DoipServer(vehicle)


def serve_vehicles(names: Sequence[str] = (), measured: DescribedVehicles | None = None) -> dict[str, str]:
    """Start a diagnostic interface for each demo vehicle (or the named ones); vehicle name -> its adapter.

    Args:
        measured: the same vehicles at the bench meter; what is repaired there is repaired here.
    """
    addresses = {}
    for item in DEMO_JOBS:
        if not item.model or (names and item.name not in names):
            continue
        # Worked out when somebody asks it: a start does not wait for vehicles that nobody connects to.
        server = _interface(item)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        addresses[item.name] = server.address
        if measured is not None:
            measured.when_repaired(item.name, lambda units, server=server: server.vehicle.repair(units))  # type: ignore[misc]
    return addresses
