"""Appended evidence of a job: readings, voidings, points and tools ruled out, conclusions called."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from psycopg import sql
from psycopg.rows import class_row
from psycopg.types.json import Jsonb

from sondar.core.instruments.base import Test
from sondar.core.quantities import Entry
from sondar.store.database import Db
from sondar.store.jobs import CircuitDiagnosis, advance, next_seq


@dataclass(frozen=True, kw_only=True)
class ReadingFields:
    """What a reading says: instrument, probes, set-up, what was entered and how it was understood (SI units)."""

    instrument: str
    red: str
    black: str
    controls: dict[str, str]
    unplugged: list[str]
    temperature_c: float
    entry: str
    value_si: float | None
    state: str | None
    resolution_si: float
    source: str
    note: str = ""
    present: float = 1.0
    meter_id: UUID | None = None
    meter_error_si: float = 0.0


@dataclass(frozen=True, kw_only=True)
class StoredReading(ReadingFields):
    """A reading as kept, with its voiding if there is one."""

    id: UUID
    seq: int
    created_at: datetime
    voided_because: str | None
    by: str | None


@dataclass(frozen=True, kw_only=True)
class NewReading(ReadingFields):
    """A reading to append; ``client_key`` makes a repeat harmless."""

    client_key: UUID

    @classmethod
    def of(
        cls, client_key: UUID, test: Test, text: str, entry: Entry, source: str, note: str = "", *, present: float = 1.0,
        meter_id: UUID | None = None, meter_error_si: float = 0.0,
    ) -> NewReading:  # fmt: skip
        """From a test and what was entered for it."""
        return cls(
            client_key=client_key, instrument=test.instrument, red=test.red, black=test.black, controls=dict(test.setup.controls),
            unplugged=sorted(test.setup.unplugged), temperature_c=test.setup.temperature_c, entry=text, value_si=entry.value,
            state=entry.state, resolution_si=entry.resolution, source=source, note=note, present=present,
            meter_id=meter_id, meter_error_si=meter_error_si,
        )  # fmt: skip


def _already(db: Db, table: str, job_id: UUID, client_key: UUID) -> bool:
    query = sql.SQL("SELECT 1 FROM {} WHERE job_id = %s AND client_key = %s").format(sql.Identifier(table))
    return db.execute(query, (job_id, client_key)).fetchone() is not None


def append_reading(db: Db, diagnosis: CircuitDiagnosis, reading: NewReading) -> bool:
    """Append a reading; False if its client key was there already and nothing was added.

    The job row is locked first, so two repeats that cross cannot both append.
    """
    seq = next_seq(db, diagnosis.job_id)
    if _already(db, "reading", diagnosis.job_id, reading.client_key):
        return False
    db.execute(
        """
        INSERT INTO reading (job_id, diagnosis_id, seq, client_key, instrument, red, black, controls, unplugged, temperature_c, entry,
                             value_si, state, resolution_si, source, note, present, meter_id, meter_error_si)
        VALUES (%(job_id)s, %(diagnosis_id)s, %(seq)s, %(client_key)s, %(instrument)s, %(red)s, %(black)s, %(controls)s, %(unplugged)s,
                %(temperature_c)s, %(entry)s, %(value_si)s, %(state)s, %(resolution_si)s, %(source)s, %(note)s, %(present)s, %(meter_id)s,
                %(meter_error_si)s)
        """,
        {
            **reading.__dict__,
            "controls": Jsonb(reading.controls),
            "job_id": diagnosis.job_id,
            "diagnosis_id": diagnosis.id,
            "seq": seq,
        },
    )
    return True


def void_reading(db: Db, diagnosis: CircuitDiagnosis, reading_id: UUID, client_key: UUID, reason: str) -> str:
    """Append a voiding: ``done``, ``repeat`` (same key or already voided) or ``unknown`` (no such reading in the diagnosis)."""
    seq = next_seq(db, diagnosis.job_id)
    if db.execute("SELECT 1 FROM reading WHERE id = %s AND diagnosis_id = %s", (reading_id, diagnosis.id)).fetchone() is None:
        return "unknown"
    row = db.execute(
        """
        INSERT INTO voided_reading (job_id, seq, client_key, reading_id, reason) VALUES (%s, %s, %s, %s, %s)
        ON CONFLICT DO NOTHING RETURNING id
        """,
        (diagnosis.job_id, seq, client_key, reading_id, reason),
    ).fetchone()
    return "done" if row is not None else "repeat"


def append_exclusion(
    db: Db, diagnosis: CircuitDiagnosis, client_key: UUID, kind: str, name: str, excluded: bool,
    minutes: float | None = None, price: float | None = None,
) -> bool:  # fmt: skip
    """Rule a point, an instrument or a figure out, or back in, or say that something is seized; False for a repeat."""
    seq = next_seq(db, diagnosis.job_id)
    row = db.execute(
        """
        INSERT INTO exclusion (job_id, diagnosis_id, seq, client_key, kind, name, excluded, minutes, price)
        VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s) ON CONFLICT DO NOTHING RETURNING id
        """,
        (diagnosis.job_id, diagnosis.id, seq, client_key, kind, name, excluded, minutes, price),
    ).fetchone()
    return row is not None


def newest_evidence(db: Db, diagnosis_id: UUID) -> int:
    """Sequence number of the newest entry that a diagnosis rests on: a reading, one voided, an exclusion, a repair, something filled in.

    0 if there is none."""
    row = db.execute(
        """
        SELECT greatest(
            (SELECT max(seq) FROM reading WHERE diagnosis_id = %(id)s), (SELECT max(seq) FROM exclusion WHERE diagnosis_id = %(id)s),
            (SELECT max(seq) FROM repair WHERE diagnosis_id = %(id)s), (SELECT max(seq) FROM circuit_revision WHERE diagnosis_id = %(id)s),
            (SELECT max(v.seq) FROM voided_reading v JOIN reading r ON r.id = v.reading_id WHERE r.diagnosis_id = %(id)s), 0)
        """,
        {"id": diagnosis_id},
    ).fetchone()
    assert row is not None
    return int(row[0])


def has_conclusion(db: Db, diagnosis_id: UUID, client_key: UUID) -> bool:
    """True if a conclusion of this client key has been kept."""
    found = db.execute(
        "SELECT 1 FROM conclusion WHERE diagnosis_id = %s AND client_key = %s", (diagnosis_id, client_key)
    ).fetchone()
    return found is not None


def append_conclusion(db: Db, diagnosis: CircuitDiagnosis, client_key: UUID, conclusion: dict[str, Any]) -> bool:
    """Record a called conclusion as it stood; False for a repeat."""
    seq = next_seq(db, diagnosis.job_id)
    row = db.execute(
        """
        INSERT INTO conclusion (job_id, diagnosis_id, seq, client_key, sentence, fault_group, units, certainty, settled)
        VALUES (%(job_id)s, %(diagnosis_id)s, %(seq)s, %(client_key)s, %(sentence)s, %(group)s, %(units)s, %(certainty)s, %(settled)s)
        ON CONFLICT DO NOTHING RETURNING id
        """,
        {**conclusion, "job_id": diagnosis.job_id, "diagnosis_id": diagnosis.id, "seq": seq, "client_key": client_key},
    ).fetchone()
    advance(db, diagnosis.job_id, "diagnosis")
    return row is not None


@dataclass(frozen=True)
class StoredRepair:
    """A repair as kept."""

    id: UUID
    seq: int
    units: list[str]
    action: str
    substituted: bool
    created_at: datetime
    by: str | None


def append_repair(
    db: Db, diagnosis: CircuitDiagnosis, client_key: UUID, units: list[str], action: str, *, substituted: bool
) -> bool:
    """Record a repair; False for a repeat."""
    seq = next_seq(db, diagnosis.job_id)
    row = db.execute(
        """
        INSERT INTO repair (job_id, diagnosis_id, seq, client_key, units, action, substituted) VALUES (%s, %s, %s, %s, %s, %s, %s)
        ON CONFLICT DO NOTHING RETURNING id
        """,
        (diagnosis.job_id, diagnosis.id, seq, client_key, units, action, substituted),
    ).fetchone()
    advance(db, diagnosis.job_id, "verify")
    return row is not None


def has_revision(db: Db, diagnosis: CircuitDiagnosis, client_key: UUID) -> bool:
    """True if the circuit of this diagnosis has been edited with this client key."""
    found = db.execute("SELECT 1 FROM circuit_revision WHERE job_id = %s AND client_key = %s", (diagnosis.job_id, client_key))
    return found.fetchone() is not None


def append_revision(db: Db, diagnosis: CircuitDiagnosis, client_key: UUID, circuit_version_id: UUID, said: str) -> bool:
    """Let a diagnosis go on with another version of its circuit; False for a repeat."""
    seq = next_seq(db, diagnosis.job_id)
    row = db.execute(
        """
        INSERT INTO circuit_revision (job_id, diagnosis_id, circuit_version_id, seq, client_key, said) VALUES (%s, %s, %s, %s, %s, %s)
        ON CONFLICT DO NOTHING RETURNING id
        """,
        (diagnosis.job_id, diagnosis.id, circuit_version_id, seq, client_key, said[:4000]),
    ).fetchone()
    return row is not None


def repairs_of(db: Db, diagnosis_id: UUID) -> list[StoredRepair]:
    """All repairs in order."""
    with db.cursor(row_factory=class_row(StoredRepair)) as cursor:
        return cursor.execute(
            """
            SELECT r.id, r.seq, r.units, r.action, r.substituted, r.created_at, a.name AS by
            FROM repair r LEFT JOIN account a ON a.id = r.account_id WHERE r.diagnosis_id = %s ORDER BY r.seq
            """,
            (diagnosis_id,),
        ).fetchall()


def readings_of(db: Db, diagnosis_id: UUID) -> list[StoredReading]:
    """All readings in order, voided ones included and marked."""
    with db.cursor(row_factory=class_row(StoredReading)) as cursor:
        return cursor.execute(
            """
            SELECT r.id, r.seq, r.instrument, r.red, r.black, r.controls, r.unplugged, r.temperature_c, r.entry, r.value_si, r.state,
                   r.resolution_si, r.source, r.note, r.present, r.meter_id, r.meter_error_si, r.created_at, t.reason AS voided_because,
                   a.name AS by
            FROM reading r LEFT JOIN voided_reading t ON t.reading_id = r.id LEFT JOIN account a ON a.id = r.account_id
            WHERE r.diagnosis_id = %s ORDER BY r.seq
            """,
            (diagnosis_id,),
        ).fetchall()


@dataclass(frozen=True)
class LastSetup:
    """How the last reading of a circuit diagnosis left the vehicle; ``on_trial`` are (number, part) of parts that were exchanged.

    ``probed`` are (number of the latest reading, connector) of connectors that were probed while they were connected.
    """

    diagnosis_id: UUID
    circuit_version_id: UUID
    seq: int
    controls: dict[str, str]
    unplugged: list[str]
    on_trial: list[tuple[int, str]]
    probed: list[tuple[int, str]]


def last_setups(db: Db, job_id: UUID, findings: Sequence[str], exchanges: Sequence[str], probing: Sequence[str]) -> list[LastSetup]:
    """The set-up of the last valid reading of each circuit diagnosis of a job.

    Args:
        findings: instruments whose readings belong to no set-up. exchanges: instruments that fit another part. probing: instruments with probes.
    """
    with db.cursor(row_factory=class_row(LastSetup)) as cursor:
        return cursor.execute(
            """
            WITH valid AS (
                SELECT r.* FROM reading r WHERE r.job_id = %(job)s AND NOT EXISTS (SELECT 1 FROM voided_reading t WHERE t.reading_id = r.id)
            ), last AS (
                SELECT DISTINCT ON (diagnosis_id) * FROM valid WHERE NOT instrument = ANY(%(findings)s) ORDER BY diagnosis_id, seq DESC
            )
            SELECT c.id AS diagnosis_id, c.circuit_version_id, coalesce(l.seq, 0) AS seq, coalesce(l.controls, '{}') AS controls,
                   coalesce(l.unplugged, '{}') AS unplugged,
                   (SELECT coalesce(json_agg(json_build_array(v.seq, v.red) ORDER BY v.seq), '[]') FROM valid v
                    WHERE v.diagnosis_id = c.id AND v.instrument = ANY(%(exchanges)s) AND NOT EXISTS (
                        SELECT 1 FROM repair p WHERE p.diagnosis_id = c.id AND p.seq > v.seq AND v.red = ANY(p.units))) AS on_trial,
                   (SELECT coalesce(json_agg(json_build_array(probed.seq, probed.connector) ORDER BY probed.connector), '[]') FROM (
                        SELECT max(v.seq) AS seq, split_part(ref, '.', 1) AS connector FROM valid v, unnest(ARRAY[v.red, v.black]) AS ref
                        WHERE v.diagnosis_id = c.id AND v.instrument = ANY(%(probing)s) AND strpos(ref, '.') > 0
                          AND NOT split_part(ref, '.', 1) = ANY(v.unplugged)
                        GROUP BY 2) probed) AS probed
            FROM current_diagnosis c LEFT JOIN last l ON l.diagnosis_id = c.id
            WHERE c.job_id = %(job)s AND EXISTS (SELECT 1 FROM valid v WHERE v.diagnosis_id = c.id) ORDER BY c.seq
            """,
            {"job": job_id, "findings": list(findings), "exchanges": list(exchanges), "probing": list(probing)},
        ).fetchall()


@dataclass(frozen=True)
class Seized:
    """A connector or part that comes apart only by force: minutes, what is destroyed in the workshop's money, and when it was said."""

    name: str
    minutes: float
    price: float
    seq: int


