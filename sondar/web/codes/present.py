"""Codes and scans as the screen gets them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sondar.app.module_contact import ModuleContact
from sondar.code_library import generic_codes
from sondar.core.circuit.network import Circuit
from sondar.core.code_files import Understood
from sondar.core.codes import SYSTEMS, Classified, FoundCode, danger_of, is_stored, status_words
from sondar.store.codes import Meaning, Scan
from sondar.web.codes.models import CodeFileLine, CodeFileRow, CodeFileView, CodeView, ContactView, HeardView, ModulesView, ScanView


def code_view(
    code: FoundCode, circuits: Mapping[str, Circuit], meanings: Mapping[str, Meaning], behaviour: Classified | None
) -> CodeView:
    """A code with its meaning: from the vehicle's circuits, else from the workshop's own notes, else what the standard says."""
    held = generic_codes()
    generic = held.get(code.code)
    owners = [slug for slug, circuit in circuits.items() if code.code in circuit.document.codes]
    told: dict[str, Any] = {"title": "", "about": "", "kind": SYSTEMS[code.code[0]], "known_from": "none"}
    if owners:
        document = circuits[owners[0]].document.codes[code.code]
        told = {"title": document.title, "about": document.about, "kind": document.kind, "known_from": "library"}
    elif code.code in meanings:
        told |= {"title": meanings[code.code].title, "about": meanings[code.code].about, "known_from": "workshop"}
    elif generic is not None:
        told |= {"title": generic.meaning, "about": generic.electrically, "kind": generic.kind, "known_from": "generic"}
    return CodeView(
        module=code.module or "", code=code.code, failure_type=code.failure_type, status=code.status, danger=danger_of(code.code),
        status_words=status_words(code.status), circuits=owners, behaviour=behaviour.behaviour if behaviour else None,
        behaviour_reason=behaviour.reason if behaviour else "", after_s=behaviour.after_s if behaviour else None,
        failure_words=held.failure_type(code.failure_type), why_not=held.why_not(code.code) if told["known_from"] == "none" else "",
        template=generic.template if generic and not owners else "", **told,
    )  # fmt: skip


def scan_view(scan: Scan, after_s: float | None, circuits: Mapping[str, Circuit], meanings: Mapping[str, Meaning]) -> ScanView:
    """A scan for the screen; codes that are only "not tested yet" are left out."""
    codes = [code_view(c, circuits, meanings, None) for c in scan.codes if is_stored(c.status)]
    return ScanView(
        id=scan.id, seq=scan.seq, source=scan.source, modules=scan.modules, conditions=scan.conditions, at=scan.created_at, by=scan.by,
        after_s=after_s, codes=codes,
    )  # fmt: skip


def code_file_view(found: Understood) -> CodeFileView:
    """A file as it was understood."""
    rows = [
        CodeFileRow(
            row=number, line=row.line, text=row.text, module=row.code.module or "", code=row.code.code, failure_type=row.code.failure_type,
            status=row.code.status, status_words=status_words(row.code.status), words=row.code.words,
            doubt=row.doubt,
        )
        for number, row in enumerate(found.rows)
    ]  # fmt: skip
    left = [CodeFileLine(line=line, text=text, why=why) for line, text, why in found.left_out]
    return CodeFileView(form=found.form, unused=list(found.unused), rows=rows, left_out=left)


def modules_json(found: ModuleContact) -> bytes:
    """Who hears whom, as it is sent; made in a worker."""
    view = ModulesView(
        heard=[
            HeardView(id=one.id, title=one.title, state=one.state, missed_by=list(one.missed_by), missed_before=list(one.missed_before))
            for one in found.heard
        ],
        found=[
            ContactView(
                modules=list(one.modules), sentence=one.sentence, why=one.why, checks=list(one.checks),
                circuit=next((found.circuits[module] for module in one.modules if module in found.circuits), ""),
            )
            for one in found.found
        ],
    )  # fmt: skip
    return view.model_dump_json().encode()
