"""A hundred jobs out of one workshop and into another: is everything that was recorded the same there?

Jobs are made up with random content: codes, answers, notes, readings of typical circuits (some voided), repairs, recordings of random signals. Each
goes out as a bundle, comes into the other workshop, and is compared row by row, ids and accounts aside; recordings sample by sample.
Run: ``./run bench bundles`` (``--jobs 100 --seed 4``).
"""

from __future__ import annotations

import argparse
import io
import time
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any
from uuid import UUID, uuid4

import numpy as np
import psycopg
from flask.testing import FlaskClient

from sondar.demo import load_library
from sondar.store import people, recordings
from sondar.store.database import migrate
from sondar.store.local_server import LocalServer
from sondar.web.application import create_app
from sondar.web.auth import hash_password
from tests.web.test_bundles import bring, bundle_of, content, settled

PASSWORD = "bundle-water-mark"
KINDS = (("valve-pulsed", "P0443", "X2.1"), ("pressure-three-wire", "P0236", "X2.1"), ("horn", "", "X2.1"))


def signed_in(app: Any, name: str) -> FlaskClient:
    """A client of one workshop."""
    client: FlaskClient = app.test_client()
    me = client.post("/api/v1/session", json={"sign_in": name, "password": PASSWORD}).get_json()
    client.environ_base["HTTP_X_CSRF_TOKEN"] = me["csrf"]
    return client


def made_up(client: FlaskClient, rng: np.random.Generator) -> str:
    """A job with random content."""

    def post(path: str, **body: Any) -> Any:
        return client.post(f"/api/v1{path}", json={"client_key": str(uuid4()), **body}).get_json()

    words = ["rattles", "7.4 Ω", "smells “of fuel”", "<b>", "stalls, then not", "Zündung", "a\nb"]
    said = " ".join(rng.choice(words, int(rng.integers(1, 6))))
    job = post(
        "/jobs",
        vehicle={"make": "Tessel", "model": "Quay", "plate": f"QA {uuid4().hex[:6]}", "year": 2018},
        codes="P0443 P0300",
        complaint=said,
    )["id"]
    for _ in range(int(rng.integers(0, 4))):
        post(f"/jobs/{job}/notes", body=" ".join(rng.choice(words, 4)))
    if rng.random() < 0.5:
        post(f"/jobs/{job}/clearing", by="hand")
        post(f"/jobs/{job}/scans", text="P0443")
    template, code, red = KINDS[int(rng.integers(len(KINDS)))]
    diagnosis = post(f"/jobs/{job}/typical", template=template, code=code).get("id")
    if diagnosis:
        for _ in range(int(rng.integers(1, 6))):
            test = {"instrument": "voltmeter", "red": red, "black": "BAT.neg", "setup": {"controls": {}, "unplugged": []}}
            post(f"/diagnoses/{diagnosis}/readings", entry=f"{rng.uniform(0, 14):.2f}", sure=True, **test)
        readings = client.get(f"/api/v1/diagnoses/{diagnosis}").get_json()["readings"]
        if readings and rng.random() < 0.4:
            post(f"/diagnoses/{diagnosis}/readings/{readings[0]['id']}/void", reason="lead slipped")
    for _ in range(int(rng.integers(0, 3))):
        recorded(client, job, rng)
    return str(job)


def recorded(client: FlaskClient, job: str, rng: np.random.Generator) -> None:
    """A recording of random signals, some on an uneven clock."""
    count = int(rng.integers(20, 3000))
    t = np.cumsum(rng.uniform(0.01, 0.2, count)) if rng.random() < 0.5 else np.arange(count) * 0.02
    rows = "\n".join(
        f"{a:.4f},{b:.5g},{c}" for a, b, c in zip(t, rng.normal(0, 10, count), rng.choice(["on", "off"], count), strict=True)
    )
    raw = f"Time [s],Pressure (rear) [kPa],Valve\n{rows}\n".encode()
    made = client.post(
        f"/api/v1/jobs/{job}/recordings", json={"client_key": str(uuid4()), "name": "log.csv", "bytes": len(raw)}
    ).get_json()["id"]
    client.put(f"/api/v1/recordings/{made}/pieces/0", data={"piece": (io.BytesIO(raw), "piece")})
    client.post(f"/api/v1/recordings/{made}/reading", json={})
    while client.get(f"/api/v1/recordings/{made}").get_json()["recording"]["state"] == "reading":
        time.sleep(0.02)


def samples(dsn: str, job: str) -> list[tuple[str, bytes, bytes]]:
    """Every sample of a job's recordings."""
    found = []
    with psycopg.connect(dsn) as db:
        for (recording,) in db.execute("SELECT id FROM recording WHERE job_id = %s ORDER BY seq", (job,)).fetchall():
            for channel in recordings.all_samples(db, UUID(str(recording)), recordings.heads(db, UUID(str(recording)))):
                found.append((channel.name, channel.t.tobytes(), channel.y.tobytes()))
    return found


def main() -> None:
    """Print how many came over the same."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--jobs", type=int, default=100)
    parser.add_argument("--seed", type=int, default=4)
    chosen = parser.parse_args()
    with TemporaryDirectory(prefix="sondar-bench-") as folder:
        Path(folder).chmod(0o755)
        server = LocalServer(Path(folder) / "postgres")
        dsn = server.start()
        migrate(dsn)
        with psycopg.connect(dsn) as db:
            load_library(db)
            for name in ("here", "there"):
                people.create_workshop(db, name)
                people.create_account(db, name, name, "technician", hash_password(PASSWORD))
        app = create_app(server.application_dsn(dsn), "", prepare=False, vehicles={})
        here, there = signed_in(app, "here"), signed_in(app, "there")
        rng, same, rows, count, size = np.random.default_rng(chosen.seed), 0, 0, 0, 0
        for _ in range(chosen.jobs):
            job = made_up(here, rng)
            settled(dsn, job)
            raw = bundle_of(here, job)
            brought = bring(there, raw)
            assert brought.status_code == 201, brought.get_json()
            before, after = content(dsn, job), content(dsn, brought.get_json()["id"])
            own, theirs = samples(dsn, job), samples(dsn, brought.get_json()["id"])
            same += before == after and own == theirs
            apart = [table for table in before if before[table] != after[table]] + (["samples"] if own != theirs else [])
            if apart:
                print(f"apart: {', '.join(apart)}", flush=True)
            rows += sum(len(found) for found in before.values())
            count += sum(len(y) // 8 for _, _, y in own)
            size += len(raw)
        print(f"{same} of {chosen.jobs} jobs the same there: {rows} rows, {count:,} samples, {size / 1e6:.1f} MB of bundles")
        app.extensions["sondar"].close()
        server.stop()


if __name__ == "__main__":
    main()
