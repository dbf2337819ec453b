"""A database that was begun with an earlier version becomes the same as a new one, and landed migrations stay as they are."""

from __future__ import annotations

import hashlib
import re
import subprocess

import psycopg
import pytest

from sondar.store.database import MIGRATIONS, migrate
from sondar.store.local_server import LocalServer, program

LANDED = {
    "0001.jobs": "3cdb4f34247fbe05",
    "0002.workshops": "62d2ed7d9e83a31a",
    "0003.intake": "486600632566d1b5",
    "0004.charts": "1c528409312fb635",
    "0005.words": "06eca1122ef4c1c2",
    "0006.repairs": "d237dc47dc76cec1",
    "0007.guards": "a233f5f6a6ea78ac",
    "0008.same-again": "2ab3a61c69acd2fa",
    "0009.search": "e5b4c7ea2ddab3a2",
    "0010.ready": "1e92b8dc4028cd41",
    "0011.tells": "e71e0eb4accfe7fc",
    "0012.housekeeping": "0b9a03c93236a6e8",
    "0013.advice": "597fc28842c82388",
    "0014.revisions": "b70eac58514a9e5b",
    "0015.follow-up": "f432d3d25bec1166",
    "0016.recordings": "6da3424cfbe4231a",
    "0017.commands": "f0aad646842c78ef",
    "0018.sent": "6d08d4620e7b6b7d",
    "0019.follow-up-due": "4559a70402cbe019",
    "0020.sheet-pictures": "32dcf6fb28127fa6",
    "0021.known-good": "573870fa3edc573f",
    "0022.figures-not-found": "78e3f60d351a5877",
    "0023.recording-quota": "c6af8725355b1a25",
    "0024.seized": "c7993adc6f524b29",
    "0025.starting": "ea1f18c705d84794",
    "0026.break-out-leads": "700264c6ac8776e8",
}
"""The first 16 digits of each migration's SHA-256. A change to a landed one leaves databases that differ: write a new one instead."""

AS_FIRST_LANDED = """
    DROP INDEX job_search;
    CREATE INDEX job_search ON job USING gin (search);
    DROP EXTENSION btree_gin;
    CREATE OR REPLACE FUNCTION search_jobs(wanted tsquery, below integer, wanted_stage text, most integer) RETURNS TABLE (id uuid)
        LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public AS $$
        SELECT j.id FROM job j
        WHERE j.workshop_id = current_workshop() AND j.search @@ wanted AND (below IS NULL OR j.number < below)
          AND (wanted_stage IS NULL OR j.stage = wanted_stage)
        ORDER BY j.number DESC LIMIT most
    $$;
"""
"""What the third migration made before it was changed."""


def test_landed_migrations_are_as_they_landed() -> None:
    found = {path.stem: hashlib.sha256(path.read_bytes()).hexdigest()[:16] for path in MIGRATIONS.glob("*.sql")}
    assert found == LANDED


@pytest.mark.parametrize("since", ["0001.jobs", "0003.intake", "0005.words", "0007.guards"])
def test_an_upgraded_schema_is_that_of_a_fresh_start(postgres: LocalServer, since: str) -> None:
    fresh, upgraded = database(postgres, "schema_fresh"), database(postgres, "schema_upgraded")
    migrate(fresh)
    migrate(upgraded, until=since)
    if since >= "0003.intake":
        with psycopg.connect(upgraded) as db:
            db.execute(AS_FIRST_LANDED)
        assert schema(upgraded) != schema(fresh), "what is compared can differ"
    if since >= "0006.repairs":
        with psycopg.connect(upgraded) as db:
            db.execute("ALTER TABLE workshop ALTER COLUMN tools SET DEFAULT '{voltmeter,ohmmeter,lamp-5w,lamp-21w,senses}'")
    migrate(upgraded)
    assert schema(upgraded) == schema(fresh)


def database(postgres: LocalServer, name: str) -> str:
    dsn = postgres.start()
    with psycopg.connect(dsn, autocommit=True) as db:
        db.execute(f"DROP DATABASE IF EXISTS {name}")
        db.execute(f"CREATE DATABASE {name}")
    return dsn.replace("dbname=sondar", f"dbname={name}")


def schema(dsn: str) -> list[str]:
    """Statements of the schema, sorted: columns of a table stand in the order in which they were added."""
    done = subprocess.run([program("pg_dump"), "--schema-only", "--no-comments", dsn], capture_output=True, text=True, check=True)
    statements = re.split(r"\n\n+", re.sub(r"(?m)^(--.*|\\(un)?restrict .*)$", "", done.stdout))
    return sorted(statement.strip() for statement in statements if statement.strip() and "yoyo" not in statement)
