"""The report of a job: what a customer understands, and what a colleague can check. One content, told twice.

Everything in it stands in the job's record or follows from its readings; nothing is made up for the report.
"""

from __future__ import annotations

from base64 import b64encode
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime
from typing import TypeVar
from uuid import UUID

from sondar.app import job_record
from sondar.app.case import Case, load_case
from sondar.app.computed import Computed
from sondar.app.estimates import Estimate, estimate
from sondar.app.jobs import JobDetail, JobRecord, about, detail_of, load_record
from sondar.app.judging import Measuring, judge_case
from sondar.app.workspace import Workspace
from sondar.core.codes import Classified
from sondar.core.diagnosis.after_repair import Verification
from sondar.core.diagnosis.judge import Effect, Judgement
from sondar.core.instruments.substitution import Substitution
from sondar.core.present.assessment import effect_range
from sondar.core.wording import conclusion as words
from sondar.core.wording.labels import describe_test, reading_label, unit_title
from sondar.core.wording.second_opinion import OpinionAnswer, opinion_answers
from sondar.store import intake
from sondar.store.database import Db

T = TypeVar("T")

MOST_PICTURES = 8
"""Of the repair, in one report."""

DRIVE = {
    "yes": "It may be driven.", "with limits": "It may be driven, with limits.",
    "not until repaired": "It must not be driven until it has been repaired.", "not known": "Whether it may be driven is not known.",
    "": "Nobody has said whether it may be driven.",
}  # fmt: skip


@dataclass(frozen=True)
class Defect:
    """Something else that was seen: what, how urgent, and what was decided about it."""

    what: str
    urgency: str
    decision: str


@dataclass(frozen=True)
class Part:
    """A part that was fitted: what it is, its numbers, where it came from, and whether it was checked before."""

    what: str
    number_old: str
    number_new: str
    condition: str
    supplier: str
    price: str
    checked: str
    note: str


@dataclass(frozen=True)
class HarnessRepair:
    """How a wire was repaired; pictures by their captions, as far as they have any."""

    wire: str
    place: str
    added_mm: str
    method: str
    seal: str
    before: str
    after: str


@dataclass(frozen=True)
class RemovedPart:
    """What was seen of a part that was taken out: how worn, in words, and what it was held beside."""

    what: str
    wear: str
    seen: str
    compared: str


@dataclass(frozen=True)
class SettingChanged:
    """A threshold or other setting of a module that was changed, and the way back."""

    what: str
    old: str
    new: str
    asked_by: str
    note: str
    back: str


@dataclass(frozen=True)
class Bypass:
    """Something that was bypassed for a time: never a repair."""

    what: str
    why: str
    until: str
    state: str


@dataclass(frozen=True)
class Picture:
    """A picture of the repair: what it shows, and its thumbnail as JPEG in base 64."""

    title: str
    jpeg: str


@dataclass(frozen=True)
class Measured:
    """One reading with what a healthy vehicle would have shown."""

    test: str
    shown: str
    expected: str
    within: bool
    voided: str = ""


@dataclass(frozen=True)
class Proved:
    """A test that failed before the repair, and how it is now; ``now`` is empty while it has not been repeated."""

    test: str
    expected: str
    before: str
    now: str
    passed: bool | None


@dataclass(frozen=True)
class Done:
    """A repair: what was done to which parts, by whom and when."""

    parts: str
    action: str
    by: str
    at: datetime
    tried: bool


@dataclass(frozen=True)
class CircuitReport:
    """One circuit: what it was tested for, what was found, what was done about it, and whether that holds.

    Attributes:
        concluded: the conclusion as it was stored; computed: what follows from the readings today. by_substitution: it rests on
            exchanged parts alone: everything that was measured was as expected.
    """

    title: str
    reason: str
    concluded: str
    computed: str
    certainty: float
    measured: tuple[Measured, ...]
    done: tuple[Done, ...]
    proved: tuple[Proved, ...]
    opinions: tuple[OpinionAnswer, ...]
    cautions: tuple[str, ...]
    engine: str
    by_substitution: bool = False


@dataclass(frozen=True)
class CodeLine:
    """A code as it was read first, and how it behaved since it was cleared."""

    code: str
    module: str
    since: str


