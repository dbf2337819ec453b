"""Manufacturers' diagnostic procedures: entered, followed, laid beside Sondar's own order."""

from __future__ import annotations

from uuid import UUID

from sondar.app.measuring import Case, belief_of, load_case, situation_of
from sondar.app.workspace import Workspace
from sondar.circuit_files import load_document
from sondar.core.circuit.network import Circuit
from sondar.core.errors import NotFoundError
from sondar.core.procedures.compare import ProcedureComparison, compare
from sondar.core.procedures.document import ProcedureDocument, read_procedure
from sondar.core.procedures.follow import ProcedureView, follow_procedure
from sondar.store import procedures as store


def _read(text: str, circuit: Circuit) -> ProcedureDocument:
    return load_document(text, lambda data: read_procedure(data, circuit))


def _opened(work: Workspace, diagnosis_id: UUID, procedure_id: UUID) -> tuple[Case, ProcedureDocument]:
    with work.transaction() as db:
        case = load_case(db, diagnosis_id)
        found = store.procedure_by_id(db, procedure_id)
    if found is None or found.slug != case.diagnosis.slug:
        raise NotFoundError("No such procedure", f"this circuit has no procedure {procedure_id}")
    return case, _read(found.source_text, work.computed.circuit(case.version))


def list_procedures(work: Workspace, diagnosis_id: UUID) -> list[store.StoredProcedure]:
    """Procedures entered for the circuit, newest first."""
    with work.transaction() as db:
        return store.procedures_of(db, load_case(db, diagnosis_id).diagnosis.slug)


def add(work: Workspace, diagnosis_id: UUID, text: str) -> store.StoredProcedure:
    """Check a procedure against the circuit and keep it; the same text again is the same procedure."""
    with work.transaction() as db:
        case = load_case(db, diagnosis_id)
    procedure = _read(text, work.computed.circuit(case.version))
    with work.transaction() as db:
        return store.save_procedure(db, case.diagnosis.slug, procedure.title, text)


def follow(work: Workspace, diagnosis_id: UUID, procedure_id: UUID) -> ProcedureView:
    """How far the readings have come in a procedure."""
    case, procedure = _opened(work, diagnosis_id, procedure_id)
    predictor = case.predictor(work.computed)
    belief, readings = belief_of(case, predictor)
    return follow_procedure(procedure, predictor.circuit, belief, readings, case.job.temperature_c)


def comparison(work: Workspace, diagnosis_id: UUID, procedure_id: UUID) -> ProcedureComparison:
    """The procedure against Sondar's own order, from where the technician stands now."""
    case, procedure = _opened(work, diagnosis_id, procedure_id)
    predictor = case.predictor(work.computed)
    belief, readings = belief_of(case, predictor)
    return compare(procedure, predictor, belief, situation_of(case, predictor, readings))
