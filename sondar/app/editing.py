"""What becomes known of the circuit of a diagnosis: figures and colours, limits, what is in a wire. The diagnosis goes on with the new version."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any
from uuid import UUID

from sondar.app.case import load_case, with_evidence
from sondar.app.computed import Computed
from sondar.app.measuring import T, View, finish
from sondar.app.workspace import Workspace
from sondar.circuit_edits.filling import Fill, Known, filled_in, known_of
from sondar.circuit_edits.inserting import Insertion, with_insertion
from sondar.circuit_edits.limits import NewLimit, with_limit, without_limit
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.errors import ConflictError
from sondar.store import circuits as circuit_store
from sondar.store import evidence
from sondar.store import jobs as job_store

MOST_TRIES = 5
Edit = Callable[[str, Any], tuple[CircuitDocument, str, str]]
"""An edit of a circuit file: its text and what is wanted -> the checked document, the new text, what was done in words."""


def known(work: Workspace, diagnosis_id: UUID) -> list[Known]:
    """What is known of the circuit of a diagnosis, and what could be filled in."""
    with work.transaction() as db:
        case = load_case(db, diagnosis_id)
    return work.compute(case.version.id, _known, case.version.source_text)


def _known(_computed: Computed, text: str) -> list[Known]:
    return known_of(text)


def fill_in(work: Workspace, diagnosis_id: UUID, client_key: UUID, fills: list[Fill], view: View[T]) -> T:
    """Fill in figures, colours, places, numbers of pins.

    Raises:
        InvalidError: a value that is not one; names its place.
    """
    return _edited(work, diagnosis_id, client_key, filled_in, fills, view)


def set_limit(work: Workspace, diagnosis_id: UUID, client_key: UUID, limit: NewLimit, view: View[T]) -> T:
    """Add a limit of one's own, or change one.

    Raises:
        InvalidError: no figure, or no such point; names the field.
    """
    return _edited(work, diagnosis_id, client_key, with_limit, limit, view)


def drop_limit(work: Workspace, diagnosis_id: UUID, client_key: UUID, limit_id: str, view: View[T]) -> T:
    """Take a limit away.

    Raises:
        InvalidError: there is none, or another one is compared with it.
    """
    return _edited(work, diagnosis_id, client_key, without_limit, limit_id, view)


def insert(work: Workspace, diagnosis_id: UUID, client_key: UUID, insertion: Insertion, view: View[T]) -> T:
    """Put a connector, a fuse or a joint into a wire.

    Raises:
        InvalidError: no such wire, or the designation is taken; names the field.
    """
    return _edited(work, diagnosis_id, client_key, with_insertion, insertion, view)


def _edited(work: Workspace, diagnosis_id: UUID, client_key: UUID, edit: Edit, wanted: Any, view: View[T]) -> T:
    """Edit the circuit's file and go on with the new version; every reading stays. A repeat of the same key changes nothing.

    An edit that somebody else made meanwhile is kept: this one is made again, on top of it.

    Raises:
        InvalidError: what is wanted cannot be done; names the field. ConflictError: others kept changing the circuit.
    """
    with work.transaction() as db:
        case = load_case(db, diagnosis_id)
        repeated = evidence.has_revision(db, case.diagnosis, client_key)
    if repeated:
        return finish(work, case, view)
    for _ in range(MOST_TRIES):
        document, text, said = work.compute(case.version.id, _edit, case.version.source_text, edit, wanted)
        with work.transaction() as db:
            job_store.lock(db, case.job.id)
            now = load_case(db, diagnosis_id)
            if not evidence.has_revision(db, now.diagnosis, client_key):
                if now.version.id != case.version.id:
                    case = now
                    continue
                version = circuit_store.save_circuit(db, document, text)
                evidence.append_revision(db, now.diagnosis, client_key, version.id, said)
            case = with_evidence(db, now)
        return finish(work, case, view)
    raise ConflictError("Not filled in", "somebody else keeps changing this circuit: look at what is there, then try again", [])


def _edit(_computed: Computed, text: str, edit: Edit, wanted: Any) -> tuple[CircuitDocument, str, str]:
    return edit(text, wanted)
