"""Repairs of a circuit diagnosis: recorded, and proved by the tests that failed before."""

from __future__ import annotations

from uuid import UUID

from sondar.app.measuring import Measuring, finish, judged, load_case, load_with_predictor, with_evidence
from sondar.app.workspace import Workspace
from sondar.core.errors import FieldProblem, InvalidError
from sondar.core.wording.labels import describe_test
from sondar.store import evidence
from sondar.store import jobs as job_store


def repair(work: Workspace, diagnosis_id: UUID, client_key: UUID, units: list[str], action: str, *, substituted: bool) -> Measuring:
    """Record a repair; what was measured so far then speaks about the vehicle before it.

    Raises:
        InvalidError: a unit that this circuit does not have.
    """
    case, predictor = load_with_predictor(work, diagnosis_id)
    known = predictor.circuit.units
    for index, unit in enumerate(units):
        if unit not in known:
            raise InvalidError(
                "Not a unit of this circuit", f"{unit} is not in it; there are {', '.join(sorted(known))}",
                [FieldProblem(("units", str(index)), "choose a part, wire or connector of the circuit")],
            )  # fmt: skip
    with work.transaction() as db:
        evidence.append_repair(db, case.diagnosis, client_key, units, action, substituted=substituted)
        case = with_evidence(db, case)
    return finish(work, case)


def unproved(work: Workspace, job_id: UUID) -> list[str]:
    """Tests of a job's repaired circuits that failed before the repair and have not been within the expected range since, in words."""
    with work.transaction() as db:
        cases = [load_case(db, diagnosis.id) for diagnosis in job_store.diagnoses_of(db, job_id)]
    left = []
    for case in cases:
        if case.repairs:
            found, _ = judged(case, case.predictor(work.computed))
            left += [describe_test(found.now.predictor.circuit, item.test) for item in found.to_verify if not item.passed]
    return left
