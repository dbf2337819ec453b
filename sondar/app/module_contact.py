"""Who hears whom on the vehicle of a job, from the last reading of its codes; and which circuit to test for it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar
from uuid import UUID

from sondar.app.computed import Computed
from sondar.app.jobs import JobRecord, load_record
from sondar.app.workspace import Workspace
from sondar.code_library import generic_codes
from sondar.core.module_contact import Contact, Heard, SeenCode, conclusions, who_hears_whom

T = TypeVar("T")
LOST = "lost"
"""Manner of the generic codes that say so."""


@dataclass(frozen=True)
class ModuleContact:
    """Modules, what follows, and for a module the slug of the circuit that holds its supply."""

    heard: list[Heard]
    found: list[Contact]
    circuits: dict[str, str]


def of_job(work: Workspace, job_id: UUID, view: Callable[[ModuleContact], T]) -> T:
    """Who hears whom by what has been read so far; empty before anything was.

    Raises:
        NotFoundError: there is no such job.
    """
    with work.transaction() as db:
        record = load_record(db, job_id)
    return work.compute("modules", _viewed, record, view)


def _viewed(computed: Computed, record: JobRecord, view: Callable[[ModuleContact], T]) -> T:
    model = computed.triage_model(record.model, record.versions)
    document = None if model is None else model.circuit.document
    asked = next((scan for scan in reversed(record.scans) if scan.modules), None)
    last = record.scans[-1] if record.scans else None
    titles = {} if model is None or document is None else {
        name: document.modules[name].title or name for name in model.vehicle.document.addresses if name in document.modules
    }  # fmt: skip
    held = generic_codes()
    codes = []
    for code in last.codes if last is not None else ():
        own = None if document is None else document.codes.get(code.code)
        item = held.get(code.code)
        if code.code.startswith("U") and item is not None and item.manner == LOST:
            about = f"{own.title} {item.part}" if own is not None else item.part
            codes.append(SeenCode(code.code, code.module or (own.module if own is not None else ""), about, code.status))
    heard = who_hears_whom(titles, {} if asked is None else asked.modules, codes)
    supplied = {
        part.module: slug
        for slug, version in record.versions.items()
        for part in computed.circuit(version).document.parts.values()
        if part.family == "module_supply" and part.module
    }
    return view(ModuleContact(heard, conclusions(heard), supplied))
