"""Job list and search in a workshop with 100,000 jobs, as a multiple of an empty request.

The base is ``GET /health``: Flask and ``SELECT 1``, on the same kept connection, asked in turn with the questions. Jobs are made in
SQL with the application's own triggers, so their search text is what the application would have written.
Run: ``./run bench archive`` (``--jobs 100000 --rounds 60``).
"""

from __future__ import annotations

import argparse
import json
import time
from urllib.parse import quote

import numpy as np
import psycopg

from benchmarks.site import Client, running
from sondar.store.database import act_for

MAKE_JOBS = """
WITH made AS (
    SELECT n, gen_random_uuid() AS vehicle, gen_random_uuid() AS job,
           (ARRAY['Halden', 'Orvane', 'Tessel', 'Brigg'])[1 + (n / 512) %% 4] AS make,
           (ARRAY['radiator fan never runs', 'lamp glows weakly', 'does not start when cold', 'warning light comes and goes', 'no power uphill',
                  'wiper stays up', 'trailer socket dead', 'idle hunts after rain'])[1 + n %% 8] AS what,
           (ARRAY['quay', 'slipway', 'lighthouse', 'ferry', 'dry dock', 'fish market', 'harbour wall', 'customs shed'])[1 + (n / 8) %% 8] AS place,
           (ARRAY['P0480', 'P0073', 'P0193', 'B1D10', 'U0157', 'P2122', 'P0532', ''])[1 + (n / 64) %% 8] AS code
    FROM generate_series(1, %(count)s) n
), vehicles AS (
    INSERT INTO vehicle (id, make, model, year, plate)
    SELECT vehicle, make, 'Tern', 2010 + n %% 12, 'PB ' || n || chr(65 + n %% 26) FROM made
)
INSERT INTO job (id, client_key, vehicle_id, complaint, codes, stage)
SELECT job, gen_random_uuid(), vehicle, 'Since the ' || place || ': ' || what || ', ticket ' || n, code,
       (ARRAY['check-in', 'testing', 'diagnosis', 'repair', 'verify', 'closed', 'closed', 'closed'])[1 + n %% 8]
FROM made
"""

QUESTIONS = {
    "newest page": "/jobs",
    "one stage": "/jobs?stage=verify",
    "page 1000": "/jobs?before={middle}",
    "plate": "/jobs?q=PB4711",
    "code": "/jobs?q=P0480",
    "two words": "/jobs?q=slipway+trailer",
    "other name of a part": "/jobs?q=" + quote("cooling fan quay"),
    "one rare word": "/jobs?q=54321",
    "a word in every job": "/jobs?q=since",
    "nothing found": "/jobs?q=zeppelin",
}


def main() -> None:
    """Make the jobs, ask, print p50 and p95 of each search_query over those of the empty request."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--jobs", type=int, default=100_000)
    parser.add_argument("--rounds", type=int, default=60)
    arguments = parser.parse_args()
    with running() as site:
        begun = time.perf_counter()
        with psycopg.connect(site.dsn, autocommit=True) as db:
            row = db.execute("SELECT id FROM workshop").fetchone()
            assert row is not None
            with db.transaction():
                act_for(db, row[0])
                db.execute(MAKE_JOBS, {"count": arguments.jobs})
            db.execute("VACUUM ANALYZE")
        print(f"{arguments.jobs} jobs made in {time.perf_counter() - begun:.0f} s", flush=True)
        client = Client(site.port, "t0")
        spans: dict[str, list[float]] = {"empty": [], **{name: [] for name in QUESTIONS}}
        found: dict[str, int] = {}
        for round_number in range(arguments.rounds + 5):
            for name, path in {"empty": "/health", **QUESTIONS}.items():
                begun = time.perf_counter()
                status, answer = client("GET", path.format(middle=arguments.jobs // 2))
                assert status == 200, answer
                if round_number >= 5:  # the first rounds warm caches, as the first minutes of a day would
                    spans[name].append((time.perf_counter() - begun) * 1000)
                found[name] = len(answer.get("jobs", []))
    base50, base95 = np.percentile(spans["empty"], [50, 95])
    print(f"empty request: p50 {base50:.1f} ms, p95 {base95:.1f} ms")
    for name in QUESTIONS:
        p50, p95 = np.percentile(spans[name], [50, 95])
        print(
            json.dumps(
                {
                    "search_query": name,
                    "jobs on the page": found[name],
                    "p50 ratio": round(p50 / base50, 1),
                    "p95 ratio": round(p95 / base95, 1),
                }
            )
        )


if __name__ == "__main__":
    main()
