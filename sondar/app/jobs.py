"""Jobs: check in, find, answer, note, photograph."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar
from uuid import UUID, uuid5

from sondar.app import answer_fields, job_record, judging
from sondar.app.computed import Computed, by_slug
from sondar.app.photos import prepare_photo
from sondar.app.repairs import unproved
from sondar.app.room import room_for_photographs
from sondar.app.workspace import Workspace, known_job, known_version
from sondar.circuit_files import circuits_in_vehicle
from sondar.code_library import part_kinds
from sondar.core.circuit.network import Circuit
from sondar.core.codes import parse_codes
from sondar.core.errors import ConflictError, NotFoundError, invalid
from sondar.core.former_names import FORMER_IDS, current_id
from sondar.core.instruments import INSTRUMENTS, at_hand
from sondar.core.instruments.substitution import Substitution
from sondar.core.put_back import Left, PutBack, to_put_back
from sondar.core.triage.model import TriageModel, symptom_menu
from sondar.core.triage.without_circuits import symptoms_of
from sondar.core.verification import code_proofs
from sondar.store import circuits as circuit_store
from sondar.store import codes as code_store
from sondar.store import evidence, keeping, people, vehicles
from sondar.store import intake as intake_store
from sondar.store import jobs as store
from sondar.store.circuits import CircuitVersion
from sondar.store.database import Db

T = TypeVar("T")
View = Callable[["JobDetail"], T]
"""What is made of a job's detail, in a worker: a function of a module."""


ASSUMED_C = 20.0
"""Temperature of parts that nobody has measured: computed with, and never said to be known."""


@dataclass(frozen=True)
class CheckIn:
    """A vehicle and its complaint: a vehicle that has been here, or a new one by its fields."""

    client_key: UUID
    vehicle_id: UUID | None
    vehicle: dict[str, Any] | None
    complaint: str
    codes: str
    temperature_c: float | None
    circuit_version_id: UUID | None


@dataclass(frozen=True)
class JobRecord:
    """Everything stored of a job but its readings, read in one transaction."""

    job: store.Job
    answers: dict[str, intake_store.Answer]
    diagnoses: list[store.CircuitDiagnosis]
    scans: list[code_store.Scan]
    codes: job_record.CodeFile
    meanings: dict[str, code_store.Meaning]
    photos: list[intake_store.Photo]
    earlier: list[store.Job]
    mileage_before: int | None
    workshop: people.Workshop
    model: vehicles.VehicleModel | None
    versions: dict[str, CircuitVersion]
    setups: list[tuple[evidence.LastSetup, CircuitVersion]]


@dataclass(frozen=True)
class JobDetail:
    """A job's record with the circuits of its vehicle, if they are known."""

    record: JobRecord
    model: TriageModel | None
    circuits: dict[str, Circuit]
    symptoms: dict[str, tuple[str, list[str]]]
    warnings: list[str]
    interface: bool
    put_back: list[tuple[PutBack, bool]]


_KNOWN = {name: INSTRUMENTS[current_id(name)] for name in (*INSTRUMENTS, *FORMER_IDS) if current_id(name) in INSTRUMENTS}
FINDINGS = tuple(name for name, device in _KNOWN.items() if device.finding)
EXCHANGES = tuple(name for name, device in _KNOWN.items() if device.id == Substitution.id)
PROBING = tuple(name for name, device in _KNOWN.items() if device.probes)
"""Instruments by all the names under which readings of them may be stored."""


def load_record(db: Db, job_id: UUID) -> JobRecord:
    """A job of this workshop with everything stored of it but its readings.

    Raises:
        NotFoundError: there is none.
    """
    job = known_job(db, job_id)
    answers = intake_store.answers_of(db, job_id)
    scans = code_store.scans_of(db, job_id)
    model = None if job.vehicle_model_id is None else vehicles.model_by_id(db, job.vehicle_model_id)
    circuits = () if model is None else circuits_in_vehicle(model.source_text)
    others = [j for j in store.jobs_of_vehicle(db, job.vehicle_id) if j.id != job_id]
    mileages = [_mileage_at(db, j.id) for j in others if j.number < job.number]
    return JobRecord(
        job, answers, store.diagnoses_of(db, job_id), scans, job_record.code_file(scans, code_store.clearings_of(db, job_id), answers),
        code_store.meanings(db, job.make, [code.code for scan in scans for code in scan.codes]), intake_store.photos_of(db, job_id), others,
        max((m for m in mileages if m is not None), default=None), people.workshop(db), model,
        by_slug(circuit_store.newest_circuits(db, circuits)),
        [
            (last, known_version(db, last.circuit_version_id)) for last in evidence.last_setups(db, job_id, FINDINGS, EXCHANGES, PROBING)
        ],
    )  # fmt: skip


