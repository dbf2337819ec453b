"""Testing one circuit of a job: what stands, what a reading does to it, and what is concluded.

The way of every request: ``load_case`` in one transaction, the computing by a worker with no connection held, the result shown as the
caller wants it (``view``). A reading is checked before it is stored, stored in a transaction of its own, and judged after that has
been committed.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from typing import TypeVar
from uuid import UUID, uuid5

from sondar.app import foreseeing, judging
from sondar.app.case import Case, load_case, with_evidence
from sondar.app.judging import CheckedEntry, Measuring, Said, WantedTest
from sondar.app.workspace import Workspace
from sondar.computing.asking import StillWorkingError
from sondar.core import ENGINE_VERSION
from sondar.core.errors import BusyError, ConflictError, NotFoundError, UnavailableError, invalid
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Test
from sondar.core.present.assessment import ProposalView
from sondar.core.present.overlays import ExpectedOverlay, WaveformView
from sondar.devices.meter import Placement, read_meter
from sondar.store import evidence, people
from sondar.store import jobs as job_store

T = TypeVar("T")
View = Callable[[Measuring], T]
"""What is made of a judged case, in the worker: a function of a module."""


@dataclass(frozen=True)
class WantedReading:
    """What somebody enters for a test.

    Attributes:
        sure: the order of magnitude was asked about and is meant.
        supersedes: reading that this one corrects: it is voided in the same step.
    """

    client_key: UUID
    test: WantedTest
    entry: str
    source: str = "typed"
    note: str = ""
    meter_id: UUID | None = None
    sure: bool = False
    supersedes: UUID | None = None


def _loaded(work: Workspace, diagnosis_id: UUID) -> Case:
    with work.transaction() as db:
        return load_case(db, diagnosis_id)


def meter_connected(work: Workspace, case: Case) -> bool:
    """True if a meter is connected that can be asked about this job's vehicle."""
    return bool(work.devices.meter and case.job.simulated_vehicle)


def _assessed(work: Workspace, case: Case, view: View[T]) -> tuple[T, Said]:
    return work.compute(case.version.id, judging.assessed, case, meter_connected(work, case), view)


def finish(work: Workspace, case: Case, view: View[T]) -> T:
    """Judge what has been committed, and keep what is said of it."""
    shown, said = _assessed(work, case, view)
    if case.valid:
        work.later(lambda: _keep_statement(work, case, said))
    return shown


def _keep_statement(work: Workspace, case: Case, said: Said) -> None:
    with work.transaction() as db:
        evidence.add_statement(
            db, case.diagnosis.id, len(case.valid), case.valid[-1].id, ENGINE_VERSION, said.sentence, said.units, said.certainty
        )


def show(work: Workspace, diagnosis_id: UUID, view: View[T]) -> T:
    """The circuit diagnosis as it stands."""
    return _assessed(work, _loaded(work, diagnosis_id), view)[0]


def record(work: Workspace, diagnosis_id: UUID, wanted: WantedReading, view: View[T]) -> tuple[T, bool]:
    """Append a reading; False beside the result if this client key was there already and nothing was added.

    Raises:
        InvalidError: point, set-up or entry not possible. ConflictError: another order of magnitude was probably meant.
    """
    case = _loaded(work, diagnosis_id)
    checked = _checked(work, case, wanted)
    with work.transaction() as db:
        meter = people.meter(db, wanted.meter_id) if wanted.meter_id is not None else None
        if wanted.meter_id is not None and meter is None:
            raise invalid("meter_id", "no such meter: choose one of the list")
        worse, entry = 0.0, checked.entry
        if meter is not None and entry.value is not None:
            worse = max(0.0, meter.error(instrument(checked.test.instrument).accuracy_of, entry.value) - checked.usual_error)
        new = evidence.NewReading.of(
            wanted.client_key, checked.test, wanted.entry, entry, wanted.source, wanted.note, present=checked.present,
            meter_id=wanted.meter_id, meter_error_si=worse,
        )  # fmt: skip
        added = evidence.append_reading(db, case.diagnosis, new)
        if added and wanted.supersedes is not None:
            key = uuid5(wanted.client_key, "supersedes")
            if evidence.void_reading(db, case.diagnosis, wanted.supersedes, key, f"Corrected to {wanted.entry}") == "unknown":
                raise NotFoundError("No such reading", f"this diagnosis has no reading {wanted.supersedes} to correct")
        case = with_evidence(db, case)
    # Committed: from here on the reading is safe, whatever happens to the answer.
    return finish(work, case, view), added


def _checked(work: Workspace, case: Case, wanted: WantedReading) -> CheckedEntry:
    """What the entry means. Whether its size is likely is not asked where that would keep it from being stored for long."""
    try:
        return work.compute(case.version.id, judging.checked_entry, case, wanted.test, wanted.entry, wanted.sure)
    except StillWorkingError:
        pass
    try:
        return work.compute(case.version.id, judging.checked_entry, case, wanted.test, wanted.entry, True)
    except StillWorkingError as error:  # "still working" would say that it is stored
        raise BusyError(
            "Busy", "So much is being worked out at once that this could not be checked. Nothing is stored yet."
        ) from error


