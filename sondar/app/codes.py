"""Codes of a job: kept, read from the vehicle, cleared, described; the triage they lead to, and the diagnosis that is opened from it."""

from __future__ import annotations

from dataclasses import dataclass
from uuid import UUID

from sondar.app import job_record
from sondar.app.jobs import JobDetail, JobRecord, detail_of, load_record, model_of
from sondar.app.workspace import Workspace, known_job
from sondar.core.codes import FoundCode, parse_code_file, parse_codes
from sondar.core.errors import ConflictError, UnavailableError, invalid
from sondar.core.triage.answer import triage
from sondar.core.triage.evidence import Evidence
from sondar.core.triage.model import TriageModel, triage_prior
from sondar.core.triage.views import TriageView
from sondar.devices import scan_tool
from sondar.store import circuits as circuit_store
from sondar.store import codes as store
from sondar.store import jobs as job_store
from sondar.store.database import Db

KEPT_ABOVE = 1e-7
"""Shares of the triage below this are not kept with a diagnosis."""


@dataclass(frozen=True)
class TriageResult:
    """The triage, or why there is none."""

    reason: str
    view: TriageView | None


def _run(conditions: list[str]) -> list[str]:
    wrong = [c for c in conditions if c not in job_record.RUN_CONDITIONS]
    if wrong:
        raise invalid("conditions", f"'{wrong[0]}' is not one of {', '.join(job_record.RUN_CONDITIONS)}")
    return conditions


def _relist(db: Db, job_id: UUID) -> JobRecord:
    """The record after its codes changed; the job list and the search show them too."""
    record = load_record(db, job_id)
    listed = ", ".join(dict.fromkeys(code.code for code in job_record.current_codes(record.codes)))
    job_store.set_column(db, job_id, "codes", listed[:200])
    return load_record(db, job_id)


def keep_list(
    work: Workspace, job_id: UUID, client_key: UUID, source: str, text: str, conditions: list[str], none_stored: bool
) -> tuple[JobDetail, bool]:
    """Keep a list of codes, typed, pasted, or from a CSV or JSON file; False for a repeat.

    Raises:
        CodeTextError: something looks like a code and is not one.
    """
    codes: list[FoundCode] = []
    if not none_stored:
        codes = parse_codes(text) if source == "typed" else parse_code_file(text)
    run = _run(conditions)
    with work.transaction() as db:
        record = load_record(db, job_id)
    model = model_of(work, record)
    if model is not None:  # a module is known from the code where only one can store it
        owner = {code: item.module for code, item in model.circuit.document.codes.items()}
        codes = [c if c.module else FoundCode(c.code, c.failure_type, c.status, owner.get(c.code)) for c in codes]
    with work.transaction() as db:
        added = store.add_scan(db, job_id, client_key, source, codes, {}, run)
        record = _relist(db, job_id)
    return detail_of(work, record), added


def _interface(work: Workspace, record: JobRecord) -> tuple[str, dict[str, int]]:
    model = model_of(work, record)
    address = work.devices.vehicle(record.job.simulated_vehicle)
    if not address or model is None:
        raise UnavailableError("Vehicle not read", "no vehicle interface is connected for this vehicle: type or paste the codes")
    return address, model.vehicle.document.addresses


def read_vehicle(work: Workspace, job_id: UUID, client_key: UUID, conditions: list[str]) -> JobDetail:
    """Read every module of the connected vehicle; those that do not respond are a finding too."""
    run = _run(conditions)
    with work.transaction() as db:
        record = load_record(db, job_id)
    scan = scan_tool.read_codes(*_interface(work, record))  # takes seconds: no transaction is open meanwhile
    with work.transaction() as db:
        store.add_scan(db, job_id, client_key, "vehicle", scan.codes, scan.modules, run)
        record = _relist(db, job_id)
    return detail_of(work, record)


def clear(work: Workspace, job_id: UUID, client_key: UUID, through_vehicle: bool) -> JobDetail:
    """Clear the codes through the interface, or keep that it was done by hand. Never without a list from before.

    Raises:
        ConflictError: no list yet. UnavailableError: no module confirmed.
    """
    with work.transaction() as db:
        record = load_record(db, job_id)
    if not record.scans:
        raise ConflictError("No list yet", "Read or type the codes first: the list from before clearing is evidence.")
    if through_vehicle and not scan_tool.clear_codes(*_interface(work, record)):
        raise UnavailableError("Codes not cleared", "No module confirmed. Check the key and the vehicle's battery, then try again.")
    with work.transaction() as db:
        store.add_clearing(db, job_id, client_key, record.scans[-1].id, "vehicle" if through_vehicle else "typed")
        record = load_record(db, job_id)
    return detail_of(work, record)


def describe(work: Workspace, job_id: UUID, code: str, title: str, about: str) -> JobDetail:
    """Describe a manufacturer's code; kept for this make in the whole workshop."""
    with work.transaction() as db:
        job = known_job(db, job_id)
        store.add_meaning(db, job.make, code, title.strip() or "not said", about)
        record = load_record(db, job_id)
    return detail_of(work, record)


def _evidence(model: TriageModel, record: JobRecord) -> Evidence:
    return job_record.evidence(model, record.codes, record.answers)


def triage_of(work: Workspace, job_id: UUID) -> TriageResult:
    """One cause or several, which circuit to test first and why, and the check that would split the candidates."""
    with work.transaction() as db:
        record = load_record(db, job_id)
    model, job = model_of(work, record), record.job
    if model is None:
        return TriageResult(
            f"The circuits of {job.make} {job.model} are not known here. Choose a circuit, or load its files.", None
        )
    found = _evidence(model, record)
    if found.is_empty:
        return TriageResult("Read the codes, or say what is noticed.", None)
    view = triage(model, found)
    if view.candidates:  # while the answer is read, the circuit it points to gets ready
        first = record.versions[view.candidates[0].open_circuit]
        work.computed.prepare_first(first, job.temperature_c, record.workshop.tools, job_record.temperature_sd(record.answers))
    return TriageResult("", view)


def open_diagnosis(
    work: Workspace, job_id: UUID, client_key: UUID, circuit_version_id: UUID, reason: str, carry: bool
) -> job_store.CircuitDiagnosis:
    """Begin to test a circuit, with what the triage believes as its prior.

    Raises:
        InvalidError: no such circuit.
    """
    with work.transaction() as db:
        record = load_record(db, job_id)
        version = circuit_store.circuit_version(db, circuit_version_id)
    if version is None:
        raise invalid("circuit_version_id", "pick a circuit of this vehicle, or load a file")
    prior: dict[str, float] = {}
    model = model_of(work, record)
    if carry and model is not None and version.slug in model.vehicle.circuits:
        found = _evidence(model, record)
        if not found.is_empty:
            shares = triage_prior(model, model.posterior(found), version.slug)
            prior = {name: share for name, share in shares.items() if share > KEPT_ABOVE}
    with work.transaction() as db:
        diagnosis_id = job_store.open_diagnosis(db, job_id, client_key, version.id, reason, prior)
        made = job_store.diagnosis_by_id(db, diagnosis_id)
    assert made is not None
    return made
