"""A job as one file of open formats, and a job from such a file: nothing that was measured, said or concluded is lost on the way.

What comes in is checked like what people enter: sizes before anything is unpacked, every file against its SHA-256, every circuit, reading and
answer against the rules, and every row only as part of the new job.
"""

from __future__ import annotations

import csv
import hashlib
import io
import json
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

import psycopg
from pydantic import ValidationError

from sondar.app import answer_fields
from sondar.app.computed import Computed
from sondar.app.judging import WantedTest, wanted_test
from sondar.app.photos import prepare_photo
from sondar.app.workspace import Workspace, known_job
from sondar.circuit_files import load_circuit_text
from sondar.core import ENGINE_VERSION
from sondar.core.bundle import Bundle
from sondar.core.circuit.network import Circuit
from sondar.core.errors import ConflictError, RefusedError, TooLargeError, invalid
from sondar.core.instruments import instrument
from sondar.core.recordings.model import Channel, Lane, Recording
from sondar.core.recordings.packed import pack
from sondar.recording_files.dialect import understand
from sondar.recording_files.tables import read_table, write_table
from sondar.store import bundles as store
from sondar.store import circuits, jobs, people, recordings, vehicles
from sondar.store.bundles import Row

MOST_FILES, MOST_UNPACKED = 400, 400 * 1024 * 1024
READING_COLUMNS = (
    "seq",
    "created_at",
    "by",
    "instrument",
    "red",
    "black",
    "controls",
    "unplugged",
    "temperature_c",
    "entry",
    "value_si",
    "state",
    "note",
)


def exported(work: Workspace, job_id: UUID) -> tuple[int, bytes]:
    """(job number, zip file) of a job."""
    with work.transaction() as db:
        job = known_job(db, job_id)
        head, rows = store.job_head(db, job_id), store.rows_of(db, job_id)
        texts, workshop = store.circuit_texts(db, rows), people.workshop(db).name
        photos = list(store.pictures(db, [row["id"] for row in rows["photo"]]))
        taken = {
            row["id"]: recordings.all_samples(db, UUID(row["id"]), recordings.heads(db, UUID(row["id"])))
            for row in rows["recording"]
        }
    files: dict[str, bytes] = {"readings.csv": _readings_csv(rows["reading"])}
    circuit_files, photo_files, recording_files = {}, {}, {}
    for version, text in texts.items():
        name = circuit_files[version] = f"circuits/{hashlib.sha256(text.encode()).hexdigest()[:16]}.yaml"
        files[name] = text.encode()
    endings = {row["id"]: row["media_type"].removeprefix("image/") for row in rows["photo"]}
    for photo_id, body, thumbnail in photos:
        name = photo_files[photo_id] = f"photos/{photo_id}.{endings[photo_id]}"
        files[name], files[f"photos/{photo_id}-small.jpg"] = body, thumbnail
    for recording_id, channels in taken.items():
        name = recording_files[recording_id] = f"recordings/{recording_id}.csv"
        files[name] = b"".join(write_table(Recording(channels)))
    bundle = Bundle(
        sondar_bundle=1, engine=ENGINE_VERSION, workshop=workshop, job=head, rows=rows, circuits=circuit_files, photos=photo_files,
        recordings=recording_files,
    )  # type: ignore[arg-type]  # fmt: skip
    files["job.json"] = bundle.model_dump_json(indent=1).encode()
    return job.number, _zipped(files)


def _readings_csv(rows: list[Row]) -> bytes:
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(READING_COLUMNS)
    for row in rows:
        writer.writerow(
            [
                json.dumps(value, ensure_ascii=False) if isinstance(value := row.get(name), dict | list) else value
                for name in READING_COLUMNS
            ]
        )
    return text.getvalue().encode()


def _zipped(files: Mapping[str, bytes]) -> bytes:
    manifest = {
        "sondar_bundle": 1, "made": datetime.now(UTC).isoformat(timespec="seconds"),
        "files": {name: hashlib.sha256(body).hexdigest() for name, body in sorted(files.items())},
    }  # fmt: skip
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("manifest.json", json.dumps(manifest, indent=1))
        for name, body in sorted(files.items()):
            archive.writestr(name, body)
    return held.getvalue()


