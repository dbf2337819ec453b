"""A job as its page gets it."""

from __future__ import annotations

import contextlib
import json
from dataclasses import replace

from sondar.app import job_record
from sondar.app.jobs import JobDetail, returned
from sondar.core.errors import UnknownReferenceError
from sondar.core.former_names import current_stage, current_word
from sondar.core.instruments import instrument
from sondar.store.intake import Answer, TimelineEntry
from sondar.store.jobs import Job
from sondar.web.codes.present import code_view, scan_view
from sondar.web.common import diagnosis_view, job_view
from sondar.web.jobs.models import (
    AnswerView,
    CircuitOption,
    EarlierJob,
    JobDetailView,
    PartOption,
    PhotoView,
    PutBackView,
    SymptomOption,
    Timeline,
    TimelineEntryView,
)


def _earlier(job: Job) -> EarlierJob:
    return EarlierJob(id=job.id, number=job.number, complaint=job.complaint, conclusion=job.conclusion, at=job.created_at)


def answer_view(answer: Answer) -> AnswerView:
    """An answer; a stage in its former spelling reads as that of today."""
    value = current_stage(answer.value) if answer.field == "stage" else answer.value
    return AnswerView(value=value, seq=answer.seq, by=answer.by, at=answer.created_at)


def job_detail_view(detail: JobDetail) -> JobDetailView:
    """Everything of a job but its readings."""
    record, circuits, model = detail.record, detail.circuits, detail.model
    file, meanings = record.codes, record.meanings
    after = {scan.id: seconds for scan, seconds in file.since}
    return JobDetailView(
        job=job_view(record.job), answers={name: answer_view(answer) for name, answer in record.answers.items()},
        diagnoses=[diagnosis_view(d) for d in record.diagnoses],
        scans=[scan_view(s, after.get(s.id), circuits, meanings) for s in record.scans],
        cleared_at=file.clearing.created_at if file.clearing else None,
        codes=[
            code_view(c, circuits, meanings, file.classified.get((c.module or "", c.code))) for c in job_record.current_codes(file)
        ],
        photos=[PhotoView(**{**p.__dict__, "at": p.created_at}) for p in record.photos],
        warnings=detail.warnings,
        earlier=[_earlier(one) for one in record.earlier],
        returned=None if (last := returned(record)) is None else _earlier(last),
        known_vehicle=model is not None, interface=detail.interface,
        circuits=[
            CircuitOption(slug=slug, version_id=record.versions[slug].id, title=circuit.document.title, complaint=circuit.document.complaint,
                          codes=list(circuit.document.codes))
            for slug, circuit in circuits.items()
        ],
        symptoms=[
            SymptomOption(key=key, title=title, circuits=[] if model is None else found, parts=found if model is None else [])
            for key, (title, found) in detail.symptoms.items()
        ],
        parts=[] if model is None else [
            PartOption(id=key, title=part.name(key)) for key, part in sorted(model.circuit.document.parts.items(), key=lambda i: i[1].title)
            if part.module is None
        ],
        put_back=[PutBackView(key=item.key, title=item.title, caution=item.caution, done=done) for item, done in detail.put_back],
    )  # fmt: skip


def job_detail_json(detail: JobDetail) -> bytes:
    """The same as text, made in the worker."""
    return job_detail_view(detail).model_dump_json().encode()


def timeline_view(entries: list[TimelineEntry]) -> Timeline:
    """The timeline, former names of instruments, words and stages read as those of today."""
    return Timeline(entries=[TimelineEntryView.model_validate(_current(entry).__dict__) for entry in entries])


def _current(entry: TimelineEntry) -> TimelineEntry:
    if entry.kind == "reading":
        name, _, rest = entry.text.partition(" at ")
        where, _, shown = rest.partition(": ")
        with contextlib.suppress(UnknownReferenceError):
            name = instrument(name).title
        return replace(entry, text=f"{name} at {where}: {current_word(shown)}")
    if entry.kind == "answer" and entry.text == "stage":
        return replace(entry, detail=json.dumps(current_stage(json.loads(entry.detail))))
    return entry
