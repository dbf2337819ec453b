"""A judged circuit diagnosis as the measuring screen gets it."""

from __future__ import annotations

from typing import Any

from sondar.app import job_record
from sondar.app.judging import Measuring, reading_of, said_before, still_seized
from sondar.core.diagnosis.after_repair import Verification
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.present.assessment import assessment, effect_range, open_figures
from sondar.core.present.tests import test_view
from sondar.core.wording.labels import describe_test, reading_label, unit_title
from sondar.core.wording.second_opinion import opinion_answers
from sondar.store.evidence import StoredReading, StoredRepair
from sondar.web.common import MeterView, diagnosis_view, job_view
from sondar.web.measure.models import (
    ExcludedFigure,
    Exclusions,
    MeasuringView,
    OpinionOut,
    OpinionView,
    ReadingOut,
    RepairOut,
    SaidBefore,
    SeizedOut,
    ToVerify,
)

OPINION: tuple[tuple[str, Any], ...] = (("by", ""), ("said", ""), ("parts", []))


def measuring_view(found: Measuring) -> MeasuringView:
    """Everything the screen shows that changes."""
    case, said = found.case, said_before(found)
    return MeasuringView(
        job=job_view(case.job), diagnosis=diagnosis_view(case.diagnosis), readings=[_reading(found.predictor, item) for item in case.stored],
        repairs=[_repair(found.predictor, item) for item in case.repairs],
        to_verify=[_to_verify(found.predictor, item) for item in found.repaired.to_verify],
        evidence_seq=case.evidence_seq,
        exclusions=_exclusions(found), assessment=assessment(found.judgement, found.repaired.earlier), meter=found.meter_connected,
        meters=[MeterView.model_validate(meter.__dict__) for meter in case.meters], limits=found.limits, prior_reasons=found.known_before,
        opinion=_opinion(found),
        said_before=None if said is None else SaidBefore(engine=said.engine, sentence=said.sentence, at=said.created_at),
    )  # fmt: skip


def _exclusions(found: Measuring) -> Exclusions:
    """What is ruled out; a figure that has been filled in since is no longer among it."""
    excluded, titles = found.case.excluded, open_figures(found.predictor.circuit)
    figures = [ExcludedFigure(name=name, title=titles[name]) for name in excluded["figure"] if name in titles]
    seized = [
        SeizedOut(name=item.name, minutes=item.minutes, price=item.price)
        for item in still_seized(found.case, found.predictor.circuit)
    ]
    return Exclusions(point=excluded["point"], instrument=excluded["instrument"], figure=figures, seized=seized)


def _opinion(found: Measuring) -> OpinionView | None:
    by, said, parts = (job_record.value_of(found.case.answers, f"opinion_{name}", default) for name, default in OPINION)
    if not (by or said or parts):
        return None
    return OpinionView(by=by, said=said, answers=[OpinionOut(**item.__dict__) for item in opinion_answers(found.judgement, parts)])


def measuring_json(found: Measuring) -> bytes:
    """The same as text, made in the worker."""
    return measuring_view(found).model_dump_json().encode()


def _reading(predictor: Predictor, item: StoredReading) -> ReadingOut:
    reading = reading_of(predictor, item)
    return ReadingOut(
        id=item.id, seq=item.seq, instrument=reading.test.instrument, instrument_title=reading.device.title, red=item.red, black=item.black,
        setup_text=reading.test.setup.describe(), controls=item.controls, unplugged=item.unplugged, entry=item.entry,
        label=reading_label(reading), source=item.source, note=item.note, created_at=item.created_at, voided_because=item.voided_because,
        by=item.by, present=item.present,
    )  # fmt: skip


def _repair(predictor: Predictor, item: StoredRepair) -> RepairOut:
    return RepairOut(**item.__dict__, titles=[unit_title(predictor.circuit, unit) for unit in item.units])


def _to_verify(predictor: Predictor, item: Verification) -> ToVerify:
    circuit = predictor.circuit
    return ToVerify(
        reading=item.before.reading.id, test=test_view(circuit, item.test), label=describe_test(circuit, item.test),
        expected=effect_range(item.now or item.before), before=reading_label(item.before.reading),
        now=None if item.now is None else reading_label(item.now.reading), passed=item.passed,
    )  # fmt: skip
