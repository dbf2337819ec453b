"""What a customer sees of a job."""

from __future__ import annotations

from sondar.app.judging import Measuring
from sondar.app.reporting import CircuitReport
from sondar.app.sharing import SharedJob
from sondar.core.present.assessment import effect_range
from sondar.core.wording.labels import reading_label
from sondar.web.jobs.present import job_detail_view
from sondar.web.sharing.models import SharedDefect, SharedDiagnosis, SharedJobView, SharedProof, SharedReading


def shared_view(shared: SharedJob) -> SharedJobView:
    """A shared job for the outside."""
    job = shared.detail.record.job
    made = shared.report
    return SharedJobView(
        workshop=shared.workshop, number=job.number, vehicle=f"{job.make} {job.model} {job.year or ''}".strip(),
        plate=job.plate if shared.personal else "", complaint=job.complaint, stage=job.stage, checked_in=job.created_at,
        expires_at=shared.expires_at, frozen_at=shared.frozen_at, words=made.words, outcome=made.outcome, outcome_left=made.outcome_left,
        may_drive=made.may_drive, may_drive_why=made.may_drive_why, made_it_fail=made.made_it_fail, cause_removed=made.cause_removed,
        not_done=made.not_done, defects=[SharedDefect(**vars(one)) for one in made.defects], follow_up=made.follow_up,
        codes=job_detail_view(shared.detail).codes,
        diagnoses=[_diagnosis(found, told) for found, told in zip(shared.diagnoses, made.circuits, strict=True)],
    )  # fmt: skip


def shared_json(shared: SharedJob) -> bytes:
    """The same as text, made in the worker."""
    return shared_view(shared).model_dump_json().encode()


def _diagnosis(found: Measuring, told: CircuitReport) -> SharedDiagnosis:
    readings = [
        SharedReading(
            where=f"{effect.reading.test.red} to {effect.reading.test.black}", entry=reading_label(effect.reading),
            setup=effect.reading.test.setup.describe(), expected=effect_range(effect), within_expected=effect.within_expected,
        )
        for effect in (*found.repaired.earlier, *found.judgement.effects)
    ]  # fmt: skip
    own = found.case.diagnosis
    return SharedDiagnosis(
        title=own.title, about=own.reason, readings=readings, conclusion=own.conclusion,
        done=[f"{one.parts}: {one.action}" for one in told.done],
        proved=[
            SharedProof(test=one.test, expected=one.expected, before=one.before, now=one.now, passed=one.passed) for one in told.proved
        ],
    )  # fmt: skip