def detail_of(computed: Computed, record: JobRecord, interface: bool) -> JobDetail:
    """What follows from a record, in a worker; ``interface`` says whether one is connected for its vehicle."""
    model = computed.triage_model(record.model, record.versions)
    circuits = {} if model is None else {slug: computed.circuit(record.versions[slug]) for slug in model.vehicle.circuits}
    job = record.job
    warnings = job_record.warnings(
        record.answers, job.vin, job_record.value_of(record.answers, "mileage_km", job.mileage_km), record.mileage_before,
        record.workshop.distance_unit,
    )  # fmt: skip
    if record.model is not None and model is None:
        warnings.append(
            f"The circuits of {record.model.title} do not fit together any more, so there is no order of testing: gather them again"
            " under Circuits. Each can still be tested by itself."
        )
    complaint, picked = job_record.noticed(record.answers, job.complaint)
    symptoms = symptoms_of(list(part_kinds().values()), complaint, picked) if model is None else dict(symptom_menu(model.vehicle))
    return JobDetail(record, model, circuits, symptoms, warnings, interface and model is not None, put_back_of(computed, record))


def put_back_of(computed: Computed, record: JobRecord) -> list[tuple[PutBack, bool]]:
    """What the readings have left on the vehicle, each with whether somebody has said that it is put back."""
    done = set(job_record.value_of(record.answers, "put_back", []))
    left = [
        Left(last.seq, computed.circuit(version), last.controls, last.unplugged, last.on_trial, last.probed)
        for last, version in record.setups
    ]
    return [(item, item.key in done) for item in to_put_back(left)]


def _viewed(computed: Computed, record: JobRecord, interface: bool, view: View[T]) -> T:
    return view(detail_of(computed, record, interface))


def viewed(work: Workspace, record: JobRecord, view: View[T]) -> T:
    """A record as ``view`` shows what follows from it."""
    interface = bool(work.devices.vehicle(record.job.simulated_vehicle))
    return work.compute(about(record), _viewed, record, interface, view)


def about(record: JobRecord) -> object:
    """Whose worker computes for a job: its vehicle's."""
    return None if record.model is None else record.model.id


def show(work: Workspace, job_id: UUID, view: View[T]) -> T:
    """The job as it stands; the first step of a diagnosis that has not been begun is worked out ahead."""
    with work.transaction() as db:
        record = load_record(db, job_id)
        unread = [d for d in record.diagnoses[-1:] if not d.readings]
        versions = [circuit_store.circuit_version(db, d.circuit_version_id) for d in unread]
    for version in versions:
        if version is not None:
            prepare_first(work, version, record)
    return viewed(work, record, view)


def prepare_first(work: Workspace, version: CircuitVersion, record: JobRecord) -> None:
    """Have the first step worked out on a circuit that is likely to be opened next, with the tools of this workshop."""
    known_to = job_record.temperature_sd(record.answers)
    tools = at_hand(record.workshop.tools)
    work.ahead(version.id, judging.first_step, version, record.job.temperature_c, tools, known_to)


def check_in(work: Workspace, wanted: CheckIn) -> tuple[store.Job, bool]:
    """Check a vehicle in; False beside the job if this client key had made it already.

    Raises:
        InvalidError: no such vehicle or circuit, codes that are none, a field that is not right.
    """
    codes = parse_codes(wanted.codes) if wanted.codes.strip() else []
    with work.transaction() as db:
        known = store.job_of_key(db, wanted.client_key)
        if known is not None:
            return known_job(db, known), False
        if wanted.circuit_version_id is not None and circuit_store.circuit_version(db, wanted.circuit_version_id) is None:
            raise invalid("circuit_version_id", "pick a circuit of the list or load a file")
        vehicle_id, simulated = _vehicle_of(db, wanted)
        vehicle = vehicles.vehicle_by_id(db, vehicle_id)
        assert vehicle is not None
        model_id = vehicles.model_for(db, vehicle.make, vehicle.model, vehicle.year)
        listed = ", ".join(code.code for code in codes)[:200]
        new = store.NewJob(
            wanted.client_key, vehicle_id, model_id, wanted.complaint.strip(), listed,
            ASSUMED_C if wanted.temperature_c is None else wanted.temperature_c, simulated,
        )  # fmt: skip
        job_id = store.create_job(db, new)
        if wanted.temperature_c is not None:
            intake_store.give_answer(db, job_id, uuid5(wanted.client_key, "temperature"), "temperature_c", wanted.temperature_c, 0)
        if wanted.vehicle_id is None and vehicle.mileage_km is not None:
            intake_store.give_answer(db, job_id, uuid5(wanted.client_key, "mileage"), "mileage_km", vehicle.mileage_km, 0)
        if codes:
            code_store.add_scan(db, job_id, uuid5(wanted.client_key, "codes"), "typed", codes, {}, [])
        if wanted.circuit_version_id is not None:
            key = uuid5(wanted.client_key, "diagnosis")
            store.open_diagnosis(db, job_id, key, wanted.circuit_version_id, "chosen at check-in", {})
        return known_job(db, job_id), True