def seized_of(db: Db, diagnosis_id: UUID) -> list[Seized]:
    """What is said to be seized now; the latest entry on a name counts."""
    with db.cursor(row_factory=class_row(Seized)) as cursor:
        return cursor.execute(
            """
            SELECT name, minutes, price::double precision AS price, seq FROM (
                SELECT DISTINCT ON (name) name, minutes, price, seq, excluded FROM exclusion
                WHERE diagnosis_id = %s AND kind = 'seized' ORDER BY name, seq DESC
            ) latest WHERE excluded ORDER BY name
            """,
            (diagnosis_id,),
        ).fetchall()


def exclusions_of(db: Db, diagnosis_id: UUID) -> dict[str, list[str]]:
    """What is ruled out now: {"point": [...], "instrument": [...], "figure": [...]}; the latest entry on a name counts."""
    rows = db.execute(
        """
        SELECT kind, name FROM (
            SELECT DISTINCT ON (kind, name) kind, name, excluded FROM exclusion WHERE diagnosis_id = %s ORDER BY kind, name, seq DESC
        ) latest WHERE excluded AND kind <> 'seized' ORDER BY kind, name
        """,
        (diagnosis_id,),
    ).fetchall()
    found: dict[str, list[str]] = {"point": [], "instrument": [], "figure": []}
    for kind, name in rows:
        found[kind].append(name)
    return found


@dataclass(frozen=True)
class Statement:
    """What was said of a diagnosis after its newest reading, and by which version of the engine."""

    readings: int
    last_reading: UUID | None
    engine: str
    sentence: str
    units: list[str]
    certainty: float
    created_at: datetime


def add_statement(
    db: Db, diagnosis_id: UUID, readings: int, last_reading: UUID | None, engine: str, sentence: str, units: list[str], certainty: float
) -> None:  # fmt: skip
    """Keep what is said now."""
    db.execute(
        """
        INSERT INTO statement (diagnosis_id, readings, last_reading, engine, sentence, units, certainty)
        VALUES (%s, %s, %s, %s, %s, %s, %s)
        """,
        (diagnosis_id, readings, last_reading, engine, sentence, units, certainty),
    )


def last_statement(db: Db, diagnosis_id: UUID) -> Statement | None:
    """What was said last; None before the first reading."""
    with db.cursor(row_factory=class_row(Statement)) as cursor:
        return cursor.execute(
            """
            SELECT readings, last_reading, engine, sentence, units, certainty, created_at FROM statement
            WHERE diagnosis_id = %s ORDER BY id DESC LIMIT 1
            """,
            (diagnosis_id,),
        ).fetchone()
