"""Manufacturers' diagnostic procedures: entered, followed, laid beside Sondar's own order."""

from __future__ import annotations

from uuid import UUID

from sondar.app.case import Case, load_case
from sondar.app.computed import Computed
from sondar.app.judging import belief_of, predictor_of, situation_of
from sondar.app.workspace import Workspace
from sondar.circuit_files import load_document
from sondar.core.errors import NotFoundError
from sondar.core.procedures.compare import ProcedureComparison, compare
from sondar.core.procedures.document import ProcedureDocument, read_procedure
from sondar.core.procedures.follow import ProcedureView, follow_procedure
from sondar.store import procedures as store


def _opened(work: Workspace, diagnosis_id: UUID, procedure_id: UUID) -> tuple[Case, str]:
    with work.transaction() as db:
        case = load_case(db, diagnosis_id)
        found = store.procedure_by_id(db, procedure_id)
    if found is None or found.slug != case.diagnosis.slug:
        raise NotFoundError("No such procedure", f"this circuit has no procedure {procedure_id}")
    return case, found.source_text


def list_procedures(work: Workspace, diagnosis_id: UUID) -> list[store.StoredProcedure]:
    """Procedures entered for the circuit, newest first."""
    with work.transaction() as db:
        return store.procedures_of(db, load_case(db, diagnosis_id).diagnosis.slug)


def add(work: Workspace, diagnosis_id: UUID, text: str) -> store.StoredProcedure:
    """Check a procedure against the circuit and keep it; the same text again is the same procedure."""
    with work.transaction() as db:
        case = load_case(db, diagnosis_id)
    title = work.compute(case.version.id, _title, case, text)
    with work.transaction() as db:
        return store.save_procedure(db, case.diagnosis.slug, title, text)


def follow(work: Workspace, diagnosis_id: UUID, procedure_id: UUID) -> ProcedureView:
    """How far the readings have come in a procedure."""
    case, text = _opened(work, diagnosis_id, procedure_id)
    return work.compute(case.version.id, _followed, case, text)


def comparison(work: Workspace, diagnosis_id: UUID, procedure_id: UUID) -> ProcedureComparison:
    """The procedure against Sondar's own order, from where the technician stands now."""
    case, text = _opened(work, diagnosis_id, procedure_id)
    return work.compute(case.version.id, _compared, case, text)


# -- in a worker ----------------------------------------------------------------------------------------


def _read(computed: Computed, case: Case, text: str) -> ProcedureDocument:
    circuit = computed.circuit(case.version)
    return load_document(text, lambda data: read_procedure(data, circuit))


def _title(computed: Computed, case: Case, text: str) -> str:
    return _read(computed, case, text).title


def _followed(computed: Computed, case: Case, text: str) -> ProcedureView:
    procedure, predictor = _read(computed, case, text), predictor_of(computed, case)
    belief, readings = belief_of(case, predictor)
    return follow_procedure(procedure, predictor.circuit, belief, readings, case.job.temperature_c)


def _compared(computed: Computed, case: Case, text: str) -> ProcedureComparison:
    procedure, predictor = _read(computed, case, text), predictor_of(computed, case)
    belief, readings = belief_of(case, predictor)
    return compare(procedure, predictor, belief, situation_of(case, predictor, readings))
