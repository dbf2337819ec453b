"""Fifty technicians enter readings for two minutes, several at each vehicle: nothing fails, is lost or doubled.

Every tenth reading is sent twice with its client key, as a tablet does that heard no answer. Afterwards the database is compared
with what was acknowledged, key by key, and sequence numbers must be without a double. Beside it, the time an entry takes under this
load as a multiple of an entry by one person alone. ``--pause 0`` sends as fast as answers come.
Run: ``./run bench crowd`` (``--clients 50 --seconds 120 --jobs 25 --pause 10``).
"""

from __future__ import annotations

import argparse
import json
import threading
import time
from typing import Any
from uuid import uuid4

import numpy as np
import psycopg

from benchmarks.site import Client, running

PLACES = ("F7.2", "F14.2", "K1.87", "M1.1", "X20.1", "X1.23")
FIGURES = ("12.1", "11.9", "12.4", "0.3", "11.2", "12.0", "0.02", "6.1")


def reading(key: str, red: str, entry: str) -> dict[str, Any]:
    """Body of a voltmeter reading with the key on."""
    return {
        "client_key": key, "instrument": "voltmeter", "red": red, "black": "BAT.neg", "setup": {"controls": {"key": "on"}, "unplugged": []},
        "entry": entry,
    }  # fmt: skip


def _alone(client: Client, version: str, places: list[str]) -> list[float]:
    """Seconds an entry takes while nobody else is there, on three jobs of its own."""
    spans = []
    for _ in range(3):
        body = {"client_key": str(uuid4()), "vehicle": {"make": "Halden"}, "circuit_version_id": version}
        job = client("POST", "/jobs", body)[1]["id"]
        diagnosis = client("GET", f"/jobs/{job}")[1]["diagnoses"][0]["id"]
        for index in range(24):
            begun = time.perf_counter()
            client(
                "POST",
                f"/diagnoses/{diagnosis}/readings",
                reading(str(uuid4()), places[index % len(places)], FIGURES[index % len(FIGURES)]),
            )
            spans.append(time.perf_counter() - begun)
    return spans


def main() -> None:
    """Run and print what was sent, what was found, and ratios."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--clients", type=int, default=50)
    parser.add_argument("--seconds", type=float, default=120.0)
    parser.add_argument("--jobs", type=int, default=25)
    parser.add_argument("--pause", type=float, default=10.0, help="mean seconds between a person's readings")
    arguments = parser.parse_args()
    with running(arguments.clients) as site:
        first = Client(site.port, "t0")
        circuits = first("GET", "/circuits")[1]["circuits"]
        version = next(c["version_id"] for c in circuits if c["slug"] == "radiator-fan-relay")
        points = {p["ref"] for p in first("GET", f"/circuits/{version}")[1]["points"] if p["when"] == "any"}
        places = [p for p in PLACES if p in points] or sorted(points)[:6]
        diagnoses = []
        for _ in range(arguments.jobs):
            body = {"client_key": str(uuid4()), "vehicle": {"make": "Halden"}, "circuit_version_id": version}
            job = first("POST", "/jobs", body)[1]["id"]
            diagnoses.append(first("GET", f"/jobs/{job}")[1]["diagnoses"][0]["id"])
        alone = _alone(first, version, places)
        acknowledged: list[str] = []
        failures: list[str] = []
        spans: list[float] = []
        stop = time.monotonic() + arguments.seconds

        def enter_readings(index: int) -> None:
            rng = np.random.default_rng(index)
            client = Client(site.port, f"t{index}")
            made = 0
            time.sleep(rng.uniform(0.0, arguments.pause))
            while time.monotonic() < stop:
                key = str(uuid4())
                body = reading(key, str(rng.choice(places)), str(rng.choice(FIGURES)))
                for again in range(2 if made % 10 == 9 else 1):
                    begun = time.perf_counter()
                    try:
                        status, answer = client("POST", f"/diagnoses/{diagnoses[index % len(diagnoses)]}/readings", body)
                    except Exception as error:
                        failures.append(repr(error))
                        return
                    spans.append(time.perf_counter() - begun)
                    if status != (200 if again else 201):
                        failures.append(f"{status} {answer.get('detail')}")
                acknowledged.append(key)
                made += 1
                time.sleep(rng.uniform(0.5, 1.5) * arguments.pause)

        crowd = [threading.Thread(target=enter_readings, args=(index,)) for index in range(arguments.clients)]
        for thread in crowd:
            thread.start()
        for thread in crowd:
            thread.join()
        with psycopg.connect(site.dsn) as db:
            rows = db.execute(
                "SELECT client_key::text, job_id, seq FROM reading WHERE diagnosis_id = ANY(%s::uuid[])", (diagnoses,)
            ).fetchall()
        kept = [row[0] for row in rows]
        print(json.dumps({
            "clients": arguments.clients, "jobs": arguments.jobs, "seconds": arguments.seconds, "acknowledged": len(acknowledged),
            "failures": len(failures), "first failures": failures[:3], "lost": len(set(acknowledged) - set(kept)),
            "doubled": len(kept) - len(set(kept)), "not acknowledged but kept": len(set(kept) - set(acknowledged)),
            "sequence numbers doubled": len(rows) - len({(row[1], row[2]) for row in rows}),
            "readings per second": round(len(acknowledged) / arguments.seconds, 1),
            "entry p50 over one person alone": round(float(np.percentile(spans, 50) / np.percentile(alone, 50)), 1),
            "entry p95 over one person alone": round(float(np.percentile(spans, 95) / np.percentile(alone, 95)), 1),
        }, indent=2))  # fmt: skip


if __name__ == "__main__":
    main()