@dataclass(frozen=True)
class _Unpacked:
    bundle: Bundle
    files: dict[str, bytes]


def _unpacked(raw: bytes) -> _Unpacked:
    """The files of a bundle, each as its manifest says.

    Raises:
        InvalidError: it is none, or a file is missing or was changed. TooLargeError: more than is taken.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(raw)) as archive:
            entries = archive.infolist()
            if len(entries) > MOST_FILES or sum(entry.file_size for entry in entries) > MOST_UNPACKED:
                raise TooLargeError(
                    "Bundle too large", f"at most {MOST_FILES} files and {MOST_UNPACKED // 1024 // 1024} MB unpacked"
                )
            files = {entry.filename: archive.read(entry) for entry in entries}
    except (zipfile.BadZipFile, zipfile.LargeZipFile, NotImplementedError, RuntimeError, EOFError, OSError, ValueError) as error:
        raise invalid("bundle", "it is no zip file, or it is damaged: fetch it again") from error
    except RefusedError:
        raise
    except Exception as error:  # zlib.error and whatever else a damaged zip file raises
        raise invalid("bundle", "it is damaged: fetch it again") from error
    try:
        said = json.loads(files["manifest.json"])["files"]
        expected = {str(name): str(digest) for name, digest in said.items()}
    except (KeyError, ValueError, TypeError, AttributeError, RecursionError) as error:
        raise invalid("bundle", "it has no manifest.json that lists its files: it is no job bundle") from error
    for name, digest in expected.items():
        if name not in files:
            raise invalid("bundle", f"{name} is missing in it")
        if hashlib.sha256(files[name]).hexdigest() != digest:
            raise invalid("bundle", f"{name} was changed after the bundle was made: its SHA-256 is another")
    if "job.json" not in expected:
        raise invalid("bundle", "job.json is missing in it")
    try:
        return _Unpacked(Bundle.model_validate_json(files["job.json"]), {name: files[name] for name in expected})
    except ValidationError as error:
        first = error.errors()[0]
        raise invalid("bundle", f"job.json, {'.'.join(map(str, first['loc']))}: {first['msg']}") from error


def imported(work: Workspace, raw: bytes) -> UUID:
    """A new job from a bundle.

    Raises:
        InvalidError: it is no bundle, or something in it is not possible. ConflictError: the job is here already.
    """
    found = _unpacked(raw)
    bundle = found.bundle
    with work.transaction() as db:
        here = jobs.job_of_key(db, UUID(bundle.job.client_key))
        if here is not None:
            raise ConflictError("Here already", f"this is job {known_job(db, here).number} of this workshop: open that one")
    texts = {version: _file(found, name).decode("utf-8", "replace") for version, name in bundle.circuits.items()}
    photos = work.compute("bundle", _checked, bundle.rows, texts, {i: _file(found, name) for i, name in bundle.photos.items()})
    taken = {i: work.compute("bundle", _channels, _file(found, name)) for i, name in bundle.recordings.items()}
    try:
        with work.transaction() as db:
            vehicle_id = vehicles.create_vehicle(db, vehicles.NewVehicle(**bundle.job.vehicle.model_dump()))
            model_id = vehicles.model_for(db, bundle.job.vehicle.make, bundle.job.vehicle.model, bundle.job.vehicle.year)
            job_id = store.insert_job(db, bundle.job.model_dump(exclude={"vehicle", "number"}), vehicle_id, model_id)
            stored = circuits.stored_texts(db)
            versions = {
                v: (stored.get(text) or circuits.save_circuit(db, load_circuit_text(text), text)).id for v, text in texts.items()
            }
            ids = store.insert_rows(db, job_id, bundle.rows, versions, photos)
            for row in bundle.rows.get("recording", []):
                whole = _recording(row["id"], bundle.rows, taken.get(row["id"], []))
                began = datetime.fromisoformat(row["began_at"]).timestamp() if row.get("began_at") else None
                recordings.keep(db, UUID(ids["recording"][row["id"]]), pack(whole, began, row.get("notes") or []))
    except (psycopg.IntegrityError, psycopg.DataError) as error:
        said = str(error.diag.message_primary or error)[:200]
        raise invalid("bundle", f"a row of it cannot be kept: {said}") from error
    except (KeyError, TypeError, ValueError, AttributeError, IndexError) as error:
        raise invalid("bundle", f"a row of it lacks a field or holds something else than it should: {str(error)[:100]}") from error
    return job_id


def _file(found: _Unpacked, name: str) -> bytes:
    if name not in found.files:
        raise invalid("bundle", f"{name} is missing in it")
    return found.files[name]


def _checked(
    computed: Computed, rows: Mapping[str, list[Row]], texts: Mapping[str, str], photos: Mapping[str, bytes]
) -> dict[str, tuple[bytes, bytes]]:
    """Photographs as they are kept, after everything has been held against the rules."""
    networks = {version: Circuit(load_circuit_text(text)) for version, text in texts.items()}
    made_with = {row.get("id"): row.get("circuit_version_id") for row in rows.get("circuit_diagnosis", [])}
    made_with |= {row.get("diagnosis_id"): row.get("circuit_version_id") for row in rows.get("circuit_revision", [])}
    for index, row in enumerate(rows.get("reading", [])):
        try:
            circuit = networks[str(made_with[row["diagnosis_id"]])]
            wanted = WantedTest(row["instrument"], row["red"], row["black"], row["controls"], row["unplugged"])
            wanted_test(circuit, wanted, float(row["temperature_c"]))
            instrument(row["instrument"]).understand(row["entry"])
        except (KeyError, TypeError, ValueError) as error:
            raise invalid(f"reading[{index}]", "it lacks a field, or names a diagnosis that is not there") from error
        except RefusedError as error:
            raise invalid(f"reading[{index}]", error.detail) from error
    for index, row in enumerate(rows.get("answer", [])):
        check = answer_fields.FIELDS.get(str(row.get("field")))
        try:
            if check is None:
                raise ValueError("no such field")
            check(row.get("value"))
        except (ValueError, TypeError) as error:
            raise invalid(f"answer[{index}]", f"{row.get('field')}: {error}") from error
    return {str(row["id"]): _picture(computed, index, row, photos) for index, row in enumerate(rows.get("photo", []))}


def _picture(computed: Computed, index: int, row: Row, photos: Mapping[str, bytes]) -> tuple[bytes, bytes]:
    """A picture as it came, if it is what its row says, and a thumbnail of our own making."""
    body = photos.get(str(row.get("id")))
    if body is None:
        raise invalid(f"photo[{index}]", "its picture is missing in the bundle")
    made: dict[str, Any] = prepare_photo(computed, body)
    said, seen = (row.get("media_type"), row.get("sha256")), (made["media_type"], hashlib.sha256(body).hexdigest())
    if said != seen:
        raise invalid(f"photo[{index}]", "its picture is not the one that its row describes")
    return body, made["thumbnail"]


def _channels(_computed: Computed, raw: bytes) -> list[Channel]:
    return list(read_table(raw, understand(raw).mapping).recording.channels)


def _recording(recording_id: str, rows: Mapping[str, list[Row]], channels: list[Channel]) -> Recording:
    """A recording from its file, with the names and roles that its rows say."""
    by_name = {channel.name: channel for channel in channels}
    heads = sorted(
        (row for row in rows.get("recording_channel", []) if row.get("recording_id") == recording_id), key=lambda row: row["number"]
    )
    if missing := [row["name"] for row in heads if row["name"] not in by_name]:
        raise invalid("recordings", f"the channel '{missing[0]}' is not in its file")
    lanes = sorted(
        (row for row in rows.get("recording_lane", []) if row.get("recording_id") == recording_id), key=lambda row: row["number"]
    )
    return Recording(
        tuple(Channel(row["name"], row["unit"], by_name[row["name"]].t, by_name[row["name"]].y, row["role"]) for row in heads),
        tuple(
            Lane(row["name"], tuple((float(t), str(word)) for t, word in row["changes"]), bool(row["commands"])) for row in lanes
        ),
    )
