"""Two hundred kills while readings are entered: nothing acknowledged is lost, nothing is there twice.

In turn, and at moments drawn from a seed, one of these is killed with SIGKILL: a web process, a worker, the database, the launcher (which
takes all with it, and is started again), or everything at once. Three people go on entering readings; an entry without an answer is sent
again under its key until it has one. At the end the database is compared with what was acknowledged, key by key.
Run: ``./run bench kills`` (``--kills 200 --seed 1``).
"""

from __future__ import annotations

import argparse
import http.client
import json
import threading
import time
from collections import Counter
from dataclasses import dataclass, field
from typing import Any
from uuid import uuid4

import numpy as np
import psycopg

from benchmarks.site import Client
from benchmarks.whole import Whole, first_diagnosis, whole
from sondar.store.local_server import LocalServer

KINDS = ("web", "worker", "database", "launcher", "everything")
WEIGHTS = (0.3, 0.3, 0.2, 0.1, 0.1)
PEOPLE = 3


@dataclass
class Person:
    """Enters readings until told to stop."""

    site: Whole
    index: int
    stop: threading.Event
    acknowledged: list[str] = field(default_factory=list)
    sent_again: int = 0
    refused: Counter[str] = field(default_factory=Counter)

    def work(self) -> None:
        """One reading after another."""
        client, diagnosis = self._client(), ""
        while not self.stop.is_set() and not diagnosis:
            try:
                diagnosis = first_diagnosis(client)[1]
            except (OSError, http.client.HTTPException, ValueError, KeyError, StopIteration, IndexError):
                client = self._client()
        while not self.stop.is_set():
            client = self._enter(client, diagnosis)
            time.sleep(0.05)

    def _client(self) -> Client:
        while True:
            try:
                return Client(self.site.port, "t0")
            except (OSError, http.client.HTTPException, ValueError, AssertionError):
                time.sleep(0.2)

    def _enter(self, client: Client, diagnosis: str) -> Client:
        key = str(uuid4())
        body: dict[str, Any] = {
            "client_key": key, "instrument": "voltmeter", "red": "X31.1", "black": "BAT.neg",
            "setup": {"controls": {"key": "on"}, "unplugged": []}, "entry": f"{4 + self.index / 10:.1f}", "sure": True,
        }  # fmt: skip
        while True:
            try:
                status, answer = client("POST", f"/diagnoses/{diagnosis}/readings", body)
            except (OSError, http.client.HTTPException, ValueError):
                self.sent_again += 1
                time.sleep(0.2)
                client = self._client()
                continue
            if status in (200, 201, 202):  # 202: stored, and still being judged
                self.acknowledged.append(key)
                return client
            self.refused[f"{status} {answer.get('title', answer.get('working', ''))}"] += 1
            if status in (401, 403):
                client = self._client()
            if self.stop.is_set() and status not in (202, 503):
                return client
            time.sleep(0.2)


def main() -> None:
    """Run and print what was killed, what was found."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kills", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    arguments = parser.parse_args()
    rng = np.random.default_rng(arguments.seed)
    with whole() as site:
        stop = threading.Event()
        people = [Person(site, index, stop) for index in range(PEOPLE)]
        threads = [threading.Thread(target=person.work) for person in people]
        for thread in threads:
            thread.start()
        killed: Counter[str] = Counter()
        back: dict[str, list[float]] = {kind: [] for kind in KINDS}
        while sum(killed.values()) < arguments.kills:
            time.sleep(float(rng.uniform(0.2, 1.5)))
            kind = str(rng.choice(KINDS, p=WEIGHTS))
            numbers = site.kinds()
            if kind != "everything" and not numbers[kind]:
                continue
            chosen = [n for group in numbers.values() for n in group] if kind == "everything" else [int(rng.choice(numbers[kind]))]
            begun = time.monotonic()
            for number in chosen:
                site.kill(number)
            if kind in ("launcher", "everything"):
                site.end()
                site.start()
            else:
                time.sleep(0.3)
                site.wait()
            back[kind].append(time.monotonic() - begun)
            killed[kind] += 1
        stop.set()
        for thread in threads:
            thread.join()
        server = LocalServer(site.folder / "postgres")
        with psycopg.connect(server.start()) as db:
            rows = db.execute("SELECT client_key::text, job_id, seq FROM reading").fetchall()
        kept = Counter(row[0] for row in rows)
        acknowledged = [key for person in people for key in person.acknowledged]
        print(json.dumps({
            "kills": dict(killed), "seconds until ready, median": {k: round(float(np.median(v)), 1) for k, v in back.items() if v},
            "acknowledged": len(acknowledged), "lost": len(set(acknowledged) - set(kept)), "doubled": sum(n > 1 for n in kept.values()),
            "sequence numbers doubled": len(rows) - len({(row[1], row[2]) for row in rows}),
            "sent again after a lost connection": sum(person.sent_again for person in people),
            "answers that were not yet a yes": dict(sum((person.refused for person in people), Counter())),
        }, indent=2))  # fmt: skip


if __name__ == "__main__":
    main()