@dataclass(frozen=True)
class Report:
    """All that is said of a job.

    Attributes:
        outcome: fixed, partly, not fixed, or nothing said; outcome_left: what is left then. words: what the workshop lead wrote for the
            customer in place of the computed wording, which stays beside it in the report for a colleague.
    """

    workshop: str
    number: int
    vehicle: str
    plate: str
    mileage: str
    checked_in: datetime
    made: datetime
    complaint: str
    reproduced: bool | None
    codes: tuple[CodeLine, ...]
    circuits: tuple[CircuitReport, ...]
    may_drive: str
    may_drive_why: str
    made_it_fail: str
    cause_removed: bool | None
    not_done: str
    defects: tuple[Defect, ...]
    parts: tuple[Part, ...]
    harness: tuple[HarnessRepair, ...]
    removed: tuple[RemovedPart, ...]
    bypasses: tuple[Bypass, ...]
    settings: tuple[SettingChanged, ...]
    steps_left: tuple[str, ...]
    follow_up: date | None
    put_back_open: tuple[str, ...]
    stage: str
    outcome: str
    outcome_left: str
    words: str
    estimate: Estimate
    pictures: tuple[Picture, ...] = ()


def of_job(work: Workspace, job_id: UUID, view: Callable[[Report], T]) -> T:
    """The report of a job as ``view`` makes it, in a worker.

    Raises:
        NotFoundError: there is no such job.
    """
    with work.transaction() as db:
        record = load_record(db, job_id)
        cases = [load_case(db, diagnosis.id) for diagnosis in record.diagnoses]
        pictures = tuple(_pictures(db, record))
    return work.compute(about(record), _viewed, record, cases, datetime.now(UTC), pictures, view)


def _pictures(db: Db, record: JobRecord) -> Iterator[Picture]:
    """Pictures that the record of the repair names, in its order."""
    named: dict[str, str] = {}
    for wire, place, _, _, _, before, after in _divided(job_record.value_of(record.answers, "harness_repairs", [])):
        for photo, side in ((before, "before"), (after, "after")):
            named.setdefault(photo, f"{wire}{f', {place}' if place else ''}, {side}")
    for what, wear, _, _, photo in _divided(job_record.value_of(record.answers, "removed_parts", [])):
        named.setdefault(photo, f"{what}, taken out: {wear}")
    own = {str(photo.id) for photo in record.photos}
    for photo in [photo for photo in named if photo in own][:MOST_PICTURES]:
        found = intake.picture(db, UUID(photo), thumbnail=True)
        if found is not None:
            yield Picture(named[photo], b64encode(found[0]).decode())


def _viewed(
    computed: Computed, record: JobRecord, cases: Sequence[Case], made: datetime, pictures: tuple[Picture, ...],
    view: Callable[[Report], T],
) -> T:  # fmt: skip
    detail = detail_of(computed, record, False)
    return view(replace(report(detail, [judge_case(computed, case, False) for case in cases], made), pictures=pictures))


def report(detail: JobDetail, judged: Sequence[Measuring], made: datetime) -> Report:
    """The report from a job's record and its judged circuits."""
    record, job = detail.record, detail.record.job

    def said(field: str, default: object) -> object:
        return job_record.value_of(record.answers, field, default)

    day = str(said("follow_up", "") or "")
    removed, reproduced = said("cause_removed", None), said("reproduced", None)
    return Report(
        record.workshop.name, job.number, f"{job.make} {job.model} {job.year or ''}".strip(), job.plate,
        f"{job.mileage_km:,} km".replace(",", " ") if job.mileage_km is not None else "", job.created_at, made, job.complaint,
        reproduced if isinstance(reproduced, bool) else None, _codes(record), tuple(_circuit(found) for found in judged),
        DRIVE[str(said("may_drive", "") or "")], str(said("may_drive_why", "") or ""), str(said("made_it_fail", "") or ""),
        removed if isinstance(removed, bool) else None, str(said("not_done", "") or ""), _defects(said("defects", [])),
        _parts(said("parts", [])), _harness(said("harness_repairs", []), record),
        tuple(RemovedPart(*fields[:4]) for fields in _divided(said("removed_parts", []))),
        tuple(Bypass(*fields) for fields in _divided(said("bypasses", []))),
        tuple(SettingChanged(*fields) for fields in _divided(said("settings_changed", []))), _left(said("repair_steps", [])),
        date.fromisoformat(day) if day else None, tuple(item.title for item, done in detail.put_back if not done), job.stage,
        str(said("outcome", "") or ""), str(said("outcome_left", "") or ""), str(said("customer_words", "") or ""), estimate(record),
    )  # fmt: skip