def _vehicle_of(db: Db, wanted: CheckIn) -> tuple[UUID, str]:
    """The vehicle of a new job, and the simulated vehicle that it was last connected through."""
    if wanted.vehicle_id is not None:
        if vehicles.vehicle_by_id(db, wanted.vehicle_id) is None:
            raise invalid("vehicle_id", "no such vehicle: look it up by its plate")
        earlier = store.jobs_of_vehicle(db, wanted.vehicle_id)
        return wanted.vehicle_id, earlier[0].simulated_vehicle if earlier else ""
    if wanted.vehicle is None:
        raise invalid("vehicle", "say which vehicle: its make at least")
    values = {
        name: answer_fields.checked(name, value) if isinstance(value, str) else value for name, value in wanted.vehicle.items()
    }
    return vehicles.create_vehicle(db, vehicles.NewVehicle(**values)), ""


def _mileage_at(db: Db, job_id: UUID) -> int | None:
    answer = intake_store.answers_of(db, job_id).get("mileage_km")
    return None if answer is None or answer.value is None else int(answer.value)


RETURN_DAYS = 90
"""A vehicle that is back within so many days after a job on which it was repaired may have come back with it."""
CAME_BACK = {"same cause": "came back, same cause", "another cause": "came back, another cause"}
NEWEST = 2_000_000_000


def returned(record: JobRecord) -> store.Job | None:
    """The job that this vehicle may have come back with; None if there is none within ``RETURN_DAYS``."""
    before = [one for one in record.earlier if one.number < record.job.number and one.conclusion]
    if not before:
        return None
    last = max(before, key=lambda one: one.number)
    return last if (record.job.created_at - last.touched_at).days <= RETURN_DAYS else None


def answer(work: Workspace, job_id: UUID, client_key: UUID, field: str, value: Any, seen_seq: int, view: View[T]) -> T:
    """Answer a field.

    Raises:
        InvalidError: no such field or value. ConflictError: someone answered it after what the writer saw; ``facts["current"]`` is
            their ``Answer``, and nothing is stored. Or the job is to be closed and a repair is not proved.
    """
    kept = answer_fields.checked(field, value)
    if field == "stage" and kept == "closed":
        _may_close(work, job_id)
    with work.transaction() as db:
        job = known_job(db, job_id)
        conflict = intake_store.give_answer(db, job_id, client_key, field, kept, seen_seq)
        if conflict is not None:
            detail = f"{conflict.by or 'Someone'} answered this meanwhile. Yours is not stored: keep theirs, or send yours again."
            raise ConflictError("Answered by someone else", detail, current=conflict)
        _mirror(db, job, field, kept)
        record = load_record(db, job_id)
        if field == "return_cause" and kept in CAME_BACK and (last := returned(record)) is not None:
            again = uuid5(client_key, "came back")
            intake_store.give_answer(db, last.id, again, "follow_up_result", CAME_BACK[kept], NEWEST)
    return viewed(work, record, view)


