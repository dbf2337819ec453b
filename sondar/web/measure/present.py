"""A judged circuit diagnosis as the measuring screen gets it."""

from __future__ import annotations

from sondar.app.measuring import Measuring, reading_of, said_before
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.present.assessment import assessment
from sondar.core.wording.labels import reading_label
from sondar.store.evidence import StoredReading
from sondar.web.common import MeterView, diagnosis_view, job_view
from sondar.web.measure.models import Exclusions, MeasuringView, ReadingOut, SaidBefore


def measuring_view(found: Measuring) -> MeasuringView:
    """Everything the screen shows that changes."""
    case, said = found.case, said_before(found)
    return MeasuringView(
        job=job_view(case.job), diagnosis=diagnosis_view(case.diagnosis), readings=[_reading(found.predictor, item) for item in case.stored],
        exclusions=Exclusions(**case.excluded), assessment=assessment(found.judgement), meter=found.meter_connected,
        meters=[MeterView.model_validate(meter.__dict__) for meter in case.meters], limits=found.limits, prior_reasons=found.known_before,
        said_before=None if said is None else SaidBefore(engine=said.engine, sentence=said.sentence, at=said.created_at),
    )  # fmt: skip


def _reading(predictor: Predictor, item: StoredReading) -> ReadingOut:
    reading = reading_of(predictor, item)
    return ReadingOut(
        id=item.id, seq=item.seq, instrument=reading.test.instrument, instrument_title=reading.device.title, red=item.red, black=item.black,
        setup_text=reading.test.setup.describe(), controls=item.controls, unplugged=item.unplugged, entry=item.entry,
        label=reading_label(reading), source=item.source, note=item.note, created_at=item.created_at, voided_because=item.voided_because,
        by=item.by, present=item.present,
    )  # fmt: skip
