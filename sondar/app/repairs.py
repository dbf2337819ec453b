"""Repairs of a circuit diagnosis: recorded, and proved by the tests that failed before."""

from __future__ import annotations

from collections.abc import Mapping
from uuid import UUID

import structlog

from sondar.app import judging
from sondar.app.case import Case, load_case, with_evidence
from sondar.app.computed import Computed
from sondar.app.measuring import T, View, finish
from sondar.app.workspace import Workspace
from sondar.circuit_files import load_vehicle_text
from sondar.code_library import part_kinds
from sondar.core.circuit.vehicle import RoutineItem
from sondar.core.repair_plan import RepairStep, repair_plan
from sondar.devices.meter import MeterError, tell_repaired
from sondar.store import evidence, vehicles
from sondar.store import jobs as job_store

log = structlog.get_logger()


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
    if work.devices.meter and case.job.simulated_vehicle:
        try:
            tell_repaired(work.devices.meter, case.job.simulated_vehicle, units)
        except MeterError as error:  # the repair is recorded, whatever the stand-in says
            log.warning("repair_not_told", problem=error.detail)
    return finish(work, case, view)


def planned(work: Workspace, diagnosis_id: UUID, units: list[str]) -> list[RepairStep]:
    """What repairing some units consists of, step by step.

    Raises:
        InvalidError: a unit that this circuit does not have.
    """
    with work.transaction() as db:
        case = load_case(db, diagnosis_id)
        model = None if case.job.vehicle_model_id is None else vehicles.model_by_id(db, case.job.vehicle_model_id)
    routines = {} if model is None else load_vehicle_text(model.source_text).routines
    return work.compute(case.version.id, _planned, case, units, routines)


def _planned(computed: Computed, case: Case, units: list[str], routines: Mapping[str, RoutineItem]) -> list[RepairStep]:
    return repair_plan(computed.circuit(case.version), units, routines, part_kinds())


def unproved(work: Workspace, job_id: UUID) -> list[str]:
    """Tests of a job's repaired circuits that failed before the repair and have not been within the expected range since, in words."""
    with work.transaction() as db:
        cases = [load_case(db, diagnosis.id) for diagnosis in job_store.diagnoses_of(db, job_id)]
    repaired = [case for case in cases if case.repairs]
    return [said for case in repaired for said in work.compute(case.version.id, judging.unproved, case)]
