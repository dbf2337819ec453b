"""Demo data: Port Alder Harbour workshop, three jobs at different stages, each vehicle with a hidden fault.

Only the start command uses this. The jobs are made through the same store functions as any other; their readings are taken from the
simulated vehicles, following Sondar's own proposals.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from uuid import NAMESPACE_URL, UUID, uuid5

from psycopg_pool import ConnectionPool

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.assess import assess
from sondar.core.diagnosis.belief import Reading
from sondar.core.diagnosis.plan import Bench
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.quantities import format_si, parse_entry
from sondar.devices.standins.vehicle import SimulatedVehicle
from sondar.documents import load_circuit_text
from sondar.store import circuits, evidence, jobs
from sondar.store.database import Db

LIBRARY = Path(__file__).parent / "library" / "circuits"


@dataclass(frozen=True)
class DemoJob:
    """One demo vehicle: what the customer says, what is hidden, how far the job has come.

    Attributes:
        readings: how many of Sondar's proposals have been carried out; −1 for all, with the verdict called.
    """

    name: str
    circuit: str
    vehicle: jobs.NewVehicle
    complaint: str
    codes: str
    fault: str
    severity: str
    readings: int


DEMO_JOBS = (
    DemoJob("lisk-40", "ambient-temperature", jobs.NewVehicle("Orvane", "Lisk", 2018, "PA 40 LSK", 88410),
            "Outside temperature shows dashes since the bumper was off. Air conditioning does not start.", "P0073",
            "W2.open", "open", -1),
    DemoJob("tern-12", "radiator-fan-relay", jobs.NewVehicle("Halden", "Tern", 2017, "PA 12 TRN", 164200),
            "Temperature climbs in traffic on the quay, the fan never comes on. Relay was swapped, no change.", "P0480",
            "W8.resistance", "300 Ω", 2),
    DemoJob("tern-19", "radiator-fan-relay", jobs.NewVehicle("Halden", "Tern", 2019, "PA 19 TRN", 97310),
            "Fan silent, coolant boils over when idling in the loading bay.", "", "F14.open", "open", 0),
)  # fmt: skip


def load_library(db: Db) -> dict[str, circuits.CircuitVersion]:
    """Store the library's circuits; unchanged ones stay the version they are."""
    found = {}
    for path in sorted(LIBRARY.glob("*.yaml")):
        text = path.read_text(encoding="utf-8")
        found[path.stem] = circuits.save_circuit(db, load_circuit_text(text), text)
    return found


def seed(pool: ConnectionPool[Db]) -> None:
    """Create the demo jobs once; a later start finds them."""
    with pool.connection() as db:
        versions = load_library(db)
        for item in DEMO_JOBS:
            key = _key(item.name)
            if db.execute("SELECT 1 FROM job WHERE client_key = %s", (key,)).fetchone() is not None:
                continue
            made = jobs.NewJob(key, versions[item.circuit].id, item.complaint, item.codes, 20.0, item.name)
            job_id = jobs.create_job(db, item.vehicle, made)
            _measure(db, job_id, item)


def _key(name: str) -> UUID:
    return uuid5(NAMESPACE_URL, f"sondar-demo/{name}")


def _measure(db: Db, job_id: UUID, item: DemoJob) -> None:
    circuit = Circuit(load_circuit_text((LIBRARY / f"{item.circuit}.yaml").read_text(encoding="utf-8")))
    predictor = Predictor(circuit)
    vehicle = SimulatedVehicle(circuit, item.fault, item.severity, seed_of(item.name))
    readings: list[Reading] = []
    bench = Bench(circuit.rest_setup())
    while item.readings < 0 or len(readings) < item.readings:
        result = assess(predictor, readings, bench)
        if result.verdict.settled:
            break
        view = result.proposals[0].test
        test = next(
            t for t in predictor.setup(circuit.setup(view.setup.controls, frozenset(view.setup.unplugged))).tests
            if (t.instrument, t.red, t.black) == (view.instrument, view.red, view.black)
        )  # fmt: skip
        value, word = vehicle.measure(test.instrument, test.red, test.black, test.setup)
        text = word if value is None else format_si(value, view.unit, 4)
        assert text is not None
        entry = parse_entry(text)
        reading = Reading(str(len(readings)), test, entry.value, entry.state, entry.resolution)
        readings.append(reading)
        evidence.append_reading(db, job_id, evidence.NewReading.of(uuid5(job_id, reading.id), test, text, entry, "meter"))
        bench = Bench(
            test.setup, bench.opened | {circuit.point(ref).place for ref in (test.red, test.black)} | test.setup.unplugged
        )
    if item.readings < 0:
        verdict = assess(predictor, readings, bench).verdict
        evidence.append_verdict(
            db, job_id, uuid5(job_id, "verdict"),
            {"sentence": verdict.sentence, "group": verdict.group, "units": verdict.units, "certainty": min(1.0, verdict.certainty),
             "settled": verdict.settled},
        )  # fmt: skip


def seed_of(name: str) -> int:
    """Seed of a demo vehicle's tolerances."""
    return sum(name.encode())


def write_vehicles(path: Path) -> None:
    """Describe the demo vehicles for the stand-in bench meter."""
    described = {
        item.name: {"circuit": str(LIBRARY / f"{item.circuit}.yaml"), "fault": item.fault, "severity": item.severity,
                    "seed": seed_of(item.name)}
        for item in DEMO_JOBS
    }  # fmt: skip
    path.write_text(json.dumps(described, indent=2, ensure_ascii=False))