def _divided(lines: object) -> list[list[str]]:
    """Lines of an answer as their fields."""
    return [[part.strip() for part in str(line).split("|")] for line in lines] if isinstance(lines, list) else []


def _parts(lines: object) -> tuple[Part, ...]:
    return tuple(Part(*fields) for fields in _divided(lines))


def _harness(lines: object, record: JobRecord) -> tuple[HarnessRepair, ...]:
    names = {str(photo.id): photo.caption or f"picture of {photo.created_at:%d %B %H:%M}" for photo in record.photos}
    return tuple(
        HarnessRepair(wire, place, added, method, seal, names.get(before, ""), names.get(after, ""))
        for wire, place, added, method, seal, before, after in _divided(lines)
    )


def _left(lines: object) -> tuple[str, ...]:
    """Steps of a repair that were left out, with the reason."""
    return tuple(f"{step}: {why}" for _, step, why in _divided(lines) if why != DONE)


DONE = "done"


def _defects(lines: object) -> tuple[Defect, ...]:
    return tuple(Defect(*fields) for fields in _divided(lines))


BEHAVED = {
    "hard": "set again at once", "new": "new since", "conditional": "set again under its conditions", "intermittent": "came back by and by",
    "history": "has not come back", "untested": "its test has not run since",
}  # fmt: skip


def _codes(record: JobRecord) -> tuple[CodeLine, ...]:
    file = record.codes
    lines = []
    for found in job_record.current_codes(file):
        how: Classified | None = file.classified.get((found.module or "", found.code))
        since = "" if how is None else BEHAVED.get(str(how.behaviour), str(how.behaviour))
        lines.append(CodeLine(found.code, found.module or "", since if file.clearing else "not cleared"))
    return tuple(lines)


def _circuit(found: Measuring) -> CircuitReport:
    case, judgement = found.case, found.judgement
    circuit = found.predictor.circuit
    parts = job_record.value_of(case.answers, "opinion_parts", [])
    voided = [
        Measured(f"{item.instrument} at {item.red}", item.entry, "", True, item.voided_because or "")
        for item in case.stored
        if item.voided_because is not None
    ]
    effects: list[Effect] = [*found.repaired.earlier, *judgement.effects]
    measured = [
        Measured(describe_test(circuit, e.reading.test), reading_label(e.reading), effect_range(e), e.within_expected)
        for e in effects
    ]
    done = [
        Done(
            ", ".join(unit_title(circuit, unit) for unit in item.units),
            item.action,
            item.by or "",
            item.created_at,
            item.substituted,
        )
        for item in case.repairs
    ]
    return CircuitReport(
        case.diagnosis.title, case.diagnosis.reason, case.diagnosis.conclusion or "", words.sentence(judgement),
        min(1.0, judgement.ranking.certainty), (*measured, *voided), tuple(done),
        tuple(_proved(circuit, item) for item in found.repaired.to_verify), tuple(opinion_answers(judgement, parts)),
        tuple(circuit.document.cautions), case.said.engine if case.said else "",
        _by_substitution(case, judgement, effects),
    )  # fmt: skip


def _by_substitution(case: Case, judgement: Judgement, effects: Sequence[Effect]) -> bool:
    """True if a part was exchanged and no reading but that one showed anything out of order."""
    exchanged = any(item.substituted for item in case.repairs) or words.is_by_substitution(judgement)
    return exchanged and all(e.within_expected for e in effects if e.reading.test.instrument != Substitution.id)


def _proved(circuit: object, item: Verification) -> Proved:
    return Proved(
        describe_test(circuit, item.test),  # type: ignore[arg-type]
        effect_range(item.now or item.before), reading_label(item.before.reading),
        "" if item.now is None else reading_label(item.now.reading), item.passed,
    )  # fmt: skip
