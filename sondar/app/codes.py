"""Codes of a job: kept, read from the vehicle, cleared, described; the triage they lead to, and the diagnosis that is opened from it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from uuid import UUID

from sondar.app import job_record
from sondar.app.computed import Computed
from sondar.app.jobs import JobRecord, T, View, about, load_record, prepare_first, viewed
from sondar.app.workspace import Workspace, known_job
from sondar.circuit_files import load_vehicle_text
from sondar.code_library import generic_codes, part_kinds
from sondar.core.code_files import Understood, parse_code_file, understand_file
from sondar.core.codes import FoundCode, parse_codes
from sondar.core.diagnostic_address import ModuleAddress
from sondar.core.errors import ConflictError, UnavailableError, invalid
from sondar.core.triage.answer import triage
from sondar.core.triage.evidence import Evidence
from sondar.core.triage.model import TriageModel, triage_prior
from sondar.core.triage.views import TriageView
from sondar.core.triage.without_circuits import PartFirst, parts_by_codes, parts_by_complaint
from sondar.devices import scan_tool
from sondar.store import circuits as circuit_store
from sondar.store import codes as store
from sondar.store import jobs as job_store
from sondar.store.circuits import CircuitVersion
from sondar.store.database import Db
from sondar.store.vehicles import VehicleModel

FROM_SCAN_TOOL = "From the scan tool's file"

KEPT_ABOVE = 1e-7
"""Shares of the triage below this are not kept with a diagnosis."""


@dataclass(frozen=True)
class TriageResult:
    """The triage, or why there is none; ``parts``: what the codes alone say, on a vehicle that is not known."""

    reason: str
    view: TriageView | None
    parts: list[PartFirst] = field(default_factory=list)


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


def preview(work: Workspace, job_id: UUID, text: str) -> Understood:
    """What a file of codes for a job seems to say; nothing is kept."""
    with work.transaction() as db:
        known_job(db, job_id)
    return understand_file(text)


@dataclass(frozen=True)
class WantedList:
    """A list of codes as somebody brings it.

    Attributes:
        source: ``typed`` or ``import``. rows: of a file, those that a person has chosen; all if left out.
        none_stored: the scan tool was used and no module had a code.
    """

    client_key: UUID
    source: str
    text: str
    rows: list[int] | None
    conditions: list[str]
    none_stored: bool


def keep_list(work: Workspace, job_id: UUID, wanted: WantedList, view: View[T]) -> tuple[T, bool]:
    """Keep a list of codes, typed, pasted, or from a file; False for a repeat.

    Raises:
        CodeTextError: something looks like a code and is not one, or a file leaves doubts and nobody has chosen.
    """
    codes: list[FoundCode] = []
    if not wanted.none_stored:
        codes = parse_codes(wanted.text) if wanted.source == "typed" else parse_code_file(wanted.text, wanted.rows)
    run = _run(wanted.conditions)
    with work.transaction() as db:
        record = load_record(db, job_id)
    # A module is known from the code where only one can store it.
    owner = work.compute(about(record), _owners, record)
    codes = [c if c.module else replace(c, module=owner.get(c.code)) for c in codes]
    with work.transaction() as db:
        added = store.add_scan(db, job_id, wanted.client_key, wanted.source, codes, {}, run)
        if added:
            _keep_words(db, record.job.make, codes)
        record = _relist(db, job_id)
    return viewed(work, record, view), added


def _keep_words(db: Db, make: str, codes: Sequence[FoundCode]) -> None:
    """What the scan tool's file says of codes that no standard describes, as the workshop's meaning for the make, unless it has one."""
    said = {code.code: code.words for code in codes if code.words and generic_codes().get(code.code) is None}
    known = store.meanings(db, make, list(said))
    for code, words in said.items():
        if code not in known:
            store.add_meaning(db, make, code, words, FROM_SCAN_TOOL)


def _owners(computed: Computed, record: JobRecord) -> dict[str, str | None]:
    model = computed.triage_model(record.model, record.versions)
    return {} if model is None else {code: item.module for code, item in model.circuit.document.codes.items()}


def _interface(work: Workspace, record: JobRecord) -> tuple[str, dict[str, ModuleAddress]]:
    address = work.devices.vehicle(record.job.simulated_vehicle)
    if not address or record.model is None:
        raise UnavailableError("Vehicle not read", "no vehicle interface is connected for this vehicle: type or paste the codes")
    return address, load_vehicle_text(record.model.source_text).module_addresses


def read_vehicle(work: Workspace, job_id: UUID, client_key: UUID, conditions: list[str], view: View[T]) -> T:
    """Read every module of the connected vehicle; those that do not respond are a finding too."""
    run = _run(conditions)
    with work.transaction() as db:
        record = load_record(db, job_id)
    scan = scan_tool.read_codes(*_interface(work, record))  # takes seconds: no transaction is open meanwhile
    with work.transaction() as db:
        store.add_scan(db, job_id, client_key, "vehicle", scan.codes, scan.modules, run)
        record = _relist(db, job_id)
    return viewed(work, record, view)


def clear(work: Workspace, job_id: UUID, client_key: UUID, through_vehicle: bool, view: View[T]) -> T:
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
    return viewed(work, record, view)


def describe(work: Workspace, job_id: UUID, code: str, title: str, said: str, view: View[T]) -> T:
    """Describe a manufacturer's code; kept for this make in the whole workshop."""
    with work.transaction() as db:
        job = known_job(db, job_id)
        store.add_meaning(db, job.make, code, title.strip() or "not said", said)
        record = load_record(db, job_id)
    return viewed(work, record, view)


