"""The estimate of a job: what is written, what it comes to, what could be written, and who accepted it when."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from decimal import Decimal
from itertools import pairwise
from typing import TypeVar
from uuid import UUID

from sondar.app import job_record
from sondar.app.case import Case, load_case
from sondar.app.computed import Computed
from sondar.app.jobs import JobRecord, about, load_record
from sondar.app.workspace import Workspace
from sondar.core.errors import ConflictError, invalid
from sondar.core.estimate import Line, Totals, number, totals
from sondar.core.wording.labels import unit_title
from sondar.store import intake as intake_store
from sondar.store.intake import Answer

T = TypeVar("T")
NEWEST = 2_000_000_000
PAUSE_S = 1800.0
"""A longer time between two readings was not spent on this job."""
QUARTER_H = 0.25


@dataclass(frozen=True)
class Accepted:
    """Somebody accepted an estimate; ``same`` as long as it still comes to that."""

    name: str
    gross: Decimal
    at: str
    same: bool


@dataclass(frozen=True)
class Estimate:
    """An estimate as it stands.

    Attributes:
        proposed: lines that follow from repairs, parts and the time between readings, and are not written yet.
    """

    number: int
    plate: str
    vehicle: str
    currency: str
    lines: list[Line]
    discount_percent: Decimal
    tax_percent: Decimal
    totals: Totals
    accepted: Accepted | None
    proposed: list[Line]


def of_job(work: Workspace, job_id: UUID, view: Callable[[Estimate], T]) -> T:
    """The estimate of a job.

    Raises:
        NotFoundError: there is no such job.
    """
    with work.transaction() as db:
        record = load_record(db, job_id)
        cases = [load_case(db, diagnosis.id) for diagnosis in record.diagnoses]
    return work.compute(about(record), _viewed, record, cases, view)


def _viewed(computed: Computed, record: JobRecord, cases: Sequence[Case], view: Callable[[Estimate], T]) -> T:
    return view(estimate(record, _proposed(computed, record, cases)))


def estimate(record: JobRecord, proposed: Sequence[Line] = ()) -> Estimate:
    """The estimate that stands in a record."""
    lines, discount, tax = _written(record.answers)
    found = totals(lines, discount, tax)
    known, job = {line.what for line in lines}, record.job
    return Estimate(
        job.number, job.plate, f"{job.make} {job.model}".strip(), record.workshop.currency, lines, discount, tax, found,
        _accepted(record.answers, found), [line for line in proposed if line.what not in known],
    )  # fmt: skip


def _written(answers: Mapping[str, Answer]) -> tuple[list[Line], Decimal, Decimal]:
    lines = []
    for line in job_record.value_of(answers, "estimate", []):
        what, kind, amount, price = line.split(" | ")
        lines.append(Line(what, kind, number(amount), number(price)))
    discount, tax = (Decimal(str(job_record.value_of(answers, field, 0) or 0)) for field in ("estimate_discount", "estimate_tax"))
    return lines, discount, tax


def _accepted(answers: Mapping[str, Answer], found: Totals) -> Accepted | None:
    text = str(job_record.value_of(answers, "estimate_accepted", "") or "")
    if not text:
        return None
    name, gross, at = text.split(" | ")
    return Accepted(name, Decimal(gross), at, Decimal(gross) == found.gross)


def _proposed(computed: Computed, record: JobRecord, cases: Sequence[Case]) -> list[Line]:
    rate = Decimal(str(record.workshop.rate_per_hour))
    found = []
    hours = sum(_hours(case) for case in cases)
    if hours:
        found.append(Line("Diagnosis", "labour", Decimal(str(hours)), rate))
    for case in cases:
        circuit = computed.circuit(case.version)
        for unit in dict.fromkeys(unit for repair in case.repairs for unit in repair.units):
            minutes = circuit.units[unit].fit_min
            if minutes > 0:
                found.append(Line(f"Repair: {unit_title(circuit, unit)}", "labour", Decimal(str(_quarters(minutes / 60.0))), rate))
    for line in job_record.value_of(record.answers, "parts", []):
        what, _, fitted, condition, _, price, *_ = line.split(" | ")
        try:
            paid = number(price)
        except ValueError:
            continue  # no figure was written for it
        found.append(Line(f"{what}{f' {fitted}' if fitted else ''}, {condition}", "part", Decimal(1), paid))
    return found


def _hours(case: Case) -> float:
    """Hours between the readings of a circuit, pauses left out, in quarters."""
    times = [item.created_at for item in case.valid]
    gaps = [(later - earlier).total_seconds() for earlier, later in pairwise(times)]
    seconds = sum(gap for gap in gaps if gap <= PAUSE_S)
    return _quarters(seconds / 3600.0) if times else 0.0


def _quarters(hours: float) -> float:
    return max(QUARTER_H, math.ceil(hours / QUARTER_H - 1e-9) * QUARTER_H)


def accept(work: Workspace, job_id: UUID, client_key: UUID, name: str, gross: str, view: Callable[[Estimate], T]) -> T:
    """Keep that somebody accepted what the estimate comes to.

    Raises:
        ConflictError: it comes to something else by now. InvalidError: nothing is written, or no name.
    """
    with work.transaction() as db:
        record = load_record(db, job_id)
        found = estimate(record)
        if not found.lines:
            raise invalid("gross", "write at least one line first")
        try:
            said = number(gross)
        except ValueError as error:
            raise invalid("gross", str(error)) from error
        if said != found.totals.gross:
            raise ConflictError(
                "The estimate has changed",
                f"It comes to {found.totals.gross:.2f} {found.currency} now: show that before it is accepted.",
            )
        who = name.replace("|", "/").strip()
        if not who:
            raise invalid("name", "say who accepts it")
        text = f"{who} | {said:f} | {datetime.now(UTC):%Y-%m-%d %H:%M}"
        intake_store.give_answer(db, job_id, client_key, "estimate_accepted", text, NEWEST)
    return of_job(work, job_id, view)