def _may_close(work: Workspace, job_id: UUID) -> None:
    """Raise unless what was repaired is proved, or said to be less than fixed with what is left, and everything is put back.

    Raises:
        ConflictError: what is to be done first.
    """
    with work.transaction() as db:
        record = load_record(db, job_id)
        clearings = code_store.clearings_of(db, job_id)
        repairs = [repair.seq for diagnosis in record.diagnoses for repair in evidence.repairs_of(db, diagnosis.id)]
    outcome, left_over = (str(job_record.value_of(record.answers, field, "") or "") for field in ("outcome", "outcome_left"))
    if outcome in ("", "fixed"):
        way_out = "Or say under verification that it is partly or not fixed, and what is left."
        bypasses = [
            line.split(" | ")[0] for line in job_record.value_of(record.answers, "bypasses", []) if line.endswith("in place")
        ]
        if bypasses:
            what = f"Temporarily bypassed, which is no repair: {'; '.join(bypasses[:3])}. Take it out first."
            raise ConflictError("Bypass in place", f"{what} {way_out}")
        if left := unproved(work, job_id):
            what = f"After the repair these have not been within the expected range yet: {'; '.join(left[:4])}. Measure them again first."
            raise ConflictError("Repair not proved", f"{what} {way_out}")
        looks = job_record.looks_since(record.scans, clearings, max(repairs)) if repairs else None
        before = job_record.codes_before(record.scans, max(repairs, default=0))
        back = [code.code for code in code_proofs(before, looks) if code.state == "failed again"]
        if back:
            raise ConflictError(
                "Codes are back", f"Since the repair and clearing these are stored: {', '.join(back[:6])}. {way_out}"
            )
    elif not left_over:
        raise ConflictError(
            "Say what is left",
            f"It is {outcome}{' fixed' if outcome == 'partly' else ''}: say under verification what is left and what comes next.",
        )
    waiting = [item.title for item, done in work.compute(about(record), put_back_of, record) if not done]
    if waiting:
        raise ConflictError("Not put back", f"Put back first, and say so on the job page: {'; '.join(waiting[:5])}.")


def _mirror(db: Db, job: store.Job, field: str, value: Any) -> None:
    """The answer as the current value where lists and search look for it."""
    if field in answer_fields.OF_JOB:
        store.set_column(db, job.id, field, value if value is not None else ASSUMED_C)
    if field in answer_fields.OF_VEHICLE:
        vehicles.change_vehicle(db, job.vehicle_id, field, value)
    if field in ("make", "model", "year"):
        vehicle = vehicles.vehicle_by_id(db, job.vehicle_id)
        assert vehicle is not None
        store.set_model(db, job.id, vehicles.model_for(db, vehicle.make, vehicle.model, vehicle.year))


def add_note(work: Workspace, job_id: UUID, client_key: UUID, body: str) -> list[intake_store.TimelineEntry]:
    """Append a note; the timeline as it then is."""
    with work.transaction() as db:
        known_job(db, job_id)
        intake_store.add_note(db, job_id, client_key, body)
        return intake_store.timeline(db, job_id)


def timeline(work: Workspace, job_id: UUID) -> list[intake_store.TimelineEntry]:
    """Everything of a job in the order it happened."""
    with work.transaction() as db:
        known_job(db, job_id)
        return intake_store.timeline(db, job_id)


def add_photo(work: Workspace, job_id: UUID, client_key: UUID, caption: str, raw: bytes, view: View[T]) -> T:
    """Append a photograph; where and with what it was taken is stripped from it."""
    prepared = work.compute("photographs", prepare_photo, raw)
    with work.transaction() as db:
        known_job(db, job_id)
        room_for_photographs(db, len(prepared["body"]) + len(prepared["thumbnail"]))
        intake_store.add_photo(db, job_id, client_key, {**prepared, "caption": caption})
        record = load_record(db, job_id)
    return viewed(work, record, view)


def erase_personal(work: Workspace, job_id: UUID, words: bool, view: View[T]) -> T:
    """Erase what tells whose vehicle a job is about, in all jobs of that vehicle; the technical record stays."""
    with work.transaction() as db:
        job = known_job(db, job_id)
        count = keeping.erase_personal(db, job.vehicle_id, words=words)
        people.record(db, "personal data erased", f"job {job.number}, {count} jobs of the vehicle{', words too' if words else ''}")
        record = load_record(db, job_id)
    return viewed(work, record, view)


def photo(work: Workspace, job_id: UUID, photo_id: UUID, thumbnail: bool) -> tuple[bytes, str]:
    """A picture of a job with its media type.

    Raises:
        NotFoundError: the job has no such photograph.
    """
    with work.transaction() as db:
        known_job(db, job_id)
        if photo_id not in {p.id for p in intake_store.photos_of(db, job_id)}:
            raise NotFoundError("No such photograph", f"job has no photograph {photo_id}")
        found = intake_store.picture(db, photo_id, thumbnail)
    assert found is not None
    return found
