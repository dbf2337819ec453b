"""What a customer sees of a job."""

from __future__ import annotations

from sondar.app.judging import Measuring
from sondar.app.sharing import SharedJob
from sondar.core.present.assessment import effect_range
from sondar.core.wording.labels import reading_label
from sondar.web.jobs.present import job_detail_view
from sondar.web.sharing.models import SharedDiagnosis, SharedJobView, SharedReading


def shared_view(shared: SharedJob) -> SharedJobView:
    """A shared job for the outside."""
    job = shared.detail.record.job
    return SharedJobView(
        workshop=shared.workshop, number=job.number, vehicle=f"{job.make} {job.model} {job.year or ''}".strip(), plate=job.plate,
        complaint=job.complaint, stage=job.stage, checked_in=job.created_at, expires_at=shared.expires_at,
        codes=job_detail_view(shared.detail).codes, diagnoses=[_diagnosis(found) for found in shared.diagnoses],
    )  # fmt: skip


def shared_json(shared: SharedJob) -> bytes:
    """The same as text, made in the worker."""
    return shared_view(shared).model_dump_json().encode()


def _diagnosis(found: Measuring) -> SharedDiagnosis:
    readings = [
        SharedReading(
            where=f"{effect.reading.test.red} to {effect.reading.test.black}", entry=reading_label(effect.reading),
            setup=effect.reading.test.setup.describe(), expected=effect_range(effect), within_expected=effect.within_expected,
        )
        for effect in found.judgement.effects
    ]  # fmt: skip
    own = found.case.diagnosis
    return SharedDiagnosis(title=own.title, about=own.reason, readings=readings, conclusion=own.conclusion)
