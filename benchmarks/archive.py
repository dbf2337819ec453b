"""Job list and search in a workshop with 100,000 jobs and what their reports are made of, as a multiple of an empty request.

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

MAKE_REPORTS = """
WITH dealt AS (
    SELECT id, row_number() OVER () AS n FROM job WHERE stage = 'closed'
), circuits AS (
    INSERT INTO circuit_diagnosis (id, job_id, seq, client_key, circuit_version_id, reason, triage_prior)
    SELECT gen_random_uuid(), id, 1, gen_random_uuid(), (SELECT id FROM circuit_version ORDER BY id LIMIT 1), 'the code names it', '{}' FROM dealt
    RETURNING id, job_id
), concluded AS (
    INSERT INTO conclusion (job_id, diagnosis_id, seq, client_key, sentence, fault_group, units, certainty, settled)
    SELECT job_id, id, 2, gen_random_uuid(), 'Wiring: Wire W8 open (98 %%).', 'wiring', ARRAY['W8'], 0.98, true FROM circuits
)
INSERT INTO answer (job_id, seq, client_key, field, value)
SELECT id, 2 + a.seq, gen_random_uuid(), a.field, a.value FROM dealt, LATERAL (VALUES
    (1, 'outcome', to_jsonb((ARRAY['fixed', 'partly', 'fixed', 'fixed'])[1 + n %% 4])),
    (2, 'made_it_fail', to_jsonb('Salt water behind the bumper.'::text)),
    (3, 'may_drive', to_jsonb('yes'::text)), (4, 'follow_up', to_jsonb((date '2026-01-01' + (n %% 400)::int)::text)),
    (5, 'parts', to_jsonb(ARRAY['Splice set | | SP-2 | new | Store | 3,50 | not checked | ']))) AS a (seq, field, value)
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
    "an outcome": "/jobs?q=partly",
    "to be asked after": "/follow-ups?until=2026-03-01",
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
                db.execute(MAKE_REPORTS, {})
                db.execute("UPDATE job SET search = job_search_text(id)")  # what a web process does after something was written
                db.execute("DELETE FROM search_due")
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
