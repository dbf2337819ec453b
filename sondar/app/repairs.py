"""Repairs of a circuit diagnosis: recorded, and proved by the tests that failed before."""

from __future__ import annotations

from uuid import UUID

from sondar.app import judging
from sondar.app.case import Case, load_case, with_evidence
from sondar.app.computed import Computed
from sondar.app.measuring import T, View, finish
from sondar.app.workspace import Workspace
from sondar.core.repair_plan import RepairStep, repair_plan
from sondar.store import evidence
from sondar.store import jobs as job_store


def repair(
    work: Workspace, diagnosis_id: UUID, client_key: UUID, units: list[str], action: str, view: View[T], *, substituted: bool
) -> T:
    """Record a repair; what was measured so far then speaks about the vehicle before it.

    Raises:
        InvalidError: a unit that this circuit does not have.
    """
    with work.transaction() as db:
        case = load_case(db, diagnosis_id)
    work.compute(case.version.id, judging.checked_units, case, units)
    with work.transaction() as db:
        evidence.append_repair(db, case.diagnosis, client_key, units, action, substituted=substituted)
        case = with_evidence(db, case)
    return finish(work, case, view)


def planned(work: Workspace, diagnosis_id: UUID, units: list[str]) -> list[RepairStep]:
    """What repairing some units consists of, step by step.

    Raises:
        InvalidError: a unit that this circuit does not have.
    """
    with work.transaction() as db:
        case = load_case(db, diagnosis_id)
    return work.compute(case.version.id, _planned, case, units)


def _planned(computed: Computed, case: Case, units: list[str]) -> list[RepairStep]:
    return repair_plan(computed.circuit(case.version), units)


def unproved(work: Workspace, job_id: UUID) -> list[str]:
    """Tests of a job's repaired circuits that failed before the repair and have not been within the expected range since, in words."""
    with work.transaction() as db:
        cases = [load_case(db, diagnosis.id) for diagnosis in job_store.diagnoses_of(db, job_id)]
    repaired = [case for case in cases if case.repairs]
    return [said for case in repaired for said in work.compute(case.version.id, judging.unproved, case)]