def _evidence(model: TriageModel, record: JobRecord) -> Evidence:
    return job_record.evidence(model, record.codes, record.answers, record.workshop.group_shares)


def triage_of(work: Workspace, job_id: UUID) -> TriageResult:
    """One cause or several, which circuit to test first and why, and the check that would split the candidates."""
    with work.transaction() as db:
        record = load_record(db, job_id)
    found = work.compute(about(record), _triaged, record)
    if found.view is not None and found.view.candidates:  # while the answer is read, the circuit it points to gets ready
        prepare_first(work, record.versions[found.view.candidates[0].open_circuit], record)
    return found


def _triaged(computed: Computed, record: JobRecord) -> TriageResult:
    model, job = computed.triage_model(record.model, record.versions), record.job
    if model is None:
        held = generic_codes()
        stored = [held.get(code.code) for code in job_record.current_codes(record.codes)]
        parts = parts_by_codes([item for item in stored if item is not None])
        complaint, picked = job_record.noticed(record.answers, job.complaint)
        by_codes = {one.template for one in parts}
        parts += [one for one in parts_by_complaint(list(part_kinds().values()), complaint, picked) if one.template not in by_codes]
        return TriageResult(f"The circuits of {job.make} {job.model} are not known here.", None, parts)
    found = _evidence(model, record)
    if found.is_empty:
        return TriageResult("Read the codes, or say what is noticed.", None)
    return TriageResult("", triage(model, found))


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
    prior = work.compute(about(record), _carried, record, version.slug) if carry else {}
    with work.transaction() as db:
        diagnosis_id = job_store.open_diagnosis(db, job_id, client_key, version.id, reason, prior)
        made = job_store.diagnosis_by_id(db, diagnosis_id)
    assert made is not None
    return made


def _carried(computed: Computed, record: JobRecord, slug: str) -> dict[str, float]:
    """What the triage believes about a circuit; empty if it has nothing to go by."""
    model = computed.triage_model(record.model, record.versions)
    if model is None or slug not in model.vehicle.circuits:
        return {}
    found = _evidence(model, record)
    if found.is_empty:
        return {}
    shares = triage_prior(model, model.posterior(found), slug)
    return {name: share for name, share in shares.items() if share > KEPT_ABOVE}


def prepare_model(computed: Computed, model: VehicleModel, versions: Mapping[str, CircuitVersion]) -> None:
    """Work out what every fault of a vehicle would set, before anybody asks."""
    found = computed.triage_model(model, versions)
    if found is not None:
        found.prepare()
