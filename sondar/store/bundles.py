"""All rows of a job as plain data, and back: for a job bundle. Whose account wrote what goes out as a name and is not made up anew."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any
from uuid import UUID, uuid4

from psycopg import sql
from psycopg.types.json import Jsonb

from sondar.core.errors import invalid
from sondar.store.database import Db

Row = dict[str, Any]


@dataclass(frozen=True)
class Kept:
    """A table of a job.

    Attributes:
        columns: what goes out and comes in. has_id: its rows are named by others, so they get a new id on the way in.
        of: the table by which its rows belong to the job, and the column that says so. refs: columns -> the table they name.
        authored: it says whose account wrote a row.
    """

    table: str
    columns: tuple[str, ...]
    has_id: bool = False
    of: tuple[str, str] = ("job", "job_id")
    refs: Mapping[str, str] = field(default_factory=dict)
    authored: bool = True


_EACH = ("seq", "client_key", "created_at")
KEPT = (
    Kept("answer", (*_EACH, "field", "value")),
    Kept("note", (*_EACH, "body")),
    Kept("code_scan", (*_EACH, "source", "modules", "conditions"), has_id=True),
    Kept("scanned_code", ("position", "module", "code", "failure_type", "status"), of=("code_scan", "scan_id"), authored=False),
    Kept("clearing", (*_EACH, "source"), refs={"scan_id": "code_scan"}),
    Kept("photo", (*_EACH, "caption", "sha256", "media_type", "width", "height"), has_id=True),
    Kept("circuit_diagnosis", (*_EACH, "reason", "triage_prior"), has_id=True, refs={"circuit_version_id": "circuit_version"}),
    Kept(
        "circuit_revision", (*_EACH, "said"), refs={"diagnosis_id": "circuit_diagnosis", "circuit_version_id": "circuit_version"},
    ),
    Kept(
        "reading",
        (*_EACH, "instrument", "red", "black", "controls", "unplugged", "temperature_c", "entry", "value_si", "state", "resolution_si", "source",
         "note", "present", "meter_error_si"),
        has_id=True, refs={"diagnosis_id": "circuit_diagnosis"},
    ),
    Kept("voided_reading", (*_EACH, "reason"), refs={"reading_id": "reading"}),
    Kept("exclusion", (*_EACH, "kind", "name", "excluded", "minutes", "price"), refs={"diagnosis_id": "circuit_diagnosis"}),
    Kept("conclusion", (*_EACH, "sentence", "fault_group", "units", "certainty", "settled"), refs={"diagnosis_id": "circuit_diagnosis"}),
    Kept("repair", (*_EACH, "units", "action", "substituted"), refs={"diagnosis_id": "circuit_diagnosis"}),
    Kept(
        "statement", ("readings", "engine", "sentence", "units", "certainty", "created_at"), of=("circuit_diagnosis", "diagnosis_id"),
        refs={"last_reading": "reading"}, authored=False,
    ),
    Kept(
        "recording", (*_EACH, "name", "source", "bytes", "state", "problem", "notes", "began_at", "start_s", "end_s", "samples"), has_id=True,
    ),
    Kept(
        "recording_channel", ("number", "name", "unit", "role"), of=("recording", "recording_id"), authored=False,
    ),
    Kept("recording_lane", ("number", "name", "changes", "commands"), of=("recording", "recording_id"), authored=False),
    Kept("recording_mark", ("client_key", "at_s", "text", "created_at"), of=("recording", "recording_id")),
    Kept("recording_tie", ("name", "tie"), of=("recording", "recording_id"), authored=False),
)  # fmt: skip
"""In the order in which they come in: what is named stands before what names it."""

READ_ANEW = ("recording_channel", "recording_lane")
"""Put together from a recording's file when it comes in, not inserted as rows."""


def rows_of(db: Db, job_id: UUID) -> dict[str, list[Row]]:
    """Every row of a job by table, as JSON would have it, in order. Recordings that are not ready are left out."""
    found: dict[str, list[Row]] = {}
    ids: dict[str, list[str]] = {"job": [str(job_id)]}
    for kept in KEPT:
        names = [*(("id",) if kept.has_id else ()), *kept.columns, *kept.refs, *((kept.of[1],) if kept.of[0] != "job" else ())]
        pairs = sql.SQL(", ").join(sql.SQL("{}, to_jsonb(t.{})").format(sql.Literal(name), sql.Identifier(name)) for name in names)
        by = sql.SQL(", 'by', (SELECT a.name FROM account a WHERE a.id = t.account_id)") if kept.authored else sql.SQL("")
        ready = sql.SQL(" AND t.state = 'ready'") if kept.table == "recording" else sql.SQL("")
        # What has no number of its own stands in the order of its times.
        order = sql.Identifier(next((name for name in ("seq", "created_at") if name in kept.columns), kept.columns[0]))
        rows = db.execute(
            sql.SQL("SELECT jsonb_build_object({}{}) FROM {} t WHERE t.{} = ANY(%s){} ORDER BY t.{}, t.{}").format(
                pairs, by, sql.Identifier(kept.table), sql.Identifier(kept.of[1]), ready, sql.Identifier(kept.of[1]), order
            ),
            (ids.get(kept.of[0], []),),
        ).fetchall()
        found[kept.table] = [row[0] for row in rows]
        if kept.of[0] != "job":
            # In the order of what they belong to, which does not hang on ids.
            place = {owner: at for at, owner in enumerate(ids.get(kept.of[0], []))}
            found[kept.table].sort(key=lambda row, kept=kept, place=place: place[row[kept.of[1]]])  # type: ignore[misc]
        if kept.has_id:
            ids[kept.table] = [row["id"] for row in found[kept.table]]
    return found


