"""Verification after a repair: what failed beside what is now, codes that stay away, monitors, commands again, and how it all stands."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import TypeVar
from uuid import UUID, uuid5

from sondar.app import answer_fields, job_record
from sondar.app.case import Case, load_case
from sondar.app.computed import Computed
from sondar.app.jobs import JobRecord, about, load_record
from sondar.app.judging import judge_case
from sondar.app.workspace import Workspace
from sondar.circuit_files import load_vehicle_text
from sondar.code_library import generic_codes
from sondar.core.circuit.vehicle import VehicleDocument
from sondar.core.diagnosis.after_repair import Verification
from sondar.core.diagnosis.judge import Effect, is_within_expected
from sondar.core.errors import UnavailableError
from sondar.core.instruments.base import Test
from sondar.core.monitor_results import MonitorResult
from sondar.core.obd import FIGURES
from sondar.core.present.assessment import effect_range
from sondar.core.quantities import format_si
from sondar.core.triage.prior_factors import CONDITIONS
from sondar.core.verification import CodeProof, Standing, code_proofs, distance, standing
from sondar.core.wording.labels import describe_test, range_of, reading_label
from sondar.devices import obd
from sondar.store import codes as code_store
from sondar.store import commands as command_store
from sondar.store import intake as intake_store
from sondar.store.codes import Clearing
from sondar.store.commands import Run

T = TypeVar("T")
NEWEST = 2_000_000_000
SOON_DAYS = 60
"""Within so many days before an inspection, clearing is warned of: monitors take days of driving."""


@dataclass(frozen=True)
class ReadingProof:
    """A test that failed before the repair, with what it shows now.

    Attributes:
        now: empty while it has not been repeated. said: how far it still is from its range; empty inside, unless it was outside before.
    """

    diagnosis_id: UUID
    circuit: str
    test: Test
    label: str
    expected: str
    before: str
    now: str
    passed: bool | None
    said: str
    nearer: bool


@dataclass(frozen=True)
class CommandAgain:
    """A command that was given before the repair, and after it: what was noticed, with the recordings."""

    command: str
    title: str
    before: str
    before_recording: UUID
    after: str
    after_recording: UUID | None


@dataclass(frozen=True)
class Monitors:
    """Readiness as it was read last.

    Attributes:
        since_repair: it was read after the last repair.
    """

    complete: list[str]
    outstanding: list[str]
    since_repair: bool


@dataclass(frozen=True)
class Verified:
    """Everything that is to be verified after a repair.

    Attributes:
        cleared: codes have been cleared since the repair. conditions: under which the complaint occurs, as they are run; run: those
            that have been run since clearing. clearing_warning: why clearing should be thought over; empty if nothing speaks against it.
        watch: live data to be looked at on a road test. cautions: of the circuits that were repaired.
        frame: figures kept by the vehicle when the code was set. results: of its monitors' tests, those nearest to a limit first.
    """

    standing: Standing
    repaired_at: datetime | None
    readings: list[ReadingProof]
    codes: list[CodeProof]
    cleared: bool
    conditions: list[str]
    run: list[str]
    commands: list[CommandAgain]
    monitors: Monitors | None
    frame: list[list[str]]
    results: list[MonitorResult]
    clearing_warning: str
    watch: list[str]
    cautions: list[str]
    interface: bool


@dataclass(frozen=True)
class RoadTest:
    """What the second person needs on a road test: when it failed, what is outstanding, what to watch.

    Attributes:
        when: conditions of the complaint in words. sets: (code, what its module must see for the code to set) of codes that are not
            proved to stay away.
    """

    workshop: str
    number: int
    vehicle: str
    plate: str
    complaint: str
    when: list[str]
    may_drive: str
    sets: list[tuple[str, str]]
    verified: Verified


@dataclass(frozen=True)
class _Stored:
    """What is read of a job for this, in one transaction."""

    record: JobRecord
    cases: list[Case]
    runs: list[Run]
    clearings: list[Clearing]


def verified(work: Workspace, job_id: UUID, view: Callable[[Verified], T]) -> T:
    """How the repairs of a job stand.

    Raises:
        NotFoundError: there is no such job.
    """
    stored, interface = _loaded(work, job_id)
    return work.compute(about(stored.record), _viewed, stored, interface, datetime.now(UTC).date(), view)


def road_test(work: Workspace, job_id: UUID, view: Callable[[RoadTest], T]) -> T:
    """The card for the road test after a repair.

    Raises:
        NotFoundError: there is no such job.
    """
    stored, interface = _loaded(work, job_id)
    return work.compute(about(stored.record), _road_test, stored, interface, datetime.now(UTC).date(), view)


def _loaded(work: Workspace, job_id: UUID) -> tuple[_Stored, bool]:
    with work.transaction() as db:
        record = load_record(db, job_id)
        cases = [load_case(db, diagnosis.id) for diagnosis in record.diagnoses]
        stored = _Stored(record, cases, command_store.given(db, job_id), code_store.clearings_of(db, job_id))
    return stored, bool(work.devices.vehicle(record.job.simulated_vehicle))


def _road_test(computed: Computed, stored: _Stored, interface: bool, today: date, view: Callable[[RoadTest], T]) -> T:
    found, record, job = _verified(computed, stored, interface, today), stored.record, stored.record.job
    model = computed.triage_model(record.model, record.versions)
    described = {} if model is None else model.circuit.document.codes
    generic = generic_codes()

    def sets(code: str) -> str:
        own, held = described.get(code), generic.get(code)
        return (own.about if own is not None else "") or (held.sets if held is not None else "") or "not known here"

    when = [CONDITIONS[key] for key in job_record.value_of(record.answers, "conditions", []) if key in CONDITIONS]
    words = str(job_record.value_of(record.answers, "conditions_text", "") or "")
    return view(
        RoadTest(
            record.workshop.name, job.number, f"{job.make} {job.model} {job.year or ''}".strip(), job.plate, job.complaint,
            [*when, *([words] if words else [])], str(job_record.value_of(record.answers, "may_drive", "") or ""),
            [(code.code, sets(code.code)) for code in found.codes if code.state != "passed"], found,
        )
    )  # fmt: skip


def _viewed(computed: Computed, stored: _Stored, interface: bool, today: date, view: Callable[[Verified], T]) -> T:
    return view(_verified(computed, stored, interface, today))


def _verified(computed: Computed, stored: _Stored, interface: bool, today: date) -> Verified:
    record = stored.record
    repairs = [(repair.seq, repair.created_at) for case in stored.cases for repair in case.repairs]
    seq, at = max(repairs, default=(0, None))
    readings = [proof for case in stored.cases if case.repairs for proof in _readings(computed, case)]
    wanted = [
        job_record.RUN_FOR_COMPLAINT[c]
        for c in job_record.value_of(record.answers, "conditions", [])
        if c in job_record.RUN_FOR_COMPLAINT
    ]
    looks = job_record.looks_since(record.scans, stored.clearings, seq) if seq else None
    codes = code_proofs(job_record.codes_before(record.scans, seq), looks, wanted) if seq else []
    documents = [computed.circuit(case.version).document for case in stored.cases if case.repairs]
    return Verified(
        standing([proof.passed for proof in readings], codes, bool(seq), any(proof.nearer for proof in readings)), at, readings, codes,
        looks is not None, sorted(set(wanted)), sorted({c for look in looks or () for c in look.conditions}), _commands(stored.runs, at),
        _monitors(record, seq), [line.split(" | ") for line in job_record.value_of(record.answers, "freeze_frame", [])],
        _results(record),
        _warning(job_record.value_of(record.answers, "inspection_due", ""), today),
        _watch(record, {unit for case in stored.cases for repair in case.repairs for unit in repair.units}),
        list(dict.fromkeys(caution for document in documents for caution in document.cautions)), interface,
    )  # fmt: skip


def _readings(computed: Computed, case: Case) -> list[ReadingProof]:
    found = judge_case(computed, case, False)
    circuit = found.predictor.circuit
    return [_reading(case, describe_test(circuit, item.test), item) for item in found.repaired.to_verify]


def _reading(case: Case, label: str, item: Verification) -> ReadingProof:
    was, now = _outside(item.before), None if item.now is None else _outside(item.now)
    nearer = was is not None and now is not None and now[0] < was[0]
    said = ""
    if item.passed is False and now is not None:
        unit = item.before.reading.device.unit
        said = f"{format_si(now[0], unit)} {now[1]} its range" + (
            f"; it was {format_si(was[0], unit)} outside" if was and was[0] > 0 else ""
        )
    if item.unsteady:
        said = "It showed something else at first after the repair. If something more was done, record that repair; if not, it comes and goes."
    elif item.passed is True and item.now is not None and not is_within_expected(item.now.reading, item.before.expected):
        said = f"Before the repair {effect_range(item.before)} was expected here. If it is no warmer or colder now, it is not right yet."
    return ReadingProof(
        case.diagnosis.id, case.diagnosis.title, item.test, label, effect_range(item.now or item.before), reading_label(item.before.reading),
        "" if item.now is None else reading_label(item.now.reading), item.passed, said, nearer and item.passed is False,
    )  # fmt: skip


def _outside(effect: Effect) -> tuple[float, str] | None:
    """How far a figure lies outside its range, and on which side; None for words."""
    reading, expected = effect.reading, effect.expected
    _, low, high = range_of(reading.device, expected.mean, expected.sd, expected.words)
    if reading.value is None or low is None or high is None:
        return None
    away = distance(reading.value, low, high)
    return away.by, away.side


def _commands(runs: Sequence[Run], repaired_at: datetime | None) -> list[CommandAgain]:
    """For each command that was given before the repair its last run then, and its last since."""
    if repaired_at is None:
        return []
    before = {run.command: run for run in runs if run.created_at < repaired_at}
    after = {run.command: run for run in runs if run.created_at >= repaired_at}
    return [
        CommandAgain(
            name, run.title, _said(run), run.recording_id, _said(after[name]) if name in after else "",
            after[name].recording_id if name in after else None,
        )
        for name, run in before.items()
    ]  # fmt: skip


def _said(run: Run) -> str:
    return run.found or run.said or "recorded, and nothing said about it"


def _monitors(record: JobRecord, seq: int) -> Monitors | None:
    answer = record.answers.get("readiness")
    if answer is None or not answer.value:
        return None
    lines = [line.split(" | ") for line in answer.value]
    complete, outstanding = ([name for name, state in lines if state == wanted] for wanted in answer_fields.MONITOR_STATES)
    return Monitors(complete, outstanding, answer.seq > seq)


def _results(record: JobRecord) -> list[MonitorResult]:
    found = []
    for line in job_record.value_of(record.answers, "monitor_results", []):
        numbers, value, least, most = line.split(" | ")
        monitor, test, scale = (int(part, 16) for part in numbers.split("."))
        found.append(MonitorResult(monitor, test, scale, float(value), float(least), float(most)))
    return sorted(found, key=lambda one: (not one.has_run, one.margin))


def _warning(due: str, today: date) -> str:
    if not due:
        return ""
    days = (date.fromisoformat(due) - today).days
    if days > SOON_DAYS:
        return ""
    when = "is overdue" if days < 0 else "is due today" if days == 0 else f"is due in {days} days"
    return f"An inspection {when}. Clearing resets the monitors: until they have run again, which can take days of driving, it would be failed."


def _watch(record: JobRecord, units: set[str]) -> list[str]:
    """Live data that are measured at what was repaired, or else all that the vehicle tells."""
    document = _document(record)
    if document is None:
        return []
    near = [
        item.title for item in document.data.values() if {place.split(".")[0] for place in (*item.measures, item.flows)} & units
    ]
    return near or [item.title for item in document.data.values()]


def _document(record: JobRecord) -> VehicleDocument | None:
    return None if record.model is None else load_vehicle_text(record.model.source_text)


def read_readiness(work: Workspace, job_id: UUID, client_key: UUID, view: Callable[[Verified], T]) -> T:
    """Read monitors and freeze frame of the connected vehicle, and keep them with the job.

    Raises:
        UnavailableError: no interface, or nobody answers.
    """
    with work.transaction() as db:
        record = load_record(db, job_id)
    address = work.devices.vehicle(record.job.simulated_vehicle)
    if not address:
        raise UnavailableError("Vehicle not read", "no vehicle interface is connected: tick the monitors that your scan tool shows")
    document = _document(record)
    known = document.obd.module if document is not None and document.obd is not None else ""
    seen = obd.look(address, document.module_addresses[known] if document is not None and known else None)
    lines = [f"{name} | {'complete' if done else 'not complete'}" for name, done in seen.readiness.monitors.items()]
    lines.append(f"{answer_fields.READ_AT} | {datetime.now(UTC):%Y-%m-%d %H:%M:%S}")
    with work.transaction() as db:
        intake_store.give_answer(db, job_id, client_key, "readiness", lines, NEWEST)
        intake_store.give_answer(
            db, job_id, uuid5(client_key, "figures"), "obd_figures", [f"{n:02X}" for n in seen.figures], NEWEST
        )
        if seen.results:
            told = [
                f"{one.monitor:02X}.{one.test:02X}.{one.scale:02X} | {one.value:.9g} | {one.least:.9g} | {one.most:.9g}"
                for one in seen.results
            ]
            intake_store.give_answer(db, job_id, uuid5(client_key, "results"), "monitor_results", told[:200], NEWEST)
        if seen.frame is not None:
            kept = [
                f"{seen.frame.code} | {FIGURES[n].title} | {f'{value:g} {FIGURES[n].unit}'.strip()}"
                for n, value in seen.frame.figures.items()
            ]
            intake_store.give_answer(db, job_id, uuid5(client_key, "frame"), "freeze_frame", kept, NEWEST)
    return verified(work, job_id, view)