def void(work: Workspace, diagnosis_id: UUID, reading_id: UUID, client_key: UUID, reason: str, view: View[T]) -> T:
    """Void a reading, with the reason; it stays in the record and no longer counts."""
    with work.transaction() as db:
        case = load_case(db, diagnosis_id)
        if evidence.void_reading(db, case.diagnosis, reading_id, client_key, reason) == "unknown":
            raise NotFoundError("No such reading", f"this diagnosis has no reading {reading_id}")
        case = with_evidence(db, case)
    return finish(work, case, view)


@dataclass(frozen=True)
class Force:
    """What getting something seized apart takes: minutes, and what is destroyed in the workshop's money."""

    minutes: float
    price: float


def exclude(
    work: Workspace, diagnosis_id: UUID, client_key: UUID, kind: str, name: str, excluded: bool, force: Force | None, view: View[T]
) -> T:
    """Exclude a point, a place or an instrument (cannot be reached, not at hand), or include it again; or say what is seized.

    Raises:
        UnknownReferenceError: the circuit has nothing of that name.
    """
    case = _loaded(work, diagnosis_id)
    work.compute(case.version.id, judging.checked_exclusion, case, kind, name)
    with work.transaction() as db:
        minutes, price = (force.minutes, force.price) if force is not None else (None, None)
        evidence.append_exclusion(db, case.diagnosis, client_key, kind, name, excluded, minutes, price)
        case = with_evidence(db, case)
    return _assessed(work, case, view)[0]


def conclude(work: Workspace, diagnosis_id: UUID, client_key: UUID, seen_seq: int, view: View[T]) -> T:
    """Conclude from the evidence up to ``seen_seq``, and keep the diagnosis with its certainty.

    Raises:
        ConflictError: something came after what was seen: what would be kept is not what the screen showed.
    """
    with work.transaction() as db:
        case = load_case(db, diagnosis_id)
        kept = evidence.has_conclusion(db, diagnosis_id, client_key)
    if not kept:  # the same key again changes nothing, whatever has come since
        _nothing_newer(case.evidence_seq, seen_seq)
        _, said = _assessed(work, case, nothing)
        with work.transaction() as db:
            job_store.lock(db, case.job.id)
            _nothing_newer(evidence.newest_evidence(db, diagnosis_id), seen_seq)
            evidence.append_conclusion(db, case.diagnosis, client_key, asdict(said))
            case = with_evidence(db, case)
    return _assessed(work, case, view)[0]


def _nothing_newer(newest: int, seen: int) -> None:
    if newest > seen:
        raise ConflictError(
            "Something came meanwhile",
            "A reading or a repair was added after what this screen shows. Look at it, then conclude again.",
        )


def nothing(_found: Measuring) -> None:
    """A view for those who only record."""


def checked(work: Workspace, diagnosis_id: UUID, wanted: WantedTest) -> Test:
    """A test that the circuit has.

    Raises:
        InvalidError: instrument, point or set-up are not there.
    """
    case = _loaded(work, diagnosis_id)
    return work.compute(case.version.id, judging.checked_test, case, wanted)


def preview(work: Workspace, diagnosis_id: UUID, wanted: WantedTest) -> ProposalView:
    """Cost and expected saving of a test of the technician's own choice.

    Raises:
        InvalidError: it is not among the tests Sondar stands behind; says why.
    """
    case = _loaded(work, diagnosis_id)
    return work.compute(case.version.id, judging.previewed, case, wanted)


def foreseen(work: Workspace, diagnosis_id: UUID) -> bytes:
    """What would follow the likeliest results of the next two readings, as JSON of ``Foreseen``."""
    case = _loaded(work, diagnosis_id)
    return work.compute(case.version.id, foreseeing.foreseen, case)


def waveform(work: Workspace, diagnosis_id: UUID, wanted: WantedTest) -> WaveformView:
    """What an oscilloscope would draw at a test's points."""
    case = _loaded(work, diagnosis_id)
    return work.compute(case.version.id, judging.drawn_waveform, case, wanted)


def overlay(work: Workspace, diagnosis_id: UUID, unit: str, controls: dict[str, str], unplugged: Sequence[str]) -> ExpectedOverlay:
    """Predicted voltages under the most likely fault of a unit, or of a healthy circuit."""
    case = _loaded(work, diagnosis_id)
    return work.compute(case.version.id, judging.overlaid, case, unit, controls, unplugged)


def read_connected_meter(work: Workspace, diagnosis_id: UUID, wanted: WantedTest) -> str:
    """What the connected meter shows with its probes where the test puts them; nothing is recorded."""
    case = _loaded(work, diagnosis_id)
    if not work.devices.meter:
        raise UnavailableError("Meter not read", "no meter is connected: type the reading")
    test = work.compute(case.version.id, judging.checked_test, case, wanted)
    placement = Placement(case.job.simulated_vehicle, test.setup, test.red, test.black)
    return read_meter(work.devices.meter, test.instrument, placement)