def circuit_texts(db: Db, rows: Mapping[str, list[Row]]) -> dict[str, str]:
    """Version id -> text of every circuit that a job's diagnoses were made with."""
    wanted = {row["circuit_version_id"] for table in ("circuit_diagnosis", "circuit_revision") for row in rows[table]}
    found = db.execute("SELECT id, source_text FROM circuit_version WHERE id = ANY(%s)", (list(wanted),)).fetchall()
    return {str(version): text for version, text in found}


def pictures(db: Db, photo_ids: list[str]) -> Iterator[tuple[str, bytes, bytes]]:
    """(id, picture, thumbnail) of photographs, one at a time."""
    for photo_id in photo_ids:
        row = db.execute("SELECT body, thumbnail FROM photo WHERE id = %s", (photo_id,)).fetchone()
        if row is not None:
            yield photo_id, bytes(row[0]), bytes(row[1])


def job_head(db: Db, job_id: UUID) -> Row:
    """The job's own fields, and its vehicle's."""
    row = db.execute(
        "SELECT jsonb_build_object('client_key', j.client_key, 'complaint', j.complaint, 'codes', j.codes, 'temperature_c', j.temperature_c, "
        "'stage', j.stage, 'last_seq', j.last_seq, 'created_at', j.created_at, 'number', j.number, 'vehicle', jsonb_build_object("
        "'make', v.make, 'model', v.model, 'year', v.year, 'plate', v.plate, 'mileage_km', v.mileage_km, 'engine', v.engine, 'vin', v.vin, "
        "'starting', v.starting)) "
        "FROM job j JOIN vehicle v ON v.id = j.vehicle_id WHERE j.id = %s",
        (job_id,),
    ).fetchone()
    assert row is not None
    head: Row = row[0]
    return head


def insert_job(db: Db, head: Row, vehicle_id: UUID, model_id: UUID | None) -> UUID:
    """The job itself, with its number anew."""
    row = db.execute(
        "INSERT INTO job (client_key, vehicle_id, vehicle_model_id, complaint, codes, temperature_c, stage, last_seq, created_at) "
        "VALUES (%(client_key)s, %(vehicle_id)s, %(model_id)s, %(complaint)s, %(codes)s, %(temperature_c)s, %(stage)s, %(last_seq)s, "
        "%(created_at)s) RETURNING id",
        {**head, "vehicle_id": vehicle_id, "model_id": model_id},
    ).fetchone()
    assert row is not None
    return UUID(str(row[0]))


def insert_rows(
    db: Db, job_id: UUID, rows: Mapping[str, list[Row]], versions: Mapping[str, UUID], photos: Mapping[str, tuple[bytes, bytes]]
) -> dict[str, dict[str, str]]:
    """All rows of a bundle; returns old id -> new id by table.

    Args:
        versions: version id of the bundle -> the circuit version here. photos: photo id of the bundle -> (picture, thumbnail).

    Raises:
        InvalidError: a row names another that the bundle does not have.
    """
    ids: dict[str, dict[str, str]] = {"circuit_version": {old: str(new) for old, new in versions.items()}}
    for kept in KEPT:
        if kept.table in READ_ANEW:
            continue
        named = ids[kept.table] = {}
        ready = []
        for index, row in enumerate(rows.get(kept.table, [])):
            one = {name: row.get(name) for name in kept.columns}
            for column, table in (*kept.refs.items(), *(((kept.of[1], kept.of[0]),) if kept.of[0] != "job" else ())):
                if row.get(column) is not None and row[column] not in ids[table]:
                    raise invalid(f"{kept.table}[{index}].{column}", f"names a {table} that this bundle does not have")
                one[column] = ids[table].get(row.get(column, ""))
            if kept.of[0] == "job":
                one["job_id"] = str(job_id)
            if kept.has_id:
                one["id"] = named[row["id"]] = str(uuid4())
            if kept.table == "photo":
                one["body"], one["thumbnail"] = ("\\x" + part.hex() for part in photos[row["id"]])
            if kept.table == "recording":
                one["state"] = "reading"
            if kept.table == "recording_tie" and isinstance(one["tie"], dict) and "diagnosis_id" in one["tie"]:
                one["tie"] = {**one["tie"], "diagnosis_id": ids["circuit_diagnosis"].get(one["tie"]["diagnosis_id"], "")}
            ready.append(one)
        if ready:
            columns = sql.SQL(", ").join(sql.Identifier(name) for name in ready[0])
            table = sql.Identifier(kept.table)
            db.execute(
                sql.SQL("INSERT INTO {} ({}) SELECT {} FROM jsonb_populate_recordset(NULL::{}, %s)").format(
                    table, columns, columns, table
                ),
                (Jsonb(ready),),
            )
    return ids
